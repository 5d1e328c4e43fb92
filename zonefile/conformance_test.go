package zonefile_test

import (
	"slices"
	"strings"
	"testing"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zonefile"
)

// read is the records of a text without the SOA that stands in front, and the
// codes of what is found.
func read(t *testing.T, text string, files map[string]string) (out, codes []string) {
	t.Helper()
	var src source.Set
	diags := &diag.List{}
	f, err := src.Add("main", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	open := func(path string, _ *source.File) (*source.File, error) { return src.Add(path, []byte(files[path])) }
	parsed := zonefile.Parse(f, zonefile.Options{Origin: dnsname.MustParse("example."), Open: open}, diags)
	for _, e := range parsed.All {
		if e.Kind == zonefile.Record && e.Type != rr.TypeSOA {
			r := rr.Record{Type: e.Type, Class: rr.ClassIN, TTL: e.TTL, Data: e.Data}
			r.Name, _ = dnsname.FromWire(e.Owner)
			out = append(out, strings.ReplaceAll(r.String(), "\t", " "))
		}
	}
	for _, d := range diags.All {
		codes = append(codes, d.Rule.Code)
	}
	return out, codes
}

// TestLanguageRules goes through RFC 1035 §5.1 and what amends it, rule by rule.
func TestLanguageRules(t *testing.T) {
	const ttl = "$TTL 60\n"
	long := strings.Repeat("a", 63)
	for _, c := range []struct {
		what, text string
		files      map[string]string
		want       string // records, joined by |
		codes      string
	}{
		{"comments after every field", ttl + "a ; x\n", nil, "", "missing-type"},
		{"a comment after the data", ttl + "a A 192.0.2.1;x\n; y\n\n", nil, "a.example. 60 IN A 192.0.2.1", ""},
		{"parentheses join lines", ttl + "a TXT ( x ; one\n  y\n)\n", nil, `a.example. 60 IN TXT "x" "y"`, ""},
		{"one that is not closed", ttl + "a TXT ( x\nb A 192.0.2.1\n", nil, "b.example. 60 IN A 192.0.2.1", "unclosed-parenthesis"},
		{"one that is not opened", ttl + "a TXT x )\nb A 192.0.2.1\n", nil, "b.example. 60 IN A 192.0.2.1", "unopened-parenthesis"},
		{"a blank in front takes the owner before", ttl + "a A 192.0.2.1\n\tTXT x\n", nil, `a.example. 60 IN A 192.0.2.1|a.example. 60 IN TXT "x"`, ""},
		{"there is none before the first", ttl + " A 192.0.2.1\n", nil, "example. 60 IN A 192.0.2.1", "no-owner"},
		{"TTL and class in either order", ttl + "a 5 IN A 192.0.2.1\nb IN 5 A 192.0.2.1\nc A 192.0.2.1\nd IN A 192.0.2.1\n", nil,
			"a.example. 5 IN A 192.0.2.1|b.example. 5 IN A 192.0.2.1|c.example. 60 IN A 192.0.2.1|d.example. 60 IN A 192.0.2.1", ""},
		{"another class", ttl + "a CH A 192.0.2.1\n", nil, "", "wrong-class"},
		{"the TTL stated last", "a 5 A 192.0.2.1\nb A 192.0.2.2\n", nil, "a.example. 5 IN A 192.0.2.1|b.example. 5 IN A 192.0.2.2", ""},
		{"$TTL goes before it", "a 5 A 192.0.2.1\n$TTL 9\nb A 192.0.2.2\n", nil, "a.example. 5 IN A 192.0.2.1|b.example. 9 IN A 192.0.2.2", ""},
		{"none at all", "a A 192.0.2.1\n", nil, "a.example. 3600 IN A 192.0.2.1", "no-ttl"},
		{"a TTL of 32 bits", ttl + "a 2147483648 A 192.0.2.1\n", nil, "", "bad-ttl"},
		{"the largest TTL", ttl + "a 2147483647 A 192.0.2.1\n", nil, "a.example. 2147483647 IN A 192.0.2.1", ""},
		{"letters for units", ttl + "a 1h30m A 192.0.2.1\nb 1h A 192.0.2.2\n", nil, "a.example. 5400 IN A 192.0.2.1|b.example. 3600 IN A 192.0.2.2", "ttl-units"},
		{"$ORIGIN may be relative", ttl + "$ORIGIN b\na A 192.0.2.1\n", nil, "a.b.example. 60 IN A 192.0.2.1", ""},
		{"$INCLUDE and its origin, which does not leak", ttl + "$INCLUDE p sub\nz A 192.0.2.9\n", map[string]string{"p": "a A 192.0.2.1\n$ORIGIN x.\nb A 192.0.2.2\n"},
			"a.sub.example. 60 IN A 192.0.2.1|b.x. 60 IN A 192.0.2.2|z.example. 60 IN A 192.0.2.9", ""},
		{"a file that includes itself", ttl + "$INCLUDE p\n", map[string]string{"p": "$INCLUDE p\n"}, "", "bad-include"},
		{"another directive", ttl + "$FOO 1\n", nil, "", "unknown-directive"},
		{"@ is the origin, \\@ a label", ttl + "@ NS @\n\\@ NS x.\n", nil, `example. 60 IN NS example.|\@.example. 60 IN NS x.`, ""},
		{"a final dot", ttl + "a.b A 192.0.2.1\na.b. A 192.0.2.2\n", nil, "a.b.example. 60 IN A 192.0.2.1|a.b. 60 IN A 192.0.2.2", ""},
		{"escapes", ttl + "a\\.b A 192.0.2.1\n\\097 A 192.0.2.2\n", nil, `a\.b.example. 60 IN A 192.0.2.1|a.example. 60 IN A 192.0.2.2`, ""},
		{"bad escapes", ttl + "\\256 A 192.0.2.1\n\\12 A 192.0.2.1\n", nil, "", "bad-escape bad-escape"},
		{"labels and names that are too long", ttl + long + "a A 192.0.2.1\n" + strings.Repeat(long+".", 4) + " A 192.0.2.1\na..b A 192.0.2.1\n", nil, "", "label-too-long name-too-long empty-label"},
		{"any octet in a label", ttl + "a_b\\000c TXT x\n", nil, `a_b\000c.example. 60 IN TXT "x"`, ""},
		{"names keep their case", ttl + "WwW CNAME WeB\n", nil, "WwW.example. 60 IN CNAME WeB.example.", ""},
		{"strings", ttl + "a TXT \"a;b (c)\" d\\ e \"\\\"\" \"\"\n", nil, `a.example. 60 IN TXT "a;b (c)" "d e" "\"" ""`, ""},
		{"a string of 256", ttl + "a TXT " + strings.Repeat("x", 256) + "\n", nil, "", "text-too-long"},
		{"octets over 127", ttl + "b\u00fc TXT \"\u00fc\"\n", nil, `b\195\188.example. 60 IN TXT "\195\188"`, "not-ascii"},
		{"CRLF and a byte-order mark", "\ufeff$TTL 60\r\na A 192.0.2.1\r\n", nil, "a.example. 60 IN A 192.0.2.1", "byte-order-mark carriage-returns"},
		{"mnemonics in any case, and numbers", ttl + "a class1 type1 192.0.2.1\nb in a 192.0.2.1\n", nil, "a.example. 60 IN A 192.0.2.1|b.example. 60 IN A 192.0.2.1", ""},
		{"the generic form of a known type", ttl + "a A \\# 4 0A000001\nb A \\# 3 010203\nc MX \\# 3 000a04\n", nil, "a.example. 60 IN A 10.0.0.1", "bad-generic-data bad-generic-data"},
		{"and of an unknown one", ttl + "a TYPE731 \\# 6 abcd ( ef 01 23 45 )\n", nil, `a.example. 60 IN TYPE731 \# 6 abcdef012345`, ""},
		{"an unknown type", ttl + "a FOO 1 2\n", nil, "", "unknown-type"},
		{"types of messages", ttl + "a OPT \\# 0\nb AXFR \\# 0\nc NXNAME \\# 0\nd ANY \\# 0\ne MAILB \\# 0\nf TKEY \\# 0\n", nil, "", "type-not-for-zones type-not-for-zones type-not-for-zones type-not-for-zones type-not-for-zones type-not-for-zones"},
		{"NULL as it is", ttl + "a NULL \\# 2 abcd\nb NULL x\n", nil, `a.example. 60 IN NULL \# 2 abcd`, "bad-generic-data"},
		{"obsolete types load", ttl + "a SPF \"v=spf1 -all\"\nb MD c\n", nil, `a.example. 60 IN SPF "v=spf1 -all"|b.example. 60 IN MD c.example.`, ""},
		{"more fields and fewer", ttl + "a A 192.0.2.1 192.0.2.2\nb MX 10\nc HINFO x\nd RP a.\n", nil, "", "extra-field missing-field missing-field missing-field"},
		{"a quote within a text", ttl + "a TXT \"x\"y\"z\"\n", nil, `a.example. 60 IN TXT "x" "y" "z"`, "quote-within-text"},
		{"a quote that belongs to a parameter", ttl + "a HTTPS 1 . alpn=\"h2\"\n", nil, "a.example. 60 IN HTTPS 1 . alpn=h2", ""},
	} {
		got, codes := read(t, c.text, c.files)
		if s := strings.Join(got, "|"); s != c.want {
			t.Errorf("%s:\n%s\nwant\n%s", c.what, s, c.want)
		}
		if s := strings.Join(codes, " "); s != c.codes {
			t.Errorf("%s: %q, want %q", c.what, s, c.codes)
		}
	}
}

// A file is read the same in one piece and in entries, whatever its line ends.
func TestLineEnds(t *testing.T) {
	const text = "$TTL 60\n@ SOA a b 1 2 3 4 5\n@ NS a ; x\na TXT ( \"x\"\n  y )\n  A 192.0.2.1\n"
	want, _ := read(t, text, nil)
	for _, other := range []string{strings.ReplaceAll(text, "\n", "\r\n"), strings.TrimSuffix(text, "\n"), strings.ReplaceAll(text, " ", "\t"), text + "\n\n; end", strings.ReplaceAll(text, "\n", " \n")} {
		if got, _ := read(t, other, nil); !slices.Equal(got, want) {
			t.Errorf("%q is read as %q", other, got)
		}
	}
}
