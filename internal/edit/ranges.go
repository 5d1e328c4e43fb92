package edit

import (
	"regexp"
	"strconv"
	"strings"

	"fencepost/rr"
)

// A range is written [01-40] in an owner or in data: the numbers from the first
// to the last, with as many digits as the first if that begins with a zero.
// With a letter in it, as in [1-2f], it counts in hexadecimal.
var rangePattern = regexp.MustCompile(`\[([0-9a-fA-F]+)-([0-9a-fA-F]+)\]`)

// maxRange bounds how many records one range can make.
const maxRange = 1 << 16

// numberRange is one range of a text.
type numberRange struct {
	text        string
	first, last uint64
	base, width int
}

func (r numberRange) len() int { return int(r.last-r.first) + 1 }

func (r numberRange) at(i int) string {
	s := strconv.FormatUint(r.first+uint64(i), r.base)
	return strings.Repeat("0", max(0, r.width-len(s))) + s
}

// rangesIn finds the ranges of a text.
func rangesIn(text string) (out []numberRange, err error) {
	for _, m := range rangePattern.FindAllStringSubmatch(text, -1) {
		r := numberRange{text: m[0], base: 10}
		if strings.ContainsAny(m[1]+m[2], "abcdefABCDEF") {
			r.base = 16
		}
		var e1, e2 error
		r.first, e1 = strconv.ParseUint(m[1], r.base, 63)
		r.last, e2 = strconv.ParseUint(m[2], r.base, 63)
		switch {
		case e1 != nil || e2 != nil || r.last < r.first:
			return nil, Usage("the range %s does not go from a smaller to a larger number", m[0])
		case r.last-r.first >= maxRange:
			return nil, Usage("the range %s has more than %d members", m[0], maxRange)
		}
		if len(m[1]) > 1 && m[1][0] == '0' {
			r.width = len(m[1])
		}
		out = append(out, r)
	}
	return out, nil
}

// expandAll writes out the ranges of all records.
func expandAll(in []RecordArg) (out []RecordArg, err error) {
	for _, r := range in {
		more, err := expand(r)
		if err != nil {
			return nil, err
		}
		if out = append(out, more...); len(out) > maxRange {
			return nil, Usage("these are more than %d records at once", maxRange)
		}
	}
	return out, nil
}

// expand writes out the ranges of a record. All must have the same number of
// members. Brackets in the data mean a range only where the owner has one too, or
// the data are an address: elsewhere they are what they look like.
func expand(r RecordArg) ([]RecordArg, error) {
	owner, err := rangesIn(r.Owner)
	if err != nil {
		return nil, err
	}
	n, what := 0, ""
	if len(owner) > 0 {
		n, what = owner[0].len(), r.Owner
	}
	check := func(text string, list []numberRange) error {
		for _, x := range list {
			if n == 0 {
				n, what = x.len(), text
			}
			if x.len() != n {
				return Usage("the ranges differ: %s has %d members and %s has %d", what, n, text, x.len())
			}
		}
		return nil
	}
	if err := check(r.Owner, owner); err != nil {
		return nil, err
	}
	t, _ := rr.ParseType(r.Type)
	inData := len(owner) > 0 || t == rr.TypeA || t == rr.TypeAAAA
	data := make([][]numberRange, len(r.Data))
	for i, d := range r.Data {
		if !inData {
			break
		}
		if data[i], err = rangesIn(d); err != nil {
			return nil, err
		}
		if err := check(d, data[i]); err != nil {
			return nil, err
		}
	}
	if n == 0 {
		return []RecordArg{r}, nil
	}
	out := make([]RecordArg, n)
	for i := range n {
		out[i] = RecordArg{Owner: fill(r.Owner, owner, i), Type: r.Type, TTL: r.TTL}
		for k, d := range r.Data {
			out[i].Data = append(out[i].Data, fill(d, data[k], i))
		}
	}
	return out, nil
}

// fill puts the i-th number in the place of each range.
func fill(text string, ranges []numberRange, i int) string {
	for _, r := range ranges {
		text = strings.Replace(text, r.text, r.at(i), 1)
	}
	return text
}

// unquoted is the text of a word in quotes, its escapes resolved (RFC 1035 §5.1).
func unquoted(word string) string {
	word = strings.TrimSuffix(strings.TrimPrefix(word, `"`), `"`)
	var b strings.Builder
	for i := 0; i < len(word); i++ {
		if word[i] != '\\' || i+1 == len(word) {
			b.WriteByte(word[i])
			continue
		}
		i++
		if i+3 <= len(word) {
			if n, err := strconv.ParseUint(word[i:i+3], 10, 8); err == nil {
				b.WriteByte(byte(n))
				i += 2
				continue
			}
		}
		b.WriteByte(word[i])
	}
	return b.String()
}

// quoteText puts a text in quotes; with split, in as many strings as it needs.
func quoteText(text string, split bool) string {
	const most = 255
	if !split || len(text) <= most {
		return string(rr.AppendQuoted(nil, []byte(text)))
	}
	var parts []string
	for len(text) > 0 {
		n := min(most, len(text))
		parts = append(parts, string(rr.AppendQuoted(nil, []byte(text[:n]))))
		text = text[n:]
	}
	return strings.Join(parts, " ")
}
