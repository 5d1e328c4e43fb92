package zonefile_test

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/internal/testrun"
	"fencepost/internal/vectors"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zone"
	"fencepost/zonefile"
)

var origin = dnsname.MustParse("example.")

func load(t testing.TB, text string, opts zonefile.Options) (*zonefile.Loaded, *source.Set, *diag.List) {
	t.Helper()
	src, diags := &source.Set{}, &diag.List{}
	f, err := src.Add("example.zone", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return zonefile.Load(f, opts, diags), src, diags
}

// lines are the records of a zone as text.
func lines(z *zone.Snapshot) (out []string) {
	for n := range z.Nodes {
		for set := range n.RRsets {
			for data := range set.Data {
				out = append(out, strings.ReplaceAll(rr.Record{Name: z.Owner(n), Type: set.Type, Class: rr.ClassIN, TTL: set.TTL, Data: data}.String(), "\t", " "))
			}
		}
	}
	return out
}

const soa = "@ SOA ns1 h 1 7200 900 1209600 300\n"

func TestLanguage(t *testing.T) {
	for _, c := range []struct{ what, text, want string }{
		{"TTL and class in either order", "$TTL 5\na 60 IN A 192.0.2.1\nb IN 60 A 192.0.2.1\nc A 192.0.2.1\nd CLASS1 TYPE1 192.0.2.1",
			"a.example. 60 IN A 192.0.2.1|b.example. 60 IN A 192.0.2.1|c.example. 5 IN A 192.0.2.1|d.example. 5 IN A 192.0.2.1"},
		{"a missing owner is the one before", "a 60 A 192.0.2.1\n\tA 192.0.2.2\n  TXT x", "a.example. 60 IN A 192.0.2.1|a.example. 60 IN A 192.0.2.2|a.example. 60 IN TXT \"x\""},
		{"a missing TTL is the last stated", "a 60 A 192.0.2.1\nb A 192.0.2.2\nc 5 A 192.0.2.3\nd A 192.0.2.4",
			"a.example. 60 IN A 192.0.2.1|b.example. 60 IN A 192.0.2.2|c.example. 5 IN A 192.0.2.3|d.example. 5 IN A 192.0.2.4"},
		{"$TTL wins over the last stated", "$TTL 7\na 60 A 192.0.2.1\nb A 192.0.2.2", "a.example. 60 IN A 192.0.2.1|b.example. 7 IN A 192.0.2.2"},
		{"$ORIGIN, itself relative", "$TTL 1\n$ORIGIN b\na A 192.0.2.1\n@ A 192.0.2.2\n$ORIGIN example.\nc A 192.0.2.3",
			"b.example. 1 IN A 192.0.2.2|a.b.example. 1 IN A 192.0.2.1|c.example. 1 IN A 192.0.2.3"},
		{"parentheses and comments", "a 1 ( ; the owner\n A ; the type\n 192.0.2.1 ) ; done\n", "a.example. 1 IN A 192.0.2.1"},
		{"strings", `a 1 TXT "a;b (c)" d\ e "q\"q" \065 ""`, `a.example. 1 IN TXT "a;b (c)" "d e" "q\"q" "A" ""`},
		{"escapes in names", `a\.b 1 TXT x` + "\n" + `\@ 1 TXT y` + "\n" + `a\000 1 TXT z`, `\@.example. 1 IN TXT "y"|a\000.example. 1 IN TXT "z"|a\.b.example. 1 IN TXT "x"`},
		{"generic forms", "a 1 TYPE731 \\# 3 ab cdef\nb 1 A \\# 4 C0000201\nc 1 TYPE1 192.0.2.9", `a.example. 1 IN TYPE731 \# 3 abcdef|b.example. 1 IN A 192.0.2.1|c.example. 1 IN A 192.0.2.9`},
		{"unit letters", "$TTL 1h30m\na A 192.0.2.1\nb 2d A 192.0.2.2", "a.example. 5400 IN A 192.0.2.1|b.example. 172800 IN A 192.0.2.2"},
		{"CR LF and a byte-order mark", "\xef\xbb\xbfa 1 A 192.0.2.1\r\nb 1 TXT x\r\n", "a.example. 1 IN A 192.0.2.1|b.example. 1 IN TXT \"x\""},
		{"no line end at the end", "a 1 A 192.0.2.1", "a.example. 1 IN A 192.0.2.1"},
		{"a type as an owner", "a 1 A 192.0.2.1\nTXT 1 TXT x\nIN 1 IN A 192.0.2.2\nttl A 192.0.2.3", "a.example. 1 IN A 192.0.2.1|IN.example. 1 IN A 192.0.2.2|ttl.example. 1 IN A 192.0.2.3|TXT.example. 1 IN TXT \"x\""},
	} {
		z, _, diags := load(t, c.text, zonefile.Options{Origin: origin})
		if diags.Count(diag.Error) > 0 {
			t.Errorf("%s: %s", c.what, diags.All[0].Message)
			continue
		}
		if got := strings.Join(lines(z.Snapshot), "|"); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.what, got, c.want)
		}
	}
}

// All mistakes are found in one run, at their places.
func TestFindings(t *testing.T) {
	var all strings.Builder
	for _, c := range []struct{ what, text, want string }{
		{"directives", "@TTL 60\n$TLL 60\nTTL 60\n$FOO x\n$ORIGIN\n$TTL x\n", "1:1 unknown-directive, 2:1 unknown-directive, 3:1 unknown-directive, 4:1 unknown-directive, 5:8 bad-directive, 6:6 bad-ttl"},
		{"a parenthesis never closed names its line and swallows nothing", "a 1 A 192.0.2.1\nb 1 TXT ( \"x\"\n  \"y\"\nc 1 A 192.0.2.256\n", "2:9 unclosed-parenthesis, 4:15 address-out-of-range"},
		{"a second parenthesis shows that the first was forgotten", "b 1 TXT ( x\nc 1 TXT ( y )\nd 1 A x\n", "1:9 unclosed-parenthesis, 3:7 bad-address"},
		{"a parenthesis never opened", "b 1 TXT x )\n", "1:11 unopened-parenthesis"},
		{"a quote never closed", "b 1 TXT \"x\nc 1 TXT y\n", "1:9 unclosed-quote"},
		{"types", "a 1 AA 192.0.2.1\nb 1 IN\nc 1 ANY \\# 0\nd 1 CH A 192.0.2.1\n", "1:5 unknown-type, 2:7 missing-type, 3:5 type-not-for-zones, 4:5 wrong-class"},
		{"a last line that was cut off", "a 1 A 192.0.2.1\nb 1 A 192.0.2.1", "2:1 unfinished-last-line"},
		{"last lines that say nothing", "a 1 A 192.0.2.1\n  ", ""},
		{"a last comment", "a 1 A 192.0.2.1\n ; the end", ""},
		{"owners", "  1 A 192.0.2.1\na..b 1 A 192.0.2.1\n" + strings.Repeat("x", 64) + " 1 A 192.0.2.1\nb\u00fc 1 A 192.0.2.1\n", "1:3 no-owner, 2:3 empty-label, 3:1 label-too-long, 4:1 not-ascii"},
		{"TTLs", "a 2147483648 A 192.0.2.1\nb 1y A 192.0.2.1\n", "1:3 bad-ttl, 2:3 bad-ttl"},
		{"no TTL at all is said once", "a A 192.0.2.1\nb A 192.0.2.2\n", "1:3 no-ttl"},
		{"the fault is marked inside a field", "a 1 A 192.0.2.256\nb 1 NS x..y\n", "1:15 address-out-of-range, 2:10 empty-label"},
		{"an include without a reader", "$INCLUDE x\n", "1:10 bad-include"},
		{"notes come once", "$TTL 1h\na 2h A 192.0.2.1\r\nb 1 A 192.0.2.1\r\n", "1:6 ttl-units, 2:1 carriage-returns"},
		{"an owner outside", soa + "a.example.org. 1 A 192.0.2.1\n", "1:3 soa-without-ttl, 2:1 outside-zone"},
		{"owners outside", "$TTL 60\n" + soa + "www. A 192.0.2.1\nmail.dune. A 192.0.2.1\na.dune.test. A 192.0.2.1\n1.arpa. PTR x.\n. NS x.\n", "3:1 outside-zone, 4:1 outside-zone, 5:1 outside-zone, 6:1 outside-zone, 7:1 outside-zone"},
	} {
		_, src, diags := load(t, c.text, zonefile.Options{Origin: origin})
		diags.Sort()
		var got []string
		for _, d := range diags.All {
			p := src.Position(d.Span.Start)
			got = append(got, fmt.Sprintf("%d:%d %s", p.Line, p.Column, d.Rule.Code))
		}
		if s := strings.Join(got, ", "); s != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.what, s, c.want)
		}
		fmt.Fprintf(&all, "# %s\n", c.what)
		testrun.Findings(&all, src, diags)
	}
	testrun.Golden(t, "testdata/findings.txt", all.String())
}

func TestApex(t *testing.T) {
	z, _, _ := load(t, "$ORIGIN example.org.\n$TTL 1\nwww A 192.0.2.1\n"+soa+"www TXT x\n", zonefile.Options{})
	if z == nil || z.Apex().String() != "example.org." || z.Records() != 3 {
		t.Fatalf("records in front of the SOA: %+v", z)
	}
	if z, _, _ := load(t, "; nothing\n", zonefile.Options{}); z != nil {
		t.Error("an empty file without an origin is a zone")
	}
	z, _, _ = load(t, "$TTL 1\n"+soa+soa+"sub SOA ns1 h 1 2 3 4 5\n", zonefile.Options{Origin: origin})
	if len(z.ExtraSOA) != 1 || z.Records() != 1 {
		t.Errorf("%d further SOA records, %d records", len(z.ExtraSOA), z.Records())
	}
}

// The zones printed in the RFCs are read without an error.
func TestPublishedZones(t *testing.T) {
	for _, c := range []struct {
		file, origin string
		records      int
	}{{"rfc4592-2.2.1.zone", ".", 11}, {"rfc2317.zone", ".", 17}, {"rfc1035-5.3.zone", "isi.edu.", 11}} {
		open := func(path string, from *source.File) (*source.File, error) { return nil, errors.New("not here") }
		text := string(vectors.Text(t, c.file))
		if i := strings.Index(text, "$INCLUDE"); i >= 0 {
			text = text[:i] // mailboxes of types that are not declared here
		}
		z, _, diags := load(t, text, zonefile.Options{Origin: dnsname.MustParse(c.origin), Open: open})
		if diags.Count(diag.Error) > 0 || z.Records() != c.records {
			t.Errorf("%s: %d records, findings %v", c.file, z.Records(), diags.All)
		}
	}
}

func TestInclude(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("hosts.inc", "$ORIGIN deep.example.\nh A 192.0.2.7\n")
	write("loop.inc", "$INCLUDE loop.inc\n")
	src, diags := &source.Set{}, &diag.List{}
	open := func(path string, _ *source.File) (*source.File, error) {
		b, err := os.ReadFile(filepath.Join(dir, path))
		if err != nil {
			return nil, err
		}
		return src.Add(path, b)
	}
	f, _ := src.Add("main", []byte("$TTL 1\n"+soa+"$INCLUDE hosts.inc\nafter A 192.0.2.8\n$INCLUDE hosts.inc other\n$INCLUDE loop.inc\n"))
	z := zonefile.Load(f, zonefile.Options{Origin: origin, Open: open}, diags)
	got := strings.Join(lines(z.Snapshot), "|")
	if !strings.Contains(got, "after.example. 1 IN A") || !strings.Contains(got, "h.deep.example. 1 IN A") {
		t.Errorf("the origin leaks: %s", got)
	}
	if diags.Count(diag.Error) != 1 || !strings.Contains(diags.All[0].Message, "includes itself") {
		t.Errorf("findings %v", diags.All)
	}
}

// roundTrip writes a zone and reads it back.
func roundTrip(t testing.TB, z *zone.Snapshot) *zone.Snapshot {
	t.Helper()
	var b bytes.Buffer
	w := bufio.NewWriter(&b)
	if err := zonefile.Write(w, z); err != nil {
		t.Fatal(err)
	}
	w.Flush()
	again, _, diags := load(t, b.String(), zonefile.Options{})
	if diags.Count(diag.Error) > 0 || again == nil {
		t.Fatalf("written as\n%s\nwhich has errors: %v", b.String(), diags.All)
	}
	return again.Snapshot
}

const sample = `; a hand-kept file
$ORIGIN example.
$TTL 3600

@               SOA    ns1 h (
                       7          ; serial
                       7200 900 1209600 300 )
                NS     ns1
                NS     ns2.example.net.

ns1             A      192.0.2.53
; cameras
cam-a           A      192.0.2.1   ; the first
                AAAA   2001:db8::1
cam-b	IN	A	192.0.2.2
txt             TXT    "two words" "and more" ; note
`

func edit(t *testing.T, text string, do func(f *zonefile.File, ed *zonefile.Editor)) string {
	t.Helper()
	src, diags := &source.Set{}, &diag.List{}
	f, err := src.Add("example.zone", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	tree := zonefile.Parse(f, zonefile.Options{Origin: origin}, diags)
	var all []byte
	for _, e := range tree.Entries {
		all = append(all, src.Text(e.Span)...)
	}
	if string(all) != text {
		t.Fatalf("the entries are not the whole text:\n%q\n%q", all, text)
	}
	ed := zonefile.NewEditor(tree)
	do(tree, ed)
	return string(ed.Finish()[f])
}

// changed is what differs between two texts, line by line.
func changed(a, b string) string {
	x, y := strings.Split(a, "\n"), strings.Split(b, "\n")
	var out []string
	i, j := 0, 0
	for i < len(x) || j < len(y) {
		switch {
		case i < len(x) && j < len(y) && x[i] == y[j]:
			i, j = i+1, j+1
		case j < len(y) && (i >= len(x) || index(x[i:], y[j]) < 0):
			out = append(out, "+"+y[j])
			j++
		default:
			out = append(out, "-"+x[i])
			i++
		}
	}
	return strings.Join(out, "\n")
}

func index(lines []string, l string) int {
	for i, x := range lines {
		if x == l {
			return i
		}
	}
	return -1
}

func TestEdits(t *testing.T) {
	name := func(s string) dnsname.Name { return dnsname.MustParse(s + ".example.") }
	insert := func(owner string, typ rr.Type, text string) func(*zonefile.File, *zonefile.Editor) {
		return func(_ *zonefile.File, ed *zonefile.Editor) {
			if err := ed.Insert(zonefile.NewRecord{Owner: name(owner), Type: typ, Text: text}); err != nil {
				t.Fatal(err)
			}
		}
	}
	for _, c := range []struct {
		what string
		do   func(f *zonefile.File, ed *zonefile.Editor)
		want string
	}{
		{"the serial alone", func(_ *zonefile.File, ed *zonefile.Editor) { _ = ed.SetSerial(8) },
			"+                       8          ; serial\n-                       7          ; serial"},
		{"a new member of a series, in the columns of its neighbour", insert("cam-c", rr.TypeA, "192.0.2.3"), "+cam-c\tIN\tA\t192.0.2.3"},
		{"a record beside its owner, like its neighbour", insert("cam-a", rr.TypeTXT, `"x"`), "+                TXT    \"x\""},
		{"a record of the apex", insert("x", rr.TypeA, "192.0.2.9"), "+x               A      192.0.2.9"},
		{"data, the comment stays", func(f *zonefile.File, ed *zonefile.Editor) {
			ed.SetData(f.Records(name("cam-a"), rr.TypeA)[0], "192.0.2.77")
		},
			"+cam-a           A      192.0.2.77  ; the first\n-cam-a           A      192.0.2.1   ; the first"},
		{"a TTL", func(f *zonefile.File, ed *zonefile.Editor) { ed.SetTTL(f.Records(name("cam-b"), rr.TypeA)[0], 60) },
			"+cam-b\t60 IN\tA\t192.0.2.2\n-cam-b\tIN\tA\t192.0.2.2"},
		{"removal of the line that states the owner", func(f *zonefile.File, ed *zonefile.Editor) { ed.Remove(f.Records(name("cam-a"), rr.TypeA)[0]) },
			"+cam-a           AAAA   2001:db8::1\n-cam-a           A      192.0.2.1   ; the first\n-                AAAA   2001:db8::1"},
		{"removal of a whole owner", func(f *zonefile.File, ed *zonefile.Editor) {
			for _, e := range f.Records(name("cam-a"), 0) {
				ed.Remove(e)
			}
		}, "-cam-a           A      192.0.2.1   ; the first\n-                AAAA   2001:db8::1"},
	} {
		got := edit(t, sample, c.do)
		if d := changed(sample, got); d != c.want {
			t.Errorf("%s:\n got\n%s\nwant\n%s", c.what, d, c.want)
		}
	}
	crlf := strings.ReplaceAll(sample, "\n", "\r\n")
	if got := edit(t, crlf, insert("x", rr.TypeA, "192.0.2.9")); strings.Count(got, "\r\n") != strings.Count(got, "\n") {
		t.Error("an edit of a CR LF file brings in LF alone")
	}
	bare := strings.TrimSuffix(sample, "\n")
	if got := edit(t, bare, insert("zz", rr.TypeA, "192.0.2.9")); !strings.Contains(got, "; note\nzz") {
		t.Errorf("a file without a final line end: %q", got[len(got)-60:])
	}
	// The data of a SOA go over lines and parentheses.
	got := edit(t, sample, func(f *zonefile.File, ed *zonefile.Editor) { ed.SetData(f.SOA(), "ns1 h 9 1 2 3 4") })
	if z, _, diags := load(t, got, zonefile.Options{}); diags.Total() > 0 || z.Serial() != 9 {
		t.Errorf("replacing the SOA: %v\n%s", diags.All, got)
	}
}

func TestNextSerial(t *testing.T) {
	day := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		style    zonefile.SerialStyle
		at, want uint32
	}{
		{zonefile.SerialDate, 0, 2026112300}, {zonefile.SerialDate, 2026112299, 2026112300}, {zonefile.SerialDate, 2026112300, 2026112301},
		{zonefile.SerialDate, 2026112399, 2026112400}, // past nn=99
		{zonefile.SerialDate, 2062010100, 2062010101}, // the date is behind the file
		{zonefile.SerialDate, 1, 2026112300}, {zonefile.SerialDate, 4294967295, 2026112300},
		{zonefile.SerialCount, 41, 42}, {zonefile.SerialCount, 4294967295, 1},
		{zonefile.SerialClock, 5, uint32(day.Unix())}, {zonefile.SerialClock, uint32(day.Unix()), uint32(day.Unix()) + 1},
	} {
		got := zonefile.NextSerial(c.style, c.at, day)
		if got != c.want {
			t.Errorf("%s after %d: %d, want %d", c.style, c.at, got, c.want)
		}
		if !rr.NewerSerial(got, c.at) {
			t.Errorf("%s: %d is not after %d", c.style, got, c.at)
		}
	}
}

func TestLayoutAt(t *testing.T) {
	z, src, _ := load(t, sample, zonefile.Options{})
	at := 0
	for n := range z.Nodes {
		for set := range n.RRsets {
			if set.Type == rr.TypeTXT {
				l := zonefile.LayoutAt(src, z.Positions[at])
				if string(src.Text(l.Owner)) != "txt" || string(src.Text(l.Type)) != "TXT" || string(src.Text(l.Field(1))) != `"and more"` || len(l.Data) != 2 {
					t.Errorf("owner %q, type %q, field %q", src.Text(l.Owner), src.Text(l.Type), src.Text(l.Field(1)))
				}
			}
			at += set.N
		}
	}
}

// Reading does not allocate per record beyond what the zone keeps.
func TestAllocations(t *testing.T) {
	text := func(n int) string {
		var b strings.Builder
		b.WriteString("$TTL 60\n" + soa)
		for i := range n {
			fmt.Fprintf(&b, "host%d A 192.0.2.1\n", i)
		}
		return b.String()
	}
	count := func(n int) float64 {
		s := text(n)
		return testing.AllocsPerRun(3, func() { load(t, s, zonefile.Options{Origin: origin}) })
	}
	if few, many := count(1000), count(21000); (many-few)/20000 > 0.2 {
		t.Errorf("%.2f allocations for each further record", (many-few)/20000)
	}
}

// FuzzZone: whatever the text, reading ends, the entries are the whole text, and
// a zone that was read is written and read again as the same.
func FuzzZone(f *testing.F) {
	f.Add(sample)
	f.Add("a ( b\n\"c ;d\n) \\")
	f.Add("$TTL 1\n" + soa + `a\000 TXT "\255" x` + "\n")
	f.Add("$ORIGIN .\n. 1 SOA . . 1 2 3 4 5\n")
	f.Add("\x01")
	f.Fuzz(func(t *testing.T, text string) {
		src, diags := &source.Set{}, &diag.List{}
		file, _ := src.Add("f", []byte(text))
		tree := zonefile.Parse(file, zonefile.Options{Origin: origin}, diags)
		var all []byte
		for _, e := range tree.Entries {
			all = append(all, src.Text(e.Span)...)
			for i := range e.Tokens {
				src.Text(e.TokenSpan(i))
			}
		}
		noText := slices.ContainsFunc(diags.All, func(d diag.Diagnostic) bool { return d.Rule == zonefile.RuleNotText })
		if got := strings.TrimPrefix(text, "\xef\xbb\xbf"); string(all) != got && !noText {
			t.Fatalf("the entries are %q, the text is %q", all, got)
		}
		for _, d := range diags.All {
			if d.Rule == nil || d.Message == "" || d.Span.End < d.Span.Start {
				t.Fatalf("incomplete finding %+v", d)
			}
			src.Position(d.Span.Start)
			src.Line(d.Span.Start)
		}
		z, _, found := load(t, text, zonefile.Options{Origin: origin})
		if z == nil || found.Count(diag.Error) > 0 || z.SOASpan.IsZero() {
			return
		}
		if again := roundTrip(t, z.Snapshot); !zone.Equal(z.Snapshot, again) {
			t.Fatalf("read again it differs:\n%v\n%v", lines(z.Snapshot), lines(again))
		}
	})
}

func BenchmarkLoad(b *testing.B) {
	var t strings.Builder
	t.WriteString("$TTL 3600\n" + soa)
	for i := range 100000 {
		fmt.Fprintf(&t, "host%d\tIN\tA\t192.0.%d.%d\n", i*7919%100000, i>>8&255, i&255)
	}
	text := t.String()
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		load(b, text, zonefile.Options{Origin: origin})
	}
}
