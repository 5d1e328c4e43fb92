package zonefile_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zonefile"
)

// records are the records of a file without SOA, as text without TTLs.
func records(f *zonefile.File) (out []string) {
	for _, e := range f.All {
		if e.Kind == zonefile.Record && e.Type != rr.TypeSOA {
			r := rr.Record{Type: e.Type, Class: rr.ClassIN, Data: e.Data}
			r.Name, _ = dnsname.FromWire(e.Owner)
			out = append(out, r.String())
		}
	}
	slices.Sort(out)
	return out
}

// kept reports whether all comments of a text are still in another.
func kept(before, after string) bool {
	for _, line := range strings.Split(before, "\n") {
		if _, c, ok := strings.Cut(line, "; "); ok && !strings.Contains(after, c) {
			return false
		}
	}
	return true
}

const editable = "$TTL 60 ; time\n@ SOA ns h 1 2 3 4 5 ; head\n  NS ns ; server\nns A 192.0.2.1\n   AAAA 2001:db8::1 ; six\nweb\tA\t192.0.2.2\nwww CNAME web\n\n; end\n"

// FuzzEdit takes records of any file out, puts one in and changes another, as a
// program would: all other records stay, or the result shows that they did not,
// which the program finds out before it writes.
func FuzzEdit(f *testing.F) {
	f.Add([]byte(editable), uint8(0), uint8(1))
	f.Add([]byte("$ORIGIN a.\r\n$TTL 1\r\n@ SOA b c 1 2 3 4 5\r\n  TXT ( \"x\" ; y\r\n )\r\n b A 192.0.2.1"), uint8(1), uint8(2))
	f.Add([]byte("@ 1 SOA a b 1 2 3 4 5\nc A 192.0.2.1\n$ORIGIN d.\n A 192.0.2.2\n"), uint8(2), uint8(0))
	f.Fuzz(func(t *testing.T, text []byte, take, change uint8) {
		file, diags := parseText(t, text)
		if diags.Count(diag.Error) > 0 || file.SOA() == nil || len(file.Entries) == 0 {
			return
		}
		before := records(file)
		want := slices.Clone(before)
		drop := func(e *zonefile.Entry) {
			r := rr.Record{Type: e.Type, Class: rr.ClassIN, Data: e.Data}
			r.Name, _ = dnsname.FromWire(e.Owner)
			if i := slices.Index(want, r.String()); i >= 0 {
				want = slices.Delete(want, i, i+1)
			}
		}
		ed := zonefile.NewEditor(file)
		removed := file.Entries[int(take)%len(file.Entries)]
		if removed.Kind == zonefile.Record && removed.Type != rr.TypeSOA {
			ed.Remove(removed)
			drop(removed)
		}
		if e := file.Entries[int(change)%len(file.Entries)]; e != removed && e.Kind == zonefile.Record && e.Type == rr.TypeA && e.TypeTok+1 < len(e.Tokens) {
			ed.SetData(e, "192.0.2.77")
			ed.SetTTL(e, 777)
			drop(e)
			owner, _ := dnsname.FromWire(e.Owner)
			want = append(want, rr.Record{Name: owner, Type: rr.TypeA, Class: rr.ClassIN, Data: []byte{192, 0, 2, 77}}.String())
		}
		fresh, _ := dnsname.MustParse("example.").Child("fresh-name")
		if err := ed.Insert(zonefile.NewRecord{Owner: fresh, TTL: 60, HasTTL: true, Type: rr.TypeA, Text: "192.0.2.88"}); err == nil {
			want = append(want, rr.Record{Name: fresh, Type: rr.TypeA, Class: rr.ClassIN, Data: []byte{192, 0, 2, 88}}.String())
		}
		out, changed := ed.Finish()[file.Source]
		if !changed {
			return
		}
		after, more := parseText(t, out)
		slices.Sort(want)
		if got := records(after); !slices.Equal(got, want) && more.Count(diag.Error) == 0 && wellKept(file) {
			t.Fatalf("%q\nbecame\n%q\nrecords %q\nwant    %q", text, out, got, want)
		}
	})
}

// wellKept reports whether a file is laid out as people do: one origin, owners and
// TTLs stated where they are not inherited from a line just above. In others an
// edit may reach further, which the program proves before it writes.
func wellKept(f *zonefile.File) bool {
	for _, e := range f.Entries {
		if e.Kind == zonefile.Directive && !strings.EqualFold(string(e.Tokens[0].Text), "$TTL") || e.Kind == zonefile.Bad {
			return false
		}
		if text := string(f.Source.Content[f.Source.Offset(e.Span.Start):f.Source.Offset(e.Span.End)]); strings.ContainsAny(text, "()\\\"\r") || !strings.HasSuffix(text, "\n") {
			return false
		}
	}
	return true
}

func TestEditorOverFiles(t *testing.T) {
	var src source.Set
	main, err := src.Add("main", []byte("$TTL 60\n@ SOA ns h 1 2 3 4 5\n@ NS ns\n$INCLUDE part\nlast A 192.0.2.9\n"))
	if err != nil {
		t.Fatal(err)
	}
	open := func(path string, _ *source.File) (*source.File, error) {
		return src.Add(path, []byte("ns   A 192.0.2.1 ; here\n     AAAA 2001:db8::1\n"))
	}
	var diags diag.List
	f := zonefile.Parse(main, zonefile.Options{Origin: dnsname.MustParse("example."), Open: open}, &diags)
	if len(f.All) != len(f.Entries)+2 {
		t.Fatalf("%d entries of %d", len(f.Entries), len(f.All))
	}
	ns := dnsname.MustParse("ns.example.")
	ed := zonefile.NewEditor(f)
	ed.SetData(f.Records(ns, rr.TypeA)[0], "192.0.2.2")
	if err := ed.Insert(zonefile.NewRecord{Owner: ns, Type: rr.TypeTXT, Text: `"x"`}); err != nil {
		t.Fatal(err)
	}
	if err := ed.SetSerial(2); err != nil {
		t.Fatal(err)
	}
	texts := map[string]string{}
	for file, text := range ed.Finish() {
		texts[file.Name] = string(text)
	}
	if want := "ns   A 192.0.2.2 ; here\n     AAAA 2001:db8::1\n     TXT  \"x\"\n"; texts["part"] != want {
		t.Errorf("the part is %q", texts["part"])
	}
	if !strings.Contains(texts["main"], "h 2 2 3") {
		t.Errorf("the zone is %q", texts["main"])
	}
}

func TestRename(t *testing.T) {
	f, _ := parseText(t, []byte("$ORIGIN old.example.\n$TTL 60\n@ SOA ns.OLD.example. h.old.example. 1 2 3 4 5\nwww CNAME web.old.example.\nx CNAME cold.example.\ny CNAME a\\.old.example.\nz TXT \"old.example.\"\n"))
	ed := zonefile.NewEditor(f)
	ed.Rename(dnsname.MustParse("old.example."), dnsname.MustParse("new.example."))
	got := string(ed.Finish()[f.Source])
	want := "$ORIGIN new.example.\n$TTL 60\n@ SOA ns.new.example. h.new.example. 1 2 3 4 5\nwww CNAME web.new.example.\nx CNAME cold.example.\ny CNAME a\\.old.example.\nz TXT \"old.example.\"\n"
	if got != want {
		t.Errorf("got\n%s", got)
	}
}

// A TTL that is made explicit takes the place of blanks, so that columns stay.
func TestTTLInItsPlace(t *testing.T) {
	for in, want := range map[string]string{
		"web             A 192.0.2.1\n":  "web          60 A 192.0.2.1\n",
		"web A 192.0.2.1\n":              "web 60 A 192.0.2.1\n",
		"web\tA\t192.0.2.1\n":            "web\t60 A\t192.0.2.1\n",
		"web       IN A 192.0.2.1\n":     "web    60 IN A 192.0.2.1\n",
		"web 300 A 192.0.2.1\n":          "web 60 A 192.0.2.1\n",
		"web    IN 300  A  192.0.2.1\n":  "web    IN 60  A  192.0.2.1\n",
		"web         A 192.0.2.1 ; it\n": "web      60 A 192.0.2.1 ; it\n",
	} {
		const head = "$TTL 1\n@ SOA a b 1 2 3 4 5\n"
		f, _ := parseText(t, []byte(head+in))
		ed := zonefile.NewEditor(f)
		ed.SetTTL(f.Records(dnsname.MustParse("web.example."), rr.TypeA)[0], 60)
		if got := strings.TrimPrefix(string(ed.Finish()[f.Source]), head); got != want {
			t.Errorf("%q became %q, want %q", in, got, want)
		}
	}
}

func TestRemarks(t *testing.T) {
	var src source.Set
	f, err := src.Add("x", []byte("a A 192.0.2.1 ; mark one\n; mark two\n\n; other\nb A (\n 192.0.2.2 ; mark three\n)\nc TXT \"; mark no\" ;mark four\nd TXT x ; not mark\n; mark end\n"))
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, r := range zonefile.Remarks(f, "mark ") {
		line := src.Position(r.Entry.Start).Line
		got = append(got, fmt.Sprintf("%s@%d", r.Text, line))
	}
	if s := strings.Join(got, " "); s != "one@1 two@5 three@5 four@8 end@10" {
		t.Errorf("%s", s)
	}
}

func TestWords(t *testing.T) {
	var src source.Set
	f, err := src.Add("x", []byte("a TXT \"x y\" z ; c\n\n  A ( 192.0.2.1\n )\nb HTTPS 1 . alpn=\"h2\"\nc TXT \"open\n"))
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, l := range zonefile.Words(f) {
		got = append(got, fmt.Sprintf("%d %v %s %v", l.Line, l.Indented, strings.Join(l.Words, "|"), l.Fault != ""))
	}
	want := []string{`1 false a|TXT|"x y"|z false`, `3 true A|192.0.2.1 false`, `5 false b|HTTPS|1|.|alpn="h2" false`, `6 false c|TXT|"open" true`}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("%q", got)
	}
}

func TestEditKeepsComments(t *testing.T) {
	f, _ := parseText(t, []byte(editable))
	ed := zonefile.NewEditor(f)
	for _, e := range f.Records(dnsname.MustParse("www.example."), 0) {
		ed.Remove(e)
	}
	if err := ed.Insert(zonefile.NewRecord{Owner: dnsname.MustParse("web.example."), Type: rr.TypeAAAA, Text: "2001:db8::2"}); err != nil {
		t.Fatal(err)
	}
	out := string(ed.Finish()[f.Source])
	if !kept(editable, out) || !strings.Contains(out, "web\tA\t192.0.2.2\n\tAAAA\t2001:db8::2\n") {
		t.Errorf("%q", out)
	}
}

// A new record stands in the columns of the one above it, its TTL too.
func TestInsertInColumns(t *testing.T) {
	const above = "$ORIGIN example.\n@        3600     IN   SOA   ns1 hostmaster 1 7200 900 1209600 300\n@        3600     IN   NS    ns1\nns1      300      IN   A     192.0.2.1\n"
	f, _ := parseText(t, []byte(above))
	ed := zonefile.NewEditor(f)
	if err := ed.Insert(zonefile.NewRecord{Owner: dnsname.MustParse("ns2.example."), TTL: 60, HasTTL: true, Type: rr.TypeA, Text: "192.0.2.2"}); err != nil {
		t.Fatal(err)
	}
	if out := string(ed.Finish()[f.Source]); out != above+"ns2      60       IN   A     192.0.2.2\n" {
		t.Errorf("%s", out)
	}
}
