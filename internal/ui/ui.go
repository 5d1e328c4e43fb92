// Package ui shows results: to people with excerpts, tables and colour, to
// programs as JSON. It knows the data it shows and nothing of how they came.
package ui

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"
)

// UI is where and how things are shown. Data go to Out, all else to Err.
type UI struct {
	Out, Err io.Writer
	JSON     bool
	Quiet    bool
	color    bool // of Out
	errColor bool

	spoke bool // an object was written to Out
}

// New makes a UI. color is auto, always or never.
func New(out, err io.Writer, color string, json, quiet bool) (*UI, error) {
	u := &UI{Out: out, Err: err, JSON: json, Quiet: quiet}
	switch color {
	case "always":
		u.color, u.errColor = true, true
	case "never":
	case "auto", "":
		if os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb" {
			u.color, u.errColor = IsTerminal(out), IsTerminal(err)
		}
	default:
		return u, fmt.Errorf("--color %s: write auto, always or never", color)
	}
	return u, nil
}

// IsTerminal reports whether w is a terminal.
func IsTerminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// Fit breaks a text between words into lines that fit the terminal behind an
// indent of so many columns; elsewhere lines stay whole, for programs that search.
func (u *UI) Fit(line any, indent int) Text {
	return Text(fitTo(u.Out, string(textOf(line)), indent))
}

func fitTo(w io.Writer, line string, indent int) string {
	width := widthOf(w)
	if width <= 2*indent {
		return line
	}
	return fit(line, indent, width)
}

// widthOf is how many columns a terminal has; 0 for what is none.
func widthOf(w io.Writer) int {
	f, ok := w.(*os.File)
	if !ok {
		return 0
	}
	width, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return width
}

// gap is what stands between the columns of a table.
const gap = 2

// shrink says how wide the columns of a table may be that would not fit into width: the one that can
// give way most does so first, and no word is broken. 0: as wide as it is.
func shrink(head []string, rows [][]Text, width int) []int {
	now, least := make([]int, len(head)), make([]int, len(head))
	see := func(i int, cell string) {
		now[i] = max(now[i], text.StringWidthWithoutEscSequences(cell))
		for _, word := range strings.Fields(cell) {
			least[i] = max(least[i], text.StringWidthWithoutEscSequences(word))
		}
	}
	for i, h := range head {
		see(i, strings.TrimPrefix(h, ">"))
		for _, r := range rows {
			if i < len(r) {
				see(i, string(r[i]))
			}
		}
	}
	out := make([]int, len(head))
	for width > 0 {
		total, gives := -gap, 0
		for i := range now {
			if total += now[i] + gap; now[i]-least[i] > now[gives]-least[gives] {
				gives = i
			}
		}
		if total <= width || now[gives] == least[gives] {
			break
		}
		now[gives]--
		out[gives] = now[gives]
	}
	return out
}

func fit(line string, indent, width int) string {
	lines := strings.Split(text.WrapSoft(line, width-indent), "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return strings.Join(lines, "\n"+strings.Repeat(" ", indent))
}

// Style is how a piece of text is set off.
type Style string

// The styles, as SGR parameters (ECMA-48 §8.3.117).
const (
	Bold    Style = "1"
	Dim     Style = "2"
	Bad     Style = "1;31"
	Suspect Style = "1;33"
	Good    Style = "32"
	Aside   Style = "36"
)

// Paint sets text off on the output.
func (u *UI) Paint(s Style, format string, args ...any) Text {
	return paint(u.color, s, Textf(format, args...))
}

func paint(on bool, s Style, t Text) Text {
	if !on || t == "" {
		return t
	}
	return "\x1b[" + Text(s) + "m" + t + "\x1b[0m"
}

// Printf writes to the output.
func (u *UI) Printf(format string, args ...any) {
	_, _ = io.WriteString(u.Out, string(Textf(format, args...)))
}

// Sayf tells a person something that is no data; not with --quiet.
func (u *UI) Sayf(format string, args ...any) {
	if !u.Quiet {
		_, _ = io.WriteString(u.Err, string(Textf(format, args...)))
	}
}

// Object writes one JSON object on a line.
func (u *UI) Object(v any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return err
	}
	u.spoke = true
	_, err := u.Out.Write(cleanJSON(b.Bytes()))
	return err
}

// Failure writes what went wrong as an object: on standard output where nothing was
// written yet, so that a program finds it where it looks, else on standard error, so that
// what was written stays what it is.
func (u *UI) Failure(v any) error {
	if !u.spoke {
		return u.Object(v)
	}
	other := *u
	other.Out = u.Err
	return other.Object(v)
}

// Error tells what went wrong.
func (u *UI) Error(err error) {
	const head = "error:"
	var lines []Text
	for _, l := range strings.Split(strings.TrimSpace(Explain(err)), "\n") {
		lines = append(lines, Text(fitTo(u.Err, escaped(l), len(head)+1)))
	}
	_, _ = io.WriteString(u.Err, string(Textf("%s %s\n", paint(u.errColor, Bad, head), Join(lines, "\n       "))))
}

// Table writes rows under a head, in columns as wide as needed. A head that
// begins with > makes its column align to the right, as numbers do.
func (u *UI) Table(head []string, rows [][]Text) {
	t := table.NewWriter()
	style := table.StyleDefault
	style.Box = table.BoxStyle{PaddingRight: "  "}
	style.Options = table.Options{}
	style.Format = table.FormatOptions{Header: text.FormatDefault}
	t.SetStyle(style)
	row := func(cells []Text, s Style) table.Row {
		r := make(table.Row, len(cells))
		for i, c := range cells {
			if s != "" {
				c = u.Paint(s, "%s", c)
			}
			r[i] = string(c)
		}
		return r
	}
	var columns []table.ColumnConfig
	plain := make([]Text, len(head))
	narrow := shrink(head, rows, widthOf(u.Out))
	for i, h := range head {
		c := table.ColumnConfig{Number: i + 1, WidthMax: narrow[i], WidthMaxEnforcer: text.WrapSoft}
		var right bool
		h, right = strings.CutPrefix(h, ">")
		if plain[i] = Safe(h); right {
			c.Align, c.AlignHeader = text.AlignRight, text.AlignRight
		}
		columns = append(columns, c)
	}
	t.SetColumnConfigs(columns)
	t.AppendHeader(row(plain, Dim))
	for _, r := range rows {
		t.AppendRow(row(r, ""))
	}
	for _, line := range strings.Split(t.Render(), "\n") {
		u.Printf("%s\n", Text(strings.TrimRight(line, " ")))
	}
}

// Plural is "1 error", "2 errors".
func Plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	if stem, y := strings.CutSuffix(word, "y"); y && !strings.ContainsAny(stem[len(stem)-1:], "aeiou") {
		word = stem + "ie"
	} else if strings.HasSuffix(word, "s") {
		word += "e"
	}
	return Count(n) + " " + word + "s"
}

// Count is a number with its thousands set apart.
func Count(n int) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}
