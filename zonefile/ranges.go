package zonefile

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"

	"fencepost/source"
)

// rangeDirective is a directive that exports of several programs contain and no
// standard knows: one line that stands for a record for each number of a range. It is
// read nowhere; ExpandRanges writes the records out.
const rangeDirective = "$GENERATE"

// maxRange is how many records one such line may stand for, maxRanges all of a file.
const (
	maxRange  = 65536
	maxRanges = 1 << 20
)

// Expanded is a line that was written out as records.
type Expanded struct {
	Line    int // from 1
	Records int
}

// ExpandRanges replaces lines that stand for ranges of records by the records:
//
//	$GENERATE START-STOP[/STEP] OWNER [TTL] [CLASS] TYPE DATA
//
// where $ in owner and data is the number, ${OFFSET,WIDTH,BASE} the number plus
// OFFSET with leading zeros in base d, o, x or X, or n and N for hexadecimal digits
// apart with dots, and \$ or $$ a dollar sign. Lines that are not of this form stay.
func ExpandRanges(f *source.File) (text []byte, done []Expanded) {
	s := scanner{src: f.Content}
	at, total := 0, 0
	for s.next() {
		if s.indented || len(s.tokens) < 4 || !strings.EqualFold(string(s.tokens[0].Text), rangeDirective) {
			continue
		}
		lines, ok := expandRange(&s)
		if total += len(lines); !ok || total > maxRanges {
			continue
		}
		text = append(text, f.Content[at:s.start]...)
		if s.comment >= 0 {
			text = append(append(text, bytes.TrimRight(lineFrom(f.Content[:s.end], s.comment), " \t\r")...), '\n')
		}
		text = append(text, strings.Join(lines, "")...)
		at = s.end
		done = append(done, Expanded{bytes.Count(f.Content[:s.start], []byte{'\n'}) + 1, len(lines)})
	}
	return append(text, f.Content[at:]...), done
}

func expandRange(s *scanner) (lines []string, ok bool) {
	first, last, step, ok := rangeBounds(string(s.tokens[1].Text))
	if !ok || len(s.faults) > 0 {
		return nil, false
	}
	var words []string
	for i := 2; i < len(s.tokens); i++ {
		end := s.offs[i] + len(s.tokens[i].Text)
		if s.tokens[i].Quoted {
			end += 2
		}
		words = append(words, string(s.src[s.offs[i]:end]))
	}
	for n := first; n <= last; n += step {
		out := make([]string, len(words))
		for i, w := range words {
			if out[i], ok = substitute(w, n); !ok {
				return nil, false
			}
		}
		lines = append(lines, strings.Join(out, " ")+"\n")
	}
	return lines, true
}

// rangeBounds reads START-STOP or START-STOP/STEP.
func rangeBounds(text string) (first, last, step int, ok bool) {
	text, steps, hasStep := strings.Cut(text, "/")
	from, to, isRange := strings.Cut(text, "-")
	step = 1
	var errs [3]error
	first, errs[0] = strconv.Atoi(from)
	last, errs[1] = strconv.Atoi(to)
	if hasStep {
		step, errs[2] = strconv.Atoi(steps)
	}
	ok = isRange && errs == [3]error{} && first >= 0 && last >= first && step > 0 && (last-first)/step < maxRange
	return first, last, step, ok
}

// substitute writes n in the place of $ in a word.
func substitute(word string, n int) (string, bool) {
	var b strings.Builder
	for i := 0; i < len(word); i++ {
		switch c := word[i]; {
		case c == '\\' && i+1 < len(word):
			if word[i+1] != '$' {
				b.WriteByte(c)
			}
			i++
			b.WriteByte(word[i])
		case c != '$':
			b.WriteByte(c)
		case i+1 < len(word) && word[i+1] == '$':
			i++
			b.WriteByte('$')
		case i+1 < len(word) && word[i+1] == '{':
			end := strings.IndexByte(word[i:], '}')
			if end < 0 {
				return "", false
			}
			text, ok := formatted(word[i+2:i+end], n)
			if !ok {
				return "", false
			}
			b.WriteString(text)
			i += end
		default:
			b.WriteString(strconv.Itoa(n))
		}
	}
	return b.String(), true
}

// formatted writes a number as OFFSET,WIDTH,BASE say.
func formatted(how string, n int) (string, bool) {
	parts := strings.Split(how, ",")
	offset, err := strconv.Atoi(parts[0])
	width, base := 0, "d"
	if err == nil && len(parts) > 1 {
		width, err = strconv.Atoi(parts[1])
	}
	if len(parts) > 2 {
		base = parts[2]
	}
	n += offset
	if err != nil || len(parts) > 3 || n < 0 || width < 0 || width > 255 {
		return "", false
	}
	switch base {
	case "d", "o", "x", "X":
		return fmt.Sprintf("%0*"+base, width, n), true
	case "n", "N": // digits from the last on, with dots; the width counts the dots too
		digits := fmt.Sprintf("%0*"+map[string]string{"n": "x", "N": "X"}[base], (width+1)/2, n)
		var out []string
		for i := len(digits) - 1; i >= 0; i-- {
			out = append(out, digits[i:i+1])
		}
		return strings.Join(out, "."), true
	}
	return "", false
}
