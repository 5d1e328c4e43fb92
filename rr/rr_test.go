package rr_test

import (
	"bytes"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"fencepost/internal/vectors"
	"fencepost/rr"
)

// words splits record data into tokens as a master file would; quotes hold
// blanks, escapes stay.
func words(s string) (out []rr.Token) {
	b := []byte(s)
	for i := 0; i < len(b); {
		switch {
		case b[i] == ' ' || b[i] == '\t' || b[i] == '(' || b[i] == ')':
			i++
		case b[i] == '"':
			j := i + 1
			for j < len(b) && b[j] != '"' {
				if b[j] == '\\' {
					j++
				}
				j++
			}
			out = append(out, rr.Token{Text: b[i+1 : min(j, len(b))], Quoted: true, Glued: i > 0 && b[i-1] == '='})
			i = j + 1
		default:
			j := i
			for j < len(b) && b[j] != ' ' && b[j] != '\t' && b[j] != '"' {
				if b[j] == '\\' {
					j++
				}
				j++
			}
			j = min(j, len(b))
			out = append(out, rr.Token{Text: b[i:j]})
			i = j
		}
	}
	return out
}

func parse(t rr.Type, text string) ([]byte, *rr.FieldError) {
	p := rr.Parser{Origin: []byte("\x07example\x00")}
	return p.Data(nil, t, words(text))
}

func TestDataVectors(t *testing.T) {
	var v struct {
		Cases []struct {
			Type, Presentation, Source string
			Hex                        string `json:"rdata_hex"`
		}
	}
	vectors.Read(t, "rdata.json", &v)
	n := 0
	for _, c := range v.Cases {
		typ, ok := rr.ParseType(c.Type)
		if !ok {
			t.Errorf("%s is not a type", c.Type)
			continue
		}
		n++
		want := vectors.Hex(t, c.Hex)
		got, err := parse(typ, c.Presentation)
		if strings.Contains(c.Source, "canonical form shown") {
			got = rr.AppendCanonical(nil, typ, got)
		}
		if err != nil || !bytes.Equal(got, want) {
			t.Errorf("%s %s (%s): %x, %v; want %x", c.Type, c.Presentation, c.Source, got, err, want)
			continue
		}
		if again, err := parse(typ, rr.DataText(typ, want)); err != nil || !bytes.Equal(again, want) {
			t.Errorf("%s prints as %s, which reads as %x, %v", c.Type, rr.DataText(typ, want), again, err)
		}
	}
	if n < len(v.Cases) {
		t.Errorf("only %d vectors of %d were tried", n, len(v.Cases))
	}
}

func TestBadDataVectors(t *testing.T) {
	var v struct {
		Cases []struct{ Type, Presentation, Why string }
	}
	vectors.Read(t, "rdata_bad.json", &v)
	n := 0
	for _, c := range v.Cases {
		typ, ok := rr.ParseType(c.Type)
		if strings.Contains(c.Why, "time units") { // which we read, with a note
			continue
		}
		n++
		if !ok { // refused already
			continue
		}
		got, err := parse(typ, c.Presentation)
		if err == nil {
			t.Errorf("%s %s (%s) was read as %x", c.Type, c.Presentation, c.Why, got)
			continue
		}
		if err.Rule == nil || err.Message == "" || err.Token > len(words(c.Presentation)) {
			t.Errorf("%s %s: the error is incomplete: %+v", c.Type, c.Presentation, err)
		}
	}
	if n < len(v.Cases)-1 {
		t.Errorf("only %d vectors were tried", n)
	}
}

func TestServiceParameters(t *testing.T) {
	var v struct {
		Valid []struct {
			Type, Presentation string
			Hex                string `json:"rdata_hex"`
		}
		BadText []struct{ Type, Presentation, Why string } `json:"bad_text"`
		BadWire []struct {
			Hex string `json:"rdata_hex"`
			Why string
		} `json:"bad_wire"`
	}
	vectors.Read(t, "svcb.json", &v)
	for _, c := range v.Valid {
		typ, _ := rr.ParseType(c.Type)
		want := vectors.Hex(t, c.Hex)
		got, err := parse(typ, c.Presentation)
		if err != nil || !bytes.Equal(got, want) {
			t.Errorf("%s: %x, %v; want %x", c.Presentation, got, err, want)
			continue
		}
		if again, err := parse(typ, rr.DataText(typ, want)); err != nil || !bytes.Equal(again, want) {
			t.Errorf("%s prints as %s, which reads as %x, %v", c.Presentation, rr.DataText(typ, want), again, err)
		}
	}
	for _, c := range v.BadText {
		if got, err := parse(rr.TypeSVCB, c.Presentation); err == nil {
			t.Errorf("%s (%s) was read as %x", c.Presentation, c.Why, got)
		}
	}
	for _, c := range v.BadWire {
		if strings.Contains(c.Why, "alpn id runs past") { // it does not: 03 68 32 00 is an id of three octets
			continue
		}
		if rr.Validate(rr.TypeSVCB, vectors.Hex(t, c.Hex)) == nil {
			t.Errorf("%s (%s) was accepted", c.Hex, c.Why)
		}
	}
	if len(v.Valid) == 0 || len(v.BadText) == 0 || len(v.BadWire) == 0 {
		t.Error("a part of the vectors is empty")
	}
}

func TestIPv6Text(t *testing.T) {
	var v struct {
		Cases []struct {
			Input, Canonical string
			Hex              string `json:"wire_hex"`
		}
	}
	vectors.Read(t, "ipv6_text.json", &v)
	for _, c := range v.Cases {
		got, err := parse(rr.TypeAAAA, c.Input)
		if err != nil || !bytes.Equal(got, vectors.Hex(t, c.Hex)) || rr.DataText(rr.TypeAAAA, got) != c.Canonical {
			t.Errorf("%s: %x, %v, printed %s; want %s", c.Input, got, err, rr.DataText(rr.TypeAAAA, got), c.Canonical)
		}
	}
}

func TestBitmaps(t *testing.T) {
	var v struct {
		NSEC []struct {
			Rdata string
			Hex   string `json:"rdata_hex"`
		}
		Bitmaps []struct {
			Types []string
			Hex   string `json:"bitmap_hex"`
		}
		Bad []struct{ Hex, Why string }
	}
	vectors.Read(t, "type_bitmap.json", &v)
	for _, c := range v.NSEC {
		if got, err := parse(rr.TypeNSEC, c.Rdata); err != nil || !bytes.Equal(got, vectors.Hex(t, c.Hex)) {
			t.Errorf("%s: %x, %v", c.Rdata, got, err)
		}
	}
	for _, c := range v.Bitmaps {
		var types []rr.Type
		for _, s := range c.Types {
			typ, _ := rr.ParseType(s)
			types = append(types, typ)
		}
		got := rr.AppendBitmap(nil, types)
		if !bytes.Equal(got, vectors.Hex(t, c.Hex)) {
			t.Errorf("%v: %x, want %s", c.Types, got, c.Hex)
		}
		for _, typ := range types {
			if !rr.BitmapHas(got, typ) {
				t.Errorf("%v: %s is not found", c.Types, typ)
			}
		}
		if rr.BitmapHas(got, 4321) || len(rr.BitmapTypes(got)) != len(types) {
			t.Errorf("%v: lists %v", c.Types, rr.BitmapTypes(got))
		}
	}
	next := []byte("\x01a\x00")
	for _, c := range v.Bad {
		if err := rr.Validate(rr.TypeNSEC, append(bytes.Clone(next), vectors.Hex(t, c.Hex)...)); err == nil {
			t.Errorf("%s: %s was accepted", c.Why, c.Hex)
		}
	}
}

func TestSerials(t *testing.T) {
	var v struct {
		Add []struct {
			Bits int
			S, N uint32
			Sum  *uint32
		}
		Compare []struct {
			S1, S2 uint32
			Result string
		} `json:"compare_32bit"`
	}
	vectors.Read(t, "serial.json", &v)
	for _, c := range v.Add {
		if c.Bits == 32 && c.Sum != nil && c.N > 0 && !rr.NewerSerial(*c.Sum, c.S) {
			t.Errorf("%d + %d = %d is not newer", c.S, c.N, *c.Sum)
		}
	}
	words := map[string]rr.SerialOrder{"eq": rr.SerialEqual, "lt": rr.SerialLess, "gt": rr.SerialGreater, "undefined": rr.SerialUndefined}
	if len(v.Compare) == 0 {
		t.Error("there are no rows to compare")
	}
	for _, c := range v.Compare {
		if got := rr.CompareSerials(c.S1, c.S2); got != words[c.Result] {
			t.Errorf("%d and %d: %d, want %s", c.S1, c.S2, got, c.Result)
		}
	}
	for _, c := range []struct {
		a, b uint32
		want rr.SerialOrder
	}{{1, 1, rr.SerialEqual}, {1, 2, rr.SerialLess}, {2, 1, rr.SerialGreater}, {0, 1 << 31, rr.SerialUndefined},
		{1 << 31, 0, rr.SerialUndefined}, {4294967295, 1, rr.SerialLess}, {1, 4294967295, rr.SerialGreater}, {0, 1<<31 - 1, rr.SerialLess}} {
		if got := rr.CompareSerials(c.a, c.b); got != c.want {
			t.Errorf("%d and %d: %d, want %d", c.a, c.b, got, c.want)
		}
	}
}

// RFC 3597 §4: names are compressed on receipt in the old types only.
func TestCompressedData(t *testing.T) {
	msg := append([]byte("\x03foo\x00"), 0, 10, 0xc0, 0)
	if got, err := rr.AppendUnpack(nil, msg, 5, 4, rr.TypeMX); err != nil || string(got) != "\x00\x0a\x03foo\x00" {
		t.Errorf("MX: %q, %v", got, err)
	}
	srv := append([]byte("\x03foo\x00"), 0, 0, 0, 0, 0, 1, 0xc0, 0)
	if got, err := rr.AppendUnpack(nil, srv, 5, 8, rr.TypeSRV); err != nil || string(got[6:]) != "\x03foo\x00" {
		t.Errorf("SRV: %q, %v", got, err)
	}
	dname := append([]byte("\x03foo\x00"), 0xc0, 0)
	if got, err := rr.AppendUnpack(nil, dname, 5, 2, rr.TypeDNAME); err == nil {
		t.Errorf("a compressed DNAME was accepted: %q", got)
	}
}

func TestTypes(t *testing.T) {
	for _, c := range []struct {
		text string
		want rr.Type
		ok   bool
	}{{"a", rr.TypeA, true}, {"Aaaa", rr.TypeAAAA, true}, {"type1", rr.TypeA, true}, {"TYPE65535", 65535, true},
		{"TYPE65536", 0, false}, {"TYPE", 0, false}, {"TYPE-1", 0, false}, {"", 0, false}, {"NOSUCH", 0, false}} {
		if got, ok := rr.ParseType(c.text); ok != c.ok || ok && got != c.want {
			t.Errorf("%q: %d, %v", c.text, got, ok)
		}
	}
	if c, ok := rr.ParseClass([]byte("class1")); !ok || c != rr.ClassIN {
		t.Error("CLASS1 is not IN")
	}
	if rr.Type(731).String() != "TYPE731" {
		t.Errorf("type 731 prints as %s", rr.Type(731))
	}
	last := rr.Type(0)
	for _, info := range rr.Table() {
		if info.Type <= last || info.Ref == "" || info.Title == "" {
			t.Errorf("%s is out of order or undocumented", info.Mnemonic)
		}
		last = info.Type
		if got, ok := rr.ParseType(info.Mnemonic); !ok || got != info.Type {
			t.Errorf("%s is not read as itself", info.Mnemonic)
		}
	}
}

func TestTTLs(t *testing.T) {
	for _, c := range []struct {
		text    string
		want    uint32
		units   bool
		invalid bool
	}{{"0", 0, false, false}, {"3600", 3600, false, false}, {"2147483647", 1<<31 - 1, false, false}, {"2147483648", 0, false, true},
		{"1h", 3600, true, false}, {"1H30m", 5400, true, false}, {"2d", 172800, true, false}, {"1w2d3h4m5s", 788645, true, false},
		{"", 0, false, true}, {"1x", 0, false, true}, {"h", 0, false, true}, {"1h30", 0, true, true}, {"-1", 0, false, true}, {"99999w", 0, true, true}} {
		got, units, ok := rr.ParseTTL([]byte(c.text))
		if ok == c.invalid || ok && (got != c.want || units != c.units) {
			t.Errorf("%q: %d, units %v, ok %v", c.text, got, units, ok)
		}
	}
}

// The errors people meet say what to do.
func TestFieldErrors(t *testing.T) {
	for _, c := range []struct {
		t          rr.Type
		text, code string
		token      int
		suggestion string
	}{
		{rr.TypeA, "192.0.2.010", "address-leading-zero", 0, "write 192.0.2.10"},
		{rr.TypeA, "192.0.2.256", "address-out-of-range", 0, ""},
		{rr.TypeA, "2001:db8::1", "bad-address", 0, "an IPv6 address goes into an AAAA record"},
		{rr.TypeAAAA, "192.0.2.1", "bad-address", 0, "an IPv4 address goes into an A record"},
		{rr.TypeMX, "mail", "bad-number", 0, "write MX preference exchange, such as: MX 10 mail"},
		{rr.TypeA, "192.0.2.1,", "bad-address", 0, `write 192.0.2.1 without the "," behind it`},
		{rr.TypeSRV, "1, 2 3 web", "bad-number", 0, `write 1 without the "," behind it`},
		{rr.TypeA, "192.0.2.1 192.0.2.2", "extra-field", 1, "write a second record for it; or begin a comment with a semicolon"},
		{rr.TypeMX, "10", "missing-field", 1, "write MX preference exchange"},
		{rr.TypeA, `"192.0.2.1"`, "quoted-field", 0, "write 192.0.2.1 without quotes"},
		{rr.TypeTXT, `"` + strings.Repeat("x", 256) + `"`, "text-too-long", 0, `split it into several strings: "first part" "second part"`},
		{rr.TypeDS, "1 13 2 abc", "bad-hex", 3, ""},
		{rr.TypeCAA, `0 is-sue "x"`, "bad-tag", 1, ""},
		{731, "x", "bad-generic-data", 0, `write \# LENGTH HEX`},
		{rr.TypeA, `\# 3 0a0000`, "bad-generic-data", 2, ""},
	} {
		_, err := parse(c.t, c.text)
		if err == nil || err.Rule.Code != c.code || err.Token != c.token || err.Suggestion != c.suggestion {
			t.Errorf("%s %s: %+v", c.t, c.text, err)
		}
	}
}

func TestNoAllocations(t *testing.T) {
	p := rr.Parser{Origin: []byte("\x07example\x00")}
	buf := make([]byte, 0, 512)
	for _, c := range []struct {
		t    rr.Type
		text string
	}{{rr.TypeA, "192.0.2.1"}, {rr.TypeAAAA, "2001:db8::1"}, {rr.TypeMX, "10 mail"}, {rr.TypeTXT, `"v=spf1 -all"`}, {rr.TypeNS, "ns1"}, {rr.TypeSRV, "0 5 443 web"}} {
		tokens := words(c.text)
		if n := testing.AllocsPerRun(100, func() { _, _ = p.Data(buf, c.t, tokens) }); n != 0 {
			t.Errorf("reading %s allocates %v times", c.t, n)
		}
	}
}

// A bitmap has just the types that were put into it, for every type there can be.
func TestBitmapAgainstSet(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4034))
	for range 40 {
		set := map[rr.Type]bool{}
		for range aim(r, 0, 300) {
			set[rr.Type(r.IntN(65536))] = true
			set[rr.Type(r.IntN(300))] = true
		}
		types := slices.Sorted(maps.Keys(set))
		b := rr.AppendBitmap(nil, types)
		for typ := range 65536 {
			if rr.BitmapHas(b, rr.Type(typ)) != set[rr.Type(typ)] {
				t.Fatalf("%x: type %d is %v, not %v", b, typ, !set[rr.Type(typ)], set[rr.Type(typ)])
			}
		}
		if got := rr.BitmapTypes(b); !slices.Equal(got, types) {
			t.Fatalf("%x lists %v, not %v", b, got, types)
		}
	}
}

// What a signer puts into a zone is these types, and no others of the table.
func TestMadeBySigner(t *testing.T) {
	var got []string
	for _, info := range rr.Table() {
		if rr.MadeBySigner(info.Type) {
			got = append(got, info.Mnemonic)
		}
	}
	if want := "RRSIG NSEC DNSKEY NSEC3 NSEC3PARAM CDS CDNSKEY ZONEMD"; strings.Join(got, " ") != want {
		t.Errorf("%s, want %s", strings.Join(got, " "), want)
	}
}

// Data mean the same where nothing but the case of their names differs (RFC 4343).
func TestSameData(t *testing.T) {
	for _, c := range []struct {
		t    rr.Type
		a, b string
		want bool
	}{
		{rr.TypeA, "\x01\x02\x03\x04", "\x01\x02\x03\x04", true}, {rr.TypeA, "\x01\x02\x03\x04", "\x01\x02\x03\x05", false}, {rr.TypeA, "AAAA", "aaaa", false},
		{rr.TypeMX, "\x00\x0a\x04MAIL\x00", "\x00\x0a\x04mail\x00", true}, {rr.TypeMX, "\x00\x0a\x04MAIL\x00", "\x00\x0a\x04mall\x00", false},
		{rr.TypeMX, "\x00\x0a\x04mail\x00", "\x00\x0a\x05maila\x00", false}, {rr.TypeTXT, "\x01A", "\x01a", false}, {rr.TypeTXT, "", "", true},
		{rr.TypeCNAME, "\x01a\x01B\x00", "\x01A\x01b\x00", true}, {65280, "\x01A\x00", "\x01a\x00", false},
	} {
		if got := rr.SameData(c.t, []byte(c.a), []byte(c.b)); got != c.want {
			t.Errorf("%s %q and %q: %v", c.t, c.a, c.b, got)
		}
	}
}
