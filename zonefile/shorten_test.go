package zonefile_test

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zonefile"
)

// Shortening changes no record of any random file, leaves no name longer than it must
// be where it can be told, and after two rounds nothing more.
func TestShortenAgainstModel(t *testing.T) {
	r := rand.New(rand.NewPCG(65, 2026))
	names := []string{"salt.example.", "www.salt.example.", "a.b.salt.example.", "other.example.", "example.", ".", "xsalt.example.", "WWW.Salt.Example.", `a\.b.salt.example.`, "www", "@", `\@.salt.example.`}
	parse := func(text string) (*zonefile.File, []string, bool) {
		src, diags := &source.Set{}, &diag.List{}
		f, err := src.Add("salt.example.zone", []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		file := zonefile.Parse(f, zonefile.Options{Origin: dnsname.MustParse("salt.example.")}, diags)
		var out []string
		for _, e := range file.All {
			if e.Kind == zonefile.Record {
				owner, _ := dnsname.FromWire(e.Owner)
				out = append(out, strings.ToLower(owner.String()+" "+e.Type.String()+" "+rr.DataText(e.Type, e.Data)))
			}
		}
		return file, out, diags.Count(diag.Error) == 0
	}
	for range 3000 {
		pick := func() string { return names[r.IntN(len(names))] }
		var b strings.Builder
		if r.IntN(3) == 0 {
			b.WriteString("$ORIGIN " + []string{"salt.example.", "b.salt.example.", "."}[r.IntN(3)] + "\n")
		}
		b.WriteString("salt.example. 60 IN SOA " + pick() + " h.salt.example. 1 2 3 4 5\n")
		for range r.IntN(8) {
			if r.IntN(6) == 0 {
				b.WriteString("$ORIGIN " + []string{"salt.example.", "sub.salt.example.", "."}[r.IntN(3)] + "\n")
			}
			owner := pick()
			if r.IntN(4) == 0 {
				owner = " "
			}
			data := []string{"MX 10 " + pick(), "CNAME " + pick(), "( SRV 1 2 3\n " + pick() + " ) ; x", `TYPE15 \# 4 000a 0161 00`, `TYPE1 \# 4 c0000201`, "type1 192.0.2.1", `TYPE65280 \# 2 abcd`, "TXT www.salt.example.", `TYPE15 \# 19 000a 03777777 0473616c74 076578616d706c65 00`}
			b.WriteString(owner + " 60 " + data[r.IntN(len(data))] + "\n")
		}
		text := b.String()
		file, want, good := parse(text)
		if !good {
			continue // a number that is no data
		}
		for round := range 3 {
			head, short := zonefile.Shorten(file)
			if round == 2 && (head != "" || string(short) != text) {
				t.Fatalf("a third round changes\n%s\nto\n%s%s", text, head, short)
			}
			text = head + string(short)
			var got []string
			if file, got, good = parse(text); !good || !slices.Equal(got, want) {
				t.Fatalf("%s\nbecame\n%s\nwhich says\n%q\nnot\n%q", b.String(), text, got, want)
			}
		}
		for _, word := range []string{"TYPE1 ", "TYPE15 "} {
			if strings.Contains(text, word) {
				t.Fatalf("%s is left in\n%s", word, text)
			}
		}
	}
}
