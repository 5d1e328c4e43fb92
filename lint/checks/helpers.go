package checks

import (
	"bytes"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint"
	"fencepost/rr"
	"fencepost/source"
)

// eachData calls f for each record of a set.
func eachData(set lint.Set, f func(i int, data []byte)) {
	var data []byte
	for i, rest := 0, set.RRset; rest.N > 0; i++ {
		data, rest = rest.Next()
		f(i, data)
	}
}

// joined is the text of a TXT record, its strings one after another.
func joined(data []byte) string {
	var b strings.Builder
	for len(data) > 0 && 1+int(data[0]) <= len(data) {
		b.Write(data[1 : 1+int(data[0])])
		data = data[1+int(data[0]):]
	}
	return b.String()
}

// begins reports whether the first string of a TXT record begins with prefix,
// letters without case.
func begins(data []byte, prefix string) bool {
	return len(data) > len(prefix) && int(data[0]) >= len(prefix) && strings.EqualFold(string(data[1:1+len(prefix)]), prefix)
}

// within is where a piece of a record's text is written, or the whole first word
// of the data if it cannot be found as it is.
func within(p *lint.Pass, set lint.Set, i int, piece string) source.Span {
	l := set.Layout(i)
	for _, w := range l.Data {
		if at := bytes.Index(p.Text(w), []byte(piece)); at >= 0 && piece != "" {
			return source.Span{Start: w.Start + source.Pos(at), End: w.Start + source.Pos(at+len(piece))}
		}
	}
	return l.Field(0)
}

// labels are the labels of a name in wire form without those of the zone, from
// the left, in lower case.
func labels(p *lint.Pass, n *lint.Name) []string {
	var out []string
	wire := n.AppendRelative(nil)
	for len(wire) > 0 {
		out = append(out, strings.ToLower(string(wire[1:1+int(wire[0])])))
		wire = wire[1+int(wire[0]):]
	}
	return out
}

// underscored reports whether a label is one of those that begin with an underscore
// and name a service or protocol (RFC 8552 §2).
func underscored(label string) bool { return len(label) > 1 && label[0] == '_' }

// tag is one name=value of a tag list, as DKIM and DMARC have.
type tag struct{ name, value string }

// tagList takes a list of tags apart (RFC 6376 §3.2). bad is the first piece that
// is none.
func tagList(text string) (tags []tag, bad string) {
	for _, piece := range strings.Split(text, ";") {
		trimmed := strings.TrimSpace(piece)
		if trimmed == "" {
			continue
		}
		name, value, ok := strings.Cut(trimmed, "=")
		if !ok {
			return tags, trimmed
		}
		tags = append(tags, tag{strings.TrimSpace(name), strings.TrimSpace(value)})
	}
	return tags, ""
}

// rel is a name as one would write it in the zone.
func rel(p *lint.Pass, n dnsname.Name) string { return n.Relative(p.Zone.Apex()) }

// bare makes an example that is a whole file, with the given SOA line.
func bare(soa string) string {
	return "-- bare --\n$ORIGIN example.com.\n$TTL 3600\n" + soa + "\n@ NS ns1.example.net.\n@ NS ns2.example.org.\n"
}

// perRecord makes the function of a check that looks at each record by itself:
// bad returns what is wrong, or "", the number of the word to point at, and what
// to do.
func perRecord(bad func(p *lint.Pass, set lint.Set, data []byte) (message string, word int, suggestion string)) func(*lint.Pass, lint.Set) {
	return func(p *lint.Pass, set lint.Set) {
		eachData(set, func(i int, data []byte) {
			if message, word, suggestion := bad(p, set, data); message != "" {
				d := p.Report(set.Layout(i).Field(word), "%s", message)
				if suggestion != "" {
					d = d.Suggest("%s", suggestion)
				}
				p.Add(d)
			}
		})
	}
}

// andMore says that the same is true of n others.
func andMore(n int) string {
	if n == 1 {
		return "; so is 1 more"
	}
	return "; so are " + number(uint32(n)) + " more"
}

func types(t ...rr.Type) []rr.Type { return t }

// fixed adds a mend to a finding: its own span replaced by text.
func fixed(d diag.Diagnostic, text string) diag.Diagnostic {
	d.Fix = &diag.Fix{Edits: []diag.Edit{{Span: d.Span, New: text}}}
	return d
}
