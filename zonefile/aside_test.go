package zonefile_test

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zonefile"
)

const asideZone = "$ORIGIN tides.example.\n$TTL 1h\n" +
	"@\tSOA ns1 hostmaster (\n\t\t7 ; serial\n\t\t2h 15m 2w 5m )\n" +
	"\tNS ns1 ; first\n" +
	"\tNS ns2.example.net.\n" +
	"                MX  10 mail\n" +
	"ns1  300 IN A 192.0.2.1\n" +
	"     IN AAAA 2001:db8::1 ; six\n" +
	"long TXT ( \"one; two\"\n\n   \"three\" ) ; and so on\n" +
	"www A 192.0.2.2\n\n; about mail\n" +
	"mail A 192.0.2.25\n" +
	"$ORIGIN sub.tides.example.\n" +
	"a-name-that-is-longer-than-the-blanks A 192.0.2.7\n A 192.0.2.8\n" +
	"b 60 CNAME a\n" +
	"c A 192.0.2.9"

func readAsides(t testing.TB, text string) *zonefile.File {
	t.Helper()
	var src source.Set
	var diags diag.List
	f, err := src.Add("tides.example.zone", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	p := zonefile.Parse(f, zonefile.Options{Origin: dnsname.MustParse("tides.example.")}, &diags)
	for _, d := range diags.All {
		if d.Severity == diag.Error {
			t.Fatalf("%s\nin:\n%s", d.Message, text)
		}
	}
	return p
}

// recordsOf are the records of a file in order, as text.
func recordsOf(f *zonefile.File) (out []string) {
	for _, e := range f.All {
		if e.Kind == zonefile.Record {
			n, _ := dnsname.FromWire(e.Owner)
			out = append(out, fmt.Sprintf("%s %d %s %s", n, e.TTL, e.Type, rr.DataText(e.Type, e.Data)))
		}
	}
	slices.Sort(out)
	return out
}

func finished(t testing.TB, f *zonefile.File, ed *zonefile.Editor) string {
	t.Helper()
	text, ok := ed.Finish()[f.Source]
	if !ok {
		t.Fatal("nothing changed")
	}
	return string(text)
}

// Each record, and each two, of a file in many hands: set aside, they are gone for every reader
// and can be found; put back, the file says what it said.
func TestAside(t *testing.T) {
	day := time.Date(2026, 11, 29, 0, 0, 0, 0, time.UTC)
	for _, text := range []string{asideZone, asideZone + "\n", strings.ReplaceAll(asideZone, "\n", "\r\n")} {
		n := len(readAsides(t, text).All)
		for i := range n {
			for j := i; j < n; j++ {
				f := readAsides(t, text)
				before := recordsOf(f)
				ed := zonefile.NewEditor(f)
				var gone []*zonefile.Entry
				for _, k := range slices.Compact([]int{i, j}) {
					if e := f.All[k]; e.Kind == zonefile.Record && e.Type != rr.TypeSOA {
						ed.SetAside(e, zonefile.AsideNote{Day: day, Who: "ines", Why: "because, of that"})
						gone = append(gone, e)
					}
				}
				if len(gone) == 0 {
					continue
				}
				without := finished(t, f, ed)
				g := readAsides(t, without)
				asides := g.Asides()
				if len(recordsOf(g)) != len(before)-len(gone) || len(asides) != len(gone) {
					t.Fatalf("%d records of %d are left, %d set aside:\n%s", len(recordsOf(g)), len(before), len(asides), without)
				}
				ed = zonefile.NewEditor(g)
				for k, a := range asides {
					owner, _ := dnsname.FromWire(gone[k].Owner)
					if !a.Owner.Equal(owner) || a.Type != gone[k].Type || !bytes.Equal(a.Data, gone[k].Data) || !a.Day.Equal(day) || a.Who != "ines" || a.Why != "because, of that" {
						t.Fatalf("set aside is %s %s by %s, want %s %s:\n%s", a.Owner, a.Type, a.Who, owner, gone[k].Type, without)
					}
					ed.PutBack(a)
				}
				back := finished(t, g, ed)
				if got := recordsOf(readAsides(t, back)); !slices.Equal(got, before) {
					t.Fatalf("put back the file says\n%s\nand said\n%s\n\n%s", strings.Join(got, "\n"), strings.Join(before, "\n"), without)
				}
				if len(readAsides(t, back).Asides()) != 0 {
					t.Fatalf("put back something is still set aside:\n%s", back)
				}
				if len(gone) == 1 && gone[0].OwnerTok >= 0 && !strings.HasSuffix(text, "192.0.2.9") && !inherits(readAsides(t, text), gone[0]) && back != text {
					t.Fatalf("put back the text is another:\n%q\n%q", back, text)
				}
				var src source.Set
				file, _ := src.Add("tides.example.zone", []byte(without))
				if z := zonefile.Load(file, zonefile.Options{}, &diag.List{}); len(z.Asides) != len(gone) {
					t.Fatalf("loaded, %d are set aside, not %d", len(z.Asides), len(gone))
				}
			}
		}
	}
}

// inherits reports whether a record after another takes its owner from it.
func inherits(f *zonefile.File, e *zonefile.Entry) bool {
	for i, o := range f.All {
		if o.Span != e.Span {
			continue
		}
		for _, next := range f.All[i+1:] {
			if next.Kind == zonefile.Record {
				return next.OwnerTok < 0
			}
		}
	}
	return false
}

// A record that took its owner from before the place keeps it when something is put back there.
func TestPutBackBetween(t *testing.T) {
	f := readAsides(t, "$TTL 1h\n@ SOA ns h 1 2h 15m 2w 5m\na A 192.0.2.1\n; set aside 2026-11-29 by ines, because of that\n;~ b A 192.0.2.2\n  TXT x\n")
	ed := zonefile.NewEditor(f)
	ed.PutBack(f.Asides()[0])
	got := recordsOf(readAsides(t, finished(t, f, ed)))
	if want := "a.tides.example. 3600 TXT \"x\""; !slices.Contains(got, want) {
		t.Errorf("%q is not there: %q", want, got)
	}
}

// What somebody changed so that it is no note or no record any more is a comment like others.
func TestNoAside(t *testing.T) {
	note := "; set aside 2026-11-29 by ines, because of that\n"
	for text, want := range map[string]int{
		note + ";~ www A 192.0.2.2\n":                                   1,
		note + ";~ www A 192.0.2.2\n;~ www A 192.0.2.3\n":               0,
		note + ";~  A 192.0.2.2\n":                                      0,
		note + ";~ www A 192.0.2.256\n":                                 0,
		note + ";~ $ORIGIN x.\n":                                        0,
		note + "; www A 192.0.2.2\n":                                    0,
		note + "\n;~ www A 192.0.2.2\n":                                 0,
		note + note + ";~ www A 192.0.2.2\n":                            1,
		note + ";~ t TXT ( \"a\"\n;~\n;~   \"b\" )\n":                   1,
		"; set aside 2026-13-29 by ines, because x\n;~ w A 192.0.2.2\n": 0,
		"; set aside on monday\n;~ w A 192.0.2.2\n":                     0,
	} {
		if got := len(readAsides(t, "$TTL 1h\n@ SOA ns h 1 2h 15m 2w 5m\n"+text).Asides()); got != want {
			t.Errorf("%d set aside, want %d:\n%s", got, want, text)
		}
	}
}
