package zonefile

import (
	"bufio"
	"bytes"
	"flag"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zone"
)

// long lets the tests against models run for a while instead of some seconds.
var long = flag.Duration("long", 0, "how long the tests against models go on")

// writer writes a master file as somebody might, and knows what it says: the model
// of what the parser must read.
type writer struct {
	*rand.Rand
	b        strings.Builder
	origin   dnsname.Name
	ttl      *uint32 // of $TTL
	last     *uint32 // stated last
	owner    dnsname.Name
	hasOwner bool
	eol      string
	records  *[]said
	files    map[string]string
	remarks  *int
	depth    int
	needsTTL bool // a file without $TTL: each record states its own
}

// said is a record that a file states.
type said struct {
	owner   dnsname.Name
	t       rr.Type
	ttl     uint32
	data    []byte
	remarks []string // the comments inside of its lines
}

func (s said) String() string {
	return fmt.Sprintf("%s %d %s %x", strings.ToLower(s.owner.String()), s.ttl, s.t, s.data)
}

var modelApex = dnsname.MustParse("Salt.example.")

var modelOwners = []string{"@", "www", "cam-1", "cam-2", "cam-9", "*", "sub", "a.sub", "b.sub", "deep.a.sub", `\@`, `%ttl`, `\035origin`, `\047/x`, "ttl", "in", "a", "ns", "60",
	`\000\255x`, `with\.dot`, `\"q\"`, `\;semi`, `\(p`, "_s._tcp", strings.Repeat("l", 63), `\$ttl`, `@ttl`, `.`}

// data in absolute form; names in it are written relative where that is possible.
var modelData = []struct {
	t     rr.Type
	words []string
	names []int // words that are names
}{
	{rr.TypeA, []string{"192.0.2.1"}, nil}, {rr.TypeA, []string{"192.0.2.2"}, nil}, {rr.TypeA, []string{"198.51.100.200"}, nil},
	{rr.TypeAAAA, []string{"2001:db8::1"}, nil}, {rr.TypeAAAA, []string{"2001:db8:1:2:3:4:5:6"}, nil},
	{rr.TypeTXT, []string{`"("`}, nil}, {rr.TypeTXT, []string{`"a;b"`, `"c\"d"`}, nil}, {rr.TypeTXT, []string{"x", `")"`, `"two  blanks"`, `""`}, nil},
	{rr.TypeMX, []string{"10", "mail.salt.example."}, []int{1}}, {rr.TypeMX, []string{"20", "MAIL.other.example."}, []int{1}},
	{rr.TypeNS, []string{"ns.sub.salt.example."}, []int{0}}, {rr.TypeCNAME, []string{"salt.example."}, []int{0}},
	{42, nil, nil}, {42, []string{"1:192.0.2.0/24"}, nil}, {42, []string{"1:192.0.2.0/24", "!2:2001:db8::/32"}, nil},
	{65280, []string{`\#`, "3", "ab", "cdef"}, nil}, {65280, []string{`\#`, "0"}, nil},
	{33, []string{"0", "5", "443", "www.salt.example."}, []int{3}},
}

func wireOf(t testing.TB, typ rr.Type, words []string) []byte {
	var tokens []rr.Token
	for _, w := range words {
		quoted := w[0] == '"'
		tokens = append(tokens, rr.Token{Text: []byte(strings.TrimSuffix(strings.TrimPrefix(w, `"`), `"`)), Quoted: quoted})
	}
	p := rr.Parser{}
	data, err := p.Data(nil, typ, tokens)
	if err != nil {
		t.Fatalf("%s %q: %v", typ, words, err)
	}
	return data
}

func (w *writer) chance(n int) bool { return w.IntN(n) == 0 }

// name writes a name absolute, or relative to the origin, in any case.
func (w *writer) name(n dnsname.Name) string {
	text := n.String()
	if n.AtOrBelow(w.origin) && !w.chance(4) {
		text = n.Relative(w.origin)
	}
	if w.chance(5) {
		text = strings.ToUpper(text)
	}
	return text
}

func (w *writer) remark() string {
	*w.remarks++
	return fmt.Sprintf("; %s remark%d.", []string{"(", ")", `"`, "call Ann (office)", "see", `\`}[w.IntN(6)], *w.remarks)
}

func (w *writer) blank() string { return []string{" ", "\t", "  ", " \t ", "        "}[w.IntN(5)] }

func (w *writer) line(text string) { w.b.WriteString(text + w.eol) }

func (w *writer) entry(t testing.TB) {
	switch w.IntN(14) {
	case 0:
		w.line([]string{"", "  ", w.remark(), "  " + w.remark()}[w.IntN(4)])
	case 1:
		to, _ := dnsname.Parse([]string{"sub", "@", "Sub.SALT.example.", "salt.example.", "other.example."}[w.IntN(5)], modelApex)
		written := w.name(to)
		w.line("$ORIGIN " + written)
		w.origin, _ = dnsname.Parse(written, w.origin) // in the case in which it is written
	case 2:
		if !w.needsTTL {
			ttl := uint32(w.IntN(100000))
			w.line(fmt.Sprintf("%s %d %s", []string{"$TTL", "$ttl"}[w.IntN(2)], ttl, w.remark()))
			w.ttl = &ttl
		}
	case 3:
		w.include(t)
	default:
		w.record(t)
	}
}

func (w *writer) include(t testing.TB) {
	if w.depth > 2 {
		return
	}
	name := fmt.Sprintf("part%d", len(w.files))
	w.files[name] = ""
	in := *w
	in.b, in.depth, in.eol = strings.Builder{}, w.depth+1, w.eol
	line := "$INCLUDE " + name
	if w.chance(2) {
		to, _ := dnsname.Parse("inc", modelApex)
		written := w.name(to)
		in.origin, _ = dnsname.Parse(written, w.origin)
		line += " " + written
	}
	for range w.IntN(4) {
		in.entry(t)
	}
	w.files[name] = in.b.String()
	w.owner = in.owner // as RFC 1035 §5.1 has it: the record before, wherever it stood
	w.line(line)
}

func (w *writer) record(t testing.TB) {
	owner := w.owner
	first := ""
	if !w.hasOwner || w.chance(2) {
		var err error
		if owner, err = dnsname.Parse(modelOwners[w.IntN(len(modelOwners)-1)], modelApex); err != nil {
			t.Fatal(err)
		}
		first = w.name(owner)
	}
	d := modelData[w.IntN(len(modelData))]
	w.write(t, owner, first, d.t, d.words, d.names)
}

// write writes a record; first is its owner as written, empty to leave it out.
func (w *writer) write(t testing.TB, owner dnsname.Name, first string, typ rr.Type, words []string, names []int) {
	s := said{owner: owner, t: typ, data: wireOf(t, typ, words)}
	words = slices.Clone(words)
	for _, i := range names {
		n := dnsname.MustParse(words[i])
		words[i] = w.name(n)
		s.data = nil // the case is part of the data
	}
	fields := []string{typ.String()}
	if w.chance(3) {
		fields[0] = strings.ToLower(fields[0])
	}
	if w.chance(3) {
		fields = append([]string{"IN"}, fields...)
	}
	if w.needsTTL || w.ttl == nil && w.last == nil || w.chance(4) {
		s.ttl = uint32(w.IntN(1000))
		at := w.IntN(len(fields))
		fields = slices.Insert(fields, at, fmt.Sprint(s.ttl))
		w.last = &s.ttl
	} else if w.ttl != nil {
		s.ttl = *w.ttl
	} else {
		s.ttl = *w.last
	}
	if s.data == nil {
		abs := slices.Clone(words)
		for _, i := range names {
			n, err := dnsname.Parse(words[i], w.origin)
			if err != nil {
				t.Fatal(err)
			}
			abs[i] = n.String()
		}
		s.data = wireOf(t, typ, abs)
	}
	w.owner, w.hasOwner = owner, true
	w.lay(first, append(fields, words...), &s)
	*w.records = append(*w.records, s)
}

// lay writes the fields over one line or several, with comments.
func (w *writer) lay(first string, fields []string, s *said) {
	open := -1
	if w.chance(4) {
		open = w.IntN(len(fields) + 1)
	}
	remark := func() {
		r := w.remark()
		s.remarks = append(s.remarks, r)
		w.b.WriteString(w.blank() + r)
	}
	w.b.WriteString(first)
	for i := range len(fields) + 1 {
		if i == open {
			w.b.WriteString(w.blank() + "(")
		}
		if open >= 0 && i >= open && w.chance(2) {
			if w.chance(2) {
				remark()
			}
			w.b.WriteString(w.eol)
		}
		if i < len(fields) {
			w.b.WriteString(w.blank() + fields[i])
		}
	}
	if open >= 0 {
		w.b.WriteString(w.blank() + ")")
	}
	if w.chance(4) {
		remark()
	}
	w.b.WriteString(w.eol)
}

// newWriter writes a whole file, with the texts of those that it includes.
func newWriter(t testing.TB, seed uint64, needsTTL bool) *writer {
	w := &writer{Rand: rand.New(rand.NewPCG(seed, 11)), origin: modelApex, eol: "\n", records: &[]said{}, files: map[string]string{}, remarks: new(int), needsTTL: needsTTL}
	if w.chance(4) {
		w.eol = "\r\n"
	}
	if !needsTTL && w.chance(2) {
		ttl := uint32(3600)
		w.ttl = &ttl
		w.line("$TTL 3600")
	}
	w.write(t, modelApex, w.name(modelApex), rr.TypeSOA, []string{"ns.salt.example.", "h.salt.example.", "7", "7200", "900", "4294967295", "300"}, []int{0, 1})
	for range w.IntN(40) {
		w.entry(t)
	}
	return w
}

// parsed reads a text with its included files.
func parsed(t testing.TB, text string, files map[string]string) (*File, *diag.List) {
	t.Helper()
	src, diags := &source.Set{}, &diag.List{}
	f, err := src.Add("x.zone", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	open := func(path string, _ *source.File) (*source.File, error) { return src.Add(path, []byte(files[path])) }
	return Parse(f, Options{Origin: modelApex, Open: open}, diags), diags
}

func recordsOf(f *File) (out []string) {
	for _, e := range f.All {
		if e.Kind == Record {
			owner, _ := dnsname.FromWire(e.Owner)
			out = append(out, said{owner: owner, t: e.Type, ttl: e.TTL, data: e.Data}.String())
		}
	}
	return out
}

func sameRecords(t *testing.T, what, text string, f *File, diags *diag.List, want []said) {
	t.Helper()
	for _, d := range diags.All {
		if d.Severity == diag.Error {
			t.Fatalf("%s\n%s\nhas %s: %s", what, text, d.Rule.Code, d.Message)
		}
	}
	got := recordsOf(f)
	for i, s := range want {
		if i >= len(got) || got[i] != s.String() {
			t.Fatalf("%s\n%s\nrecord %d is %s, want %s", what, text, i, got[min(i, len(got)-1)], s)
		}
	}
	if len(got) != len(want) {
		t.Fatalf("%s\n%s\nhas %d records, want %d", what, text, len(got), len(want))
	}
}

// TestFilesAgainstModel writes files in all the ways that the language allows and
// reads them: in one piece, from two places, tidied, and after edits.
func TestFilesAgainstModel(t *testing.T) {
	start, seeds := time.Now(), uint64(800)
	if testing.Short() { // as under the race detector
		seeds = 300
	}
	for seed := uint64(0); seed < seeds || time.Since(start) < *long; seed++ {
		w := newWriter(t, seed, seed%3 == 0)
		text := w.b.String()
		if w.chance(3) {
			text = strings.TrimSuffix(text, w.eol)
		}
		f, diags := parsed(t, text, w.files)
		sameRecords(t, "the file", text, f, diags, *w.records)
		tidyModel(t, w, text, f)
		splitModel(t, w, text)
		if w.needsTTL || strings.HasPrefix(text, "$TTL") {
			editModel(t, w, text, f)
		}
	}
}

func tidyModel(t *testing.T, w *writer, text string, f *File) {
	once := string(Tidy(f))
	after, diags := parsed(t, once, w.files)
	sameRecords(t, text+"\nbecame", once, after, diags, *w.records)
	for i := range *w.remarks {
		r := fmt.Sprintf(" remark%d.", i+1)
		if strings.Contains(text, r) != strings.Contains(once, r) {
			t.Fatalf("%s\nbecame\n%s\nwithout%s", text, once, r)
		}
	}
	if twice := string(Tidy(after)); once != twice {
		t.Fatalf("%s\nbecame\n%s\nand then\n%s", text, once, twice)
	}
}

// splitModel loads the file in one piece and from two places.
func splitModel(t *testing.T, w *writer, text string) {
	load := func() (string, *Loaded) {
		src, diags := &source.Set{}, &diag.List{}
		f, err := src.Add("x.zone", []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		open := func(path string, _ *source.File) (*source.File, error) { return src.Add(path, []byte(w.files[path])) }
		z := Load(f, Options{Origin: modelApex, Open: open}, diags)
		var b strings.Builder
		diags.Sort()
		for _, d := range diags.All {
			fmt.Fprintln(&b, src.Position(d.Span.Start), d.Rule.Code, d.Message)
		}
		return b.String(), z
	}
	said, z := load()
	want := map[string]bool{}
	for _, s := range *w.records {
		if s.owner.AtOrBelow(modelApex) {
			want[fmt.Sprintf("%s %s %x", strings.ToLower(s.owner.String()), s.t, rr.AppendCanonical(nil, s.t, s.data))] = true
		}
	}
	if z.Records() != len(want) {
		t.Fatalf("%s\nhas %d records in the zone, want %d", text, z.Records(), len(want))
	}
	split(1+w.IntN(len(text)), func() {
		said2, z2 := load()
		if said != said2 || !zone.Equal(z.Snapshot, z2.Snapshot) || !slices.Equal(z.Positions, z2.Positions) {
			t.Fatalf("%s\nread from two places gives\n%s\nin one piece\n%s", text, said2, said)
		}
	})
	var out bytes.Buffer
	buf := bufio.NewWriter(&out)
	if err := Write(buf, z.Snapshot); err != nil || buf.Flush() != nil {
		t.Fatal(err)
	}
	src, diags := &source.Set{}, &diag.List{}
	f, _ := src.Add("written", out.Bytes())
	again := Load(f, Options{}, diags)
	if again == nil || !zone.Equal(z.Snapshot, again.Snapshot) || diags.Count(diag.Error) > 0 {
		t.Fatalf("%s\nis written as\n%s\nand not read back: %v", text, out.String(), diags.All)
	}
}

// editModel changes some records and looks whether the file then says that, and
// keeps all comments but those of records that went.
func editModel(t *testing.T, w *writer, text string, f *File) {
	ed := NewEditor(f)
	want := slices.Clone(*w.records)
	gone := map[string]bool{}
	entries := slices.DeleteFunc(slices.Clone(f.All), func(e *Entry) bool { return e.Kind != Record })
	done := map[int]bool{0: true} // the SOA
	for range w.IntN(4) {
		i := w.IntN(len(entries))
		if done[i] {
			continue
		}
		done[i] = true
		switch e := entries[i]; w.IntN(3) {
		case 0:
			ed.Remove(e)
			for _, r := range want[i].remarks {
				gone[r] = true
			}
			want[i].t = 0
		case 1:
			d := modelData[w.IntN(len(modelData))]
			if d.t == e.Type {
				ed.SetData(e, strings.Join(d.words, " "))
				want[i].data = wireOf(t, d.t, d.words)
			}
		case 2:
			want[i].ttl = uint32(w.IntN(5000))
			ed.SetTTL(e, want[i].ttl)
		}
	}
	if err := ed.SetSerial(8); err != nil {
		t.Fatal(err)
	}
	want[0].data = bytes.Clone(want[0].data)
	want[0].data[len(want[0].data)-17] = 8
	want = slices.DeleteFunc(want, func(s said) bool { return s.t == 0 })
	for i := range w.IntN(5) {
		owner, _ := dnsname.Parse([]string{"cam-3", "@", "www", "cam-2", "zz.deep", "sub"}[w.IntN(6)], modelApex)
		fresh := said{owner: owner, t: rr.TypeA, ttl: uint32(i), data: []byte{192, 0, 2, byte(10 + i)}}
		if err := ed.Insert(NewRecord{Owner: owner, TTL: fresh.ttl, HasTTL: true, Type: rr.TypeA, Text: fmt.Sprintf("192.0.2.%d", 10+i)}); err != nil {
			t.Fatal(err)
		}
		want = append(want, fresh)
	}
	files := map[string]string{}
	for name, part := range w.files {
		files[name] = part
	}
	out := text
	for file, now := range ed.Finish() {
		if file == f.Source {
			out = string(now)
		} else {
			files[file.Name] = string(now)
		}
	}
	after, diags := parsed(t, out, files)
	got, expect := recordsOf(after), []string{}
	for _, s := range want {
		expect = append(expect, s.String())
	}
	slices.Sort(got)
	slices.Sort(expect)
	if !slices.Equal(got, expect) || diags.Count(diag.Error) > 0 {
		t.Fatalf("%s\n%q\nbecame\n%s\n%q\nhas   %q\nwant  %q\n%v", text, w.files, out, files, got, expect, diags.All)
	}
	all, now := text+fmt.Sprint(w.files), out+fmt.Sprint(files)
	for i := range *w.remarks {
		r := fmt.Sprintf(" remark%d.", i+1)
		lost := strings.Contains(all, r) && !strings.Contains(now, r)
		for g := range gone {
			lost = lost && !strings.HasSuffix(g, r)
		}
		if lost {
			t.Fatalf("%s\nbecame\n%s\nwithout%s", text, out, r)
		}
	}
}
