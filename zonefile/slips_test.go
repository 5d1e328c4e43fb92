package zonefile_test

import (
	"fmt"
	"strings"
	"testing"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/internal/testrun"
	"fencepost/source"
	"fencepost/zonefile"
)

// offset is where a position is in the text.
func offset(src *source.Set, text string, at source.Pos) int {
	p := src.Position(at)
	before := strings.SplitAfterN(text, "\n", p.Line)
	return len(text) - len(before[len(before)-1]) + p.Column - 1
}

// mended applies the fixes of all findings.
func mended(t *testing.T, text string, src *source.Set, diags *diag.List) string {
	t.Helper()
	out, shift := text, 0
	diags.Sort()
	for _, d := range diags.All {
		if d.Fix == nil {
			continue
		}
		for _, e := range d.Fix.Edits {
			from, to := offset(src, text, e.Span.Start)+shift, offset(src, text, e.Span.End)+shift
			out = out[:from] + e.New + out[to:]
			shift += len(e.New) - (to - from)
		}
	}
	return out
}

// Each slip has one finding of its own, and its mend makes a file that says what was
// meant.
func TestSlips(t *testing.T) {
	const head = "$ORIGIN example.\n$TTL 60\n@ SOA a b 1 2 3 4 5\n"
	var all strings.Builder
	for _, c := range []struct{ line, finding, meant string }{
		{"# the web\nw A 192.0.2.1", "4:1 comment-sign", "; the web\nw A 192.0.2.1"},
		{"#w A 192.0.2.1", "4:1 comment-sign", ";w A 192.0.2.1"},
		{"// w A 192.0.2.1", "4:1 comment-sign", "; w A 192.0.2.1"},
		{"w A 192.0.2.1 # the web", "4:15 comment-sign", "w A 192.0.2.1 ; the web"},
		{"w MX 10 m //mail", "4:11 comment-sign", "w MX 10 m ;mail"},
		{"w TXT \"a\" # the web", "4:11 comment-sign", "w TXT \"a\" ; the web"},
		{"w A\u00a0192.0.2.1", "4:4 no-break-space", "w A 192.0.2.1"},
		{"w\u2003A\u00a0192.0.2.1\u200b", "4:2 no-break-space", "w A 192.0.2.1 "},
		{"w A 3600 192.0.2.1", "4:3 field-order", "w 3600 A 192.0.2.1"},
		{"w A IN 192.0.2.1", "4:3 field-order", "w IN A 192.0.2.1"},
		{"w AAAA IN 300 2001:db8::1", "4:3 field-order", "w IN 300 AAAA 2001:db8::1"},
		{"w MX IN 10 m", "4:3 field-order", "w IN MX 10 m"},
		{"w 192.0.2.1", "4:3 missing-type", "w A 192.0.2.1"},
		{"w 300 IN 2001:db8::1", "4:10 missing-type", "w 300 IN AAAA 2001:db8::1"},
		{"w TXT v=DMARC1; p=none", "4:15 semicolon-cuts-text", "w TXT \"v=DMARC1; p=none\""},
		{"w TXT v=DKIM1 ; k=rsa; p=AAAA", "4:15 semicolon-cuts-text", "w TXT \"v=DKIM1 ; k=rsa; p=AAAA\""},
		{"w CAA 0 issue ca.example.net; account=1", "4:29 semicolon-cuts-text", "w CAA 0 issue \"ca.example.net; account=1\""},
		// And no slips: what merely looks like one.
		{"w TXT # a", "", ""}, {"w TXT a//b", "", ""}, {"w TXT \"# a\"", "", ""}, {`\#w A 192.0.2.1`, "", ""}, {"w TXT a ; note", "", ""}, {"w TXT \"v=x\"; p=none", "", ""},
		{"w TXT ( ; first\n a )", "", ""}, {"w CNAME a#b", "", ""}, {"w TXT \"\u00a0\"", "", ""}, {"in A 192.0.2.1", "", ""}, {"60 A 192.0.2.1", "", ""}, {"w CAA 0 issue \";\" ; nobody", "", ""},
	} {
		text := head + c.line + "\n"
		_, src, diags := load(t, text, zonefile.Options{})
		var found []string
		for _, d := range diags.All {
			p := src.Position(d.Span.Start)
			found = append(found, fmt.Sprintf("%d:%d %s", p.Line, p.Column, d.Rule.Code))
		}
		if got := strings.Join(found, ", "); got != c.finding {
			t.Errorf("%q: %q, want %q", c.line, got, c.finding)
		}
		fmt.Fprintf(&all, "# %q\n", c.line)
		testrun.Findings(&all, src, diags)
		if c.finding == "" {
			continue
		}
		if got := mended(t, text, src, diags); got != head+c.meant+"\n" {
			t.Errorf("%q is mended to %q, not %q", c.line, strings.TrimPrefix(got, head), c.meant)
		}
		if _, _, again := load(t, head+c.meant+"\n", zonefile.Options{}); len(again.All) > 0 {
			t.Errorf("%q, mended, has %s", c.meant, again.All[0].Message)
		}
	}
	testrun.Golden(t, "testdata/slips.txt", all.String())
}

// What is no text has one finding, whatever it is, and nothing is made of it.
func TestNoText(t *testing.T) {
	zone := "$TTL 60\n@ SOA a b 1 2 3 4 5\n@ NS a\n"
	wide := []byte("\xff\xfe")
	narrow := []byte("\xfe\xff")
	for _, c := range zone {
		wide, narrow = append(wide, byte(c), 0), append(narrow, 0, byte(c))
	}
	random := make([]byte, 70000)
	for i, x := 0, uint32(1); i < len(random); i++ {
		x = x*1664525 + 1013904223
		random[i] = byte(x >> 24)
	}
	for what, text := range map[string]string{"UTF-16": string(wide), "UTF-16, the other way": string(narrow), "without a mark": string(wide[2:]), "random octets": string(random), "zeros": strings.Repeat("\x00", 100)} {
		z, _, diags := load(t, text, zonefile.Options{Origin: origin})
		if len(diags.All) != 1 || diags.All[0].Rule != zonefile.RuleNotText || z == nil || !z.NotText || z.Records() != 0 {
			t.Errorf("%s: %d findings, %+v", what, len(diags.All), diags.All)
		}
	}
	for what, text := range map[string]string{"form feeds": zone + "\f\n", "Latin-1": zone + "b\xfcro A 192.0.2.1\n", "a stray octet": zone + "a TXT \"\x01\"\n"} {
		if z, _, _ := load(t, text, zonefile.Options{Origin: origin}); z.NotText {
			t.Errorf("%s are taken for no text", what)
		}
	}
}

// A first record that begins with a blank is read as it was meant, so that it is the
// only finding; and a SOA that cannot be read still says which zone it is.
func TestOneMistakeOneFinding(t *testing.T) {
	const rest = "@ NS a\n  NS b\na A 192.0.2.1\n"
	for text, want := range map[string]string{
		"$TTL 60\n$ORIGIN example.\n  SOA a b 1 2 3 4 5\n" + rest:                            "no-owner",
		"$TTL 60\n  example. SOA a.example. b.example. 1 2 3 4 5\n$ORIGIN example.\n" + rest: "no-owner",
		"$TTL 60\nexample. SOA a b 1 2 3 4\n$ORIGIN example.\n" + rest:                       "missing-field",
		"$TTL 60\nexample. SOA a b 1 x 3 4 5\n$ORIGIN example.\n" + rest:                     "bad-number",
	} {
		z, _, diags := load(t, text, zonefile.Options{Origin: dnsname.MustParse("other.")})
		if len(diags.All) != 1 || diags.All[0].Rule.Code != want || z.Apex().String() != "example." || z.Records() < 3 {
			t.Errorf("%q: %+v, zone %s with %d records", text, diags.All, z.Apex(), z.Records())
		}
	}
}
