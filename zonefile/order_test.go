package zonefile_test

import (
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zonefile"
)

// In a file that is kept in order a new name goes to its place; in another one beside
// the name most like it.
func TestOrder(t *testing.T) {
	const head = "$TTL 60\n@ SOA a b 1 2 3 4 5\n@ NS a\n"
	for _, c := range []struct{ have, add, want string }{
		{"g1 g2 g9 g10", "g5", "g1 g2 g5 g9 g10"},
		{"g1 g2 g9 g10", "g11", "g1 g2 g9 g10 g11"},
		{"g1 g2 g9 g10", "a", "a g1 g2 g9 g10"},
		{"g1 g10 g2 g9", "g5", "g1 g10 g2 g5 g9"}, // digit by digit
		{"b d a.d f", "c", "b c d a.d f"},
		{"b d a.d f", "b.d", "b d a.d b.d f"},
		{"cam-b cam-a web mail", "cam-c", "cam-b cam-a cam-c web mail"}, // in no order
		{"a b", "c", "a b c"},
		{"9 10 80", "53", "9 10 53 80"},
		{"G1 g2 G3", "g2a", "G1 g2 g2a G3"},
	} {
		text := head
		for _, o := range strings.Fields(c.have) {
			text += o + " A 192.0.2.1\n"
		}
		f, _ := parseText(t, []byte(text))
		ed := zonefile.NewEditor(f)
		owner, _ := dnsname.Parse(c.add, f.Apex)
		if err := ed.Insert(zonefile.NewRecord{Owner: owner, Type: rr.TypeA, Text: "192.0.2.1"}); err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, l := range strings.Split(strings.TrimSpace(strings.TrimPrefix(string(ed.Finish()[f.Source]), head)), "\n") {
			got = append(got, strings.Fields(l)[0])
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s with %s is %s, want %s", c.have, c.add, got, c.want)
		}
	}
}
