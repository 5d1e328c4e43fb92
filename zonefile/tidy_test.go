package zonefile_test

import (
	"bytes"
	"slices"
	"strings"
	"testing"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zonefile"
)

func parseText(t testing.TB, text []byte) (*zonefile.File, *diag.List) {
	t.Helper()
	var src source.Set
	var diags diag.List
	f, err := src.Add("x.zone", text)
	if err != nil {
		t.Fatal(err)
	}
	return zonefile.Parse(f, zonefile.Options{Origin: dnsname.MustParse("example.")}, &diags), &diags
}

// content is what a file says, in order: records with TTL, and comments.
func content(f *zonefile.File) (records, comments []string) {
	for _, e := range f.Entries {
		text := f.Source.Content[f.Source.Offset(e.Span.Start):f.Source.Offset(e.Span.End)]
		if e.Kind == zonefile.Record {
			r := rr.Record{Type: e.Type, Class: rr.ClassIN, TTL: e.TTL, Data: e.Data}
			r.Name, _ = dnsname.FromWire(e.Owner)
			records = append(records, r.String())
		}
		if e.Comment >= 0 {
			comments = append(comments, remarks(string(text))...)
		}
	}
	return records, comments
}

// remarks are what stands behind semicolons that are neither quoted nor escaped.
func remarks(text string) (out []string) {
	quoted := false
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '\\':
			i++
		case text[i] == '"':
			quoted = !quoted
		case text[i] == ';' && !quoted:
			line, _, _ := strings.Cut(text[i+1:], "\n")
			out = append(out, strings.TrimSpace(line))
			i += len(line)
		}
	}
	return out
}

const untidy = "\xef\xbb\xbf; the zone\r\n" +
	"$ttl 1h\r\n\r\n\r\n\r\n" +
	"@ in soa ns1 hostmaster (\r\n 1 ; serial\r\n\t\t2h\t; refresh\r\n900\r\n  1209600 ; expire\r\n 300 )\r\n" +
	"@ ns ns1\r\n  NS ns2   ; the other\r\n" +
	"ns1\t300 IN\tA 192.0.2.1;first\r\n" +
	"ns1 AAAA 2001:db8::1\r\n" +
	"; a remark\r\n  TXT \"two  blanks\" x\r\n" +
	"a-name-that-is-much-longer-than-the-column A 192.0.2.2\r\n" +
	"( early A 192.0.2.3 )\r\n" +
	"$ORIGIN sub\r\nwww HTTPS 1 . alpn=\"h2,h3\"\r\n\r\n"

const tidied = `; the zone
$TTL 3600

@               SOA    ns1 hostmaster (
                       1       ; serial
                       7200    ; refresh
                       900
                       1209600 ; expire
                       300 )
                NS     ns1
                NS     ns2              ; the other
ns1         300 A      192.0.2.1        ;first
                AAAA   2001:db8::1
; a remark
ns1             TXT    "two  blanks" x
a-name-that-is-much-longer-than-the-column A 192.0.2.2
( early A 192.0.2.3 )
$ORIGIN sub
www             HTTPS  1 . alpn="h2,h3"
`

func TestTidy(t *testing.T) {
	f, diags := parseText(t, []byte(untidy))
	if diags.Count(diag.Error) > 0 {
		t.Fatalf("%+v", diags.All[0])
	}
	got := string(zonefile.Tidy(f))
	if got != tidied {
		t.Errorf("got\n%s\nwant\n%s", got, tidied)
	}
	checkTidy(t, []byte(untidy))
}

// checkTidy makes sure that a tidied text says the same, and is tidy.
func checkTidy(t *testing.T, text []byte) {
	t.Helper()
	before, diags := parseText(t, text)
	if diags.Count(diag.Error) > 0 {
		return
	}
	once := zonefile.Tidy(before)
	after, more := parseText(t, once)
	if more.Count(diag.Error) > 0 {
		t.Fatalf("%q\nbecame\n%q\nwhich has %s: %s", text, once, more.All[0].Rule.Code, more.All[0].Message)
	}
	r1, c1 := content(before)
	r2, c2 := content(after)
	if !slices.Equal(r1, r2) {
		t.Fatalf("%q\nbecame\n%q\nrecords %q\nand   %q", text, once, r1, r2)
	}
	if !slices.Equal(c1, c2) {
		t.Fatalf("%q\nbecame\n%q\ncomments %q\nand   %q", text, once, c1, c2)
	}
	if twice := zonefile.Tidy(after); !bytes.Equal(once, twice) {
		t.Fatalf("%q\nbecame\n%q\nand then\n%q", text, once, twice)
	}
}

func FuzzTidy(f *testing.F) {
	f.Add([]byte(untidy))
	f.Add([]byte(tidied))
	f.Add([]byte("$TTL 60\n@ SOA a b 1 2 3 4 5\n\n\tNS a ; x\n ; y\na TXT ( \"x\" ; c\n\n) ; d\n"))
	f.Add([]byte("$TTL 1\nA A 192.0.2.1\na A 192.0.2.2\n A 192.0.2.3\n$ORIGIN x.\n A 192.0.2.4"))
	f.Add([]byte("$TTL(;\n;\n0)"))
	f.Add([]byte("$TTL 1\na TXT \"(\" ( \")\" ;(\n)\n"))
	f.Add([]byte("0\"0\"TXT 0 ;"))
	f.Fuzz(func(t *testing.T, text []byte) { checkTidy(t, text) })
}

// A text that a semicolon cuts off stays as it was written: blanks in front of what looks
// like a comment would become part of it once it is put in quotes.
func TestTidyCutText(t *testing.T) {
	const text = "$ORIGIN example.\n$TTL 60\n@ SOA a b 1 2 3 4 5\n_dmarc TXT v=DMARC1; p=none\n"
	src := &source.Set{}
	f, err := src.Add("example.zone", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	if got := string(zonefile.Tidy(zonefile.Parse(f, zonefile.Options{}, &diag.List{}))); !strings.Contains(got, "v=DMARC1; p=none\n") {
		t.Errorf("tidied:\n%s", got)
	}
}

// What cannot be read is laid out as it was, and nothing of it is lost.
func TestTidyKeepsWhatIsNotRead(t *testing.T) {
	const text = "$ORIGIN example.\n$TTL 60\n@ SOA a b 1 2 3 4 5\nx  AA   1  ; odd\ny A 192.0.2.300\n$TLT 7\n# note\n"
	src := &source.Set{}
	f, err := src.Add("example.zone", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	got := string(zonefile.Tidy(zonefile.Parse(f, zonefile.Options{}, &diag.List{})))
	for _, line := range []string{"x  AA   1  ; odd\n", "y A 192.0.2.300\n", "$TLT 7\n", "# note\n"} {
		if !strings.Contains(got, line) {
			t.Errorf("%q is lost:\n%s", line, got)
		}
	}
}
