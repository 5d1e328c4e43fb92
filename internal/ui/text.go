package ui

import (
	"fmt"
	"strings"
)

// Text may be shown as it is: it was laid out and set off here, and what is in it from outside is
// escaped. All else that is shown is taken to come from outside: names of files, octets of zones, what
// other machines say.
type Text string

// Safe is a text from outside, on one line and without what a terminal obeys.
func Safe(s string) Text { return Text(escaped(s)) }

// Textf is a text with others in it; what is no Text is made Safe.
func Textf(format string, args ...any) Text { return Text(fmt.Sprintf(format, safe(args)...)) }

// Join puts texts together.
func Join(texts []Text, between string) Text {
	var b strings.Builder
	for i, t := range texts {
		if i > 0 {
			b.WriteString(between)
		}
		b.WriteString(string(t))
	}
	return Text(b.String())
}

// Cells are a row of a table; what is no Text is made Safe.
func Cells(cells ...any) (out []Text) {
	for _, c := range cells {
		out = append(out, textOf(c))
	}
	return out
}

// Lines is a text of several lines from outside.
func Lines(s string) Text {
	lines := strings.Split(s, "\n")
	for i := range lines {
		lines[i] = escaped(lines[i])
	}
	return Text(strings.Join(lines, "\n"))
}

// SafeAll are texts from outside, each made Safe.
func SafeAll(texts []string) (out []Text) {
	for _, t := range texts {
		out = append(out, Safe(t))
	}
	return out
}

func textOf(v any) Text {
	if t, ok := v.(Text); ok {
		return t
	}
	return Safe(fmt.Sprint(v))
}

// safe are arguments of a format, which print as before and then are made Safe.
func safe(args []any) []any {
	out := make([]any, len(args))
	for i, a := range args {
		switch a.(type) {
		case Text, int, int8, int16, int32, int64, uint, uint8, uint16, uint32, uint64, float32, float64, bool:
			out[i] = a
		default:
			out[i] = outside{a}
		}
	}
	return out
}

// outside is an argument from outside.
type outside struct{ v any }

// Format implements fmt.Formatter.
func (o outside) Format(f fmt.State, verb rune) {
	if s, ok := o.v.(string); ok {
		fmt.Fprintf(f, fmt.FormatString(f, verb), escaped(s)) // its width is that of what is shown
		return
	}
	_, _ = f.Write([]byte(escaped(fmt.Sprintf(fmt.FormatString(f, verb), o.v))))
}
