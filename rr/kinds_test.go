package rr_test

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"fencepost/rr"
)

func typeOf(t *testing.T, name string) rr.Type {
	t.Helper()
	typ, ok := rr.ParseType(name)
	if !ok {
		t.Fatalf("%s is not a type", name)
	}
	return typ
}

// What is printed is the form that people know, whatever was written.
func TestPrintedForms(t *testing.T) {
	for _, c := range []struct{ typ, in, out string }{
		{"LOC", "42 21 54 N 71 06 18 W -24m 30m", "42 21 54.000 N 71 6 18.000 W -24.00m 30m 10000m 10m"},
		{"LOC", "0 N 0 E 0", "0 0 0.000 N 0 0 0.000 E 0.00m 1m 10000m 10m"},
		{"LOC", "52 14 5.5 n 0 8 50 e 10.5m 1234m 0.01m", "52 14 5.500 N 0 8 50.000 E 10.50m 1000m 0.01m 10m"},
		{"APL", "1:192.0.2.0/24 !2:2001:db8::/32", "1:192.0.2.0/24 !2:2001:db8::/32"},
		{"IPSECKEY", "10 0 2 .", "10 0 2 ."},
		{"AMTRELAY", "10 1 2 2001:DB8::1", "10 1 2 2001:db8::1"},
		{"WKS", "192.0.2.1 tcp smtp 53 http", "192.0.2.1 6 25 53 80"},
		{"HTTPS", "1 . port=8443 alpn=h2,h3", "1 . alpn=h2,h3 port=8443"},
		{"HTTPS", `1 . alpn="h2,h3" no-default-alpn`, "1 . alpn=h2,h3 no-default-alpn"},
		{"SVCB", `1 a.example. key700="two words"`, `1 a.example. key700="two words"`},
		{"SVCB", "1 . mandatory=port,alpn alpn=h2 port=1", "1 . mandatory=alpn,port alpn=h2 port=1"},
		{"TLSA", "DANE-EE SPKI SHA2-256 AB", "3 1 1 ab"},
		{"CERT", "PKIX 1 RSASHA256 AQID", "1 1 8 AQID"},
		{"DSYNC", "CDS 1 5300 ns.example.", "CDS NOTIFY 5300 ns.example."},
		{"NSEC3", "1 1 0 - 2VPTU5TIMAMQTTGL4LUU9KG21E0AOR3S", "1 1 0 - 2vptu5timamqttgl4luu9kg21e0aor3s"},
		{"NSEC3PARAM", "1 0 12 AABBCCDD", "1 0 12 aabbccdd"},
		{"EUI48", "00-00-5E-00-53-2A", "00-00-5e-00-53-2a"},
		{"L64", "10 2001:db8:1140:1", "10 2001:0db8:1140:0001"},
		{"NSAP", "0x47.0005.80", "0x47000580"},
		{"A6", "64 ::1:2:3:4 pre.example.", "64 ::1:2:3:4 pre.example."},
		{"A6", "0 2001:db8::1", "0 2001:db8::1"},
		{"A6", "128 pre.example.", "128 pre.example."},
		{"ISDN", "150862028003217 004", `"150862028003217" "004"`},
		{"NXT", "b.example. A MX", "b.example. A MX"},
		{"DOA", `1 2 3 "text/plain" -`, `1 2 3 "text/plain" -`},
		{"IPN", "18446744073709551615", "18446744073709551615"},
		{"URI", `10 1 "https://example/"`, `10 1 "https://example/"`},
		{"KEY", "256 3 0", "256 3 0"},
	} {
		typ := typeOf(t, c.typ)
		data, err := parse(typ, c.in)
		if err != nil {
			t.Errorf("%s %s: %v", c.typ, c.in, err)
			continue
		}
		if got := rr.DataText(typ, data); got != c.out {
			t.Errorf("%s %s prints as %s, want %s", c.typ, c.in, got, c.out)
		}
	}
}

// Each mistake names its rule and the word.
func TestKindErrors(t *testing.T) {
	for _, c := range []struct {
		typ, in, code string
		token         int
	}{
		{"LOC", "91 N 0 E 0m", "bad-location", 0},
		{"LOC", "90 0 1 N 0 E 0m", "bad-location", 3},
		{"LOC", "1 2 3 4 N 0 E 0m", "bad-location", 3},
		{"LOC", "N 0 E 0m", "bad-location", 0},
		{"LOC", "1 N 181 E 0m", "bad-location", 2},
		{"LOC", "1 N 1 E", "missing-field", 4},
		{"LOC", "1 N 1 E 43000000m", "bad-location", 4},
		{"LOC", "1 N 1 E 0m -1m", "bad-location", 5},
		{"LOC", "1 N 1 E 0m 1m 1m 1m 1m", "extra-field", 8},
		{"LOC", "1.5 N 1 E 0m", "bad-location", 0},
		{"APL", "1:192.0.2.0/33", "bad-prefix", 0},
		{"APL", "2:192.0.2.0/24", "bad-prefix", 0},
		{"APL", "1:192.0.2.0", "bad-prefix", 0},
		{"IPSECKEY", "10 1 2", "missing-field", 3},
		{"IPSECKEY", "10 4 2 .", "bad-number", 1},
		{"IPSECKEY", "10 2 2 192.0.2.1", "bad-address", 3},
		{"AMTRELAY", "10 2 0 .", "bad-number", 1},
		{"HIP", "2 20 key", "bad-base64", 2},
		{"HIP", "2 zz AAAA", "bad-hex", 1},
		{"WKS", "192.0.2.1 FOO 25", "bad-word", 1},
		{"WKS", "192.0.2.1 TCP nosuch", "bad-number", 2},
		{"TLSA", "DANE-EEE 1 1 ab", "bad-word", 0},
		{"CERT", "PGPP 1 8 AQID", "bad-word", 0},
		{"NSEC3", "1 0 0 - w", "bad-hash", 4},
		{"NSEC3", "1 0 0 abc 2vptu5timamqttgl4luu9kg21e0aor3s", "bad-hex", 3},
		{"ZONEMD", "1 1 1 abcd", "bad-hex", 3},
		{"EUI64", "00-00-5e-ef-10-00-00", "bad-hex", 0},
		{"NID", "10 1:2:3:4:5", "bad-hex", 1},
		{"NID", "10 1:2::4", "bad-hex", 1},
		{"NSAP", "47.0005", "bad-hex", 0},
		{"IPN", "18446744073709551616", "bad-number", 0},
		{"IPN", "+1", "bad-number", 0},
		{"A6", "129 ::1 a.", "bad-number", 0},
		{"A6", "64 ::1", "missing-field", 2},
		{"NXT", "b. TYPE128", "bad-type-name", 1},
		{"URI", `1 1 ""`, "missing-field", 2},
		{"HTTPS", "1 . alpn", "bad-service-parameter", 2},
		{"HTTPS", "1 . prot=1", "bad-service-parameter", 2},
		{"HTTPS", "1 . ohttp=1", "bad-service-parameter", 2},
		{"HTTPS", `1 . "alpn=h2"`, "bad-service-parameter", 2},
		{"HTTPS", "1 . ipv4hint=2001:db8::1", "bad-service-parameter", 2},
		{"HTTPS", "1 . ipv6hint=192.0.2.1", "bad-service-parameter", 2},
		{"HTTPS", "1 . port=1 port=2", "bad-service-parameter", 3},
		{"HTTPS", "1 . mandatory=nosuch", "bad-service-parameter", 2},
		{"HTTPS", "1", "missing-field", 1},
		{"NULL", "abc", "bad-generic-data", 0},
		{"X25", `"a" "b"`, "extra-field", 1},
		{"GPOS", "1 2", "missing-field", 2},
		{"SRV", `1 2 3 "web"`, "quoted-field", 3},
	} {
		data, err := parse(typeOf(t, c.typ), c.in)
		if err == nil {
			t.Errorf("%s %s was read as %x", c.typ, c.in, data)
			continue
		}
		if err.Rule.Code != c.code || err.Token != c.token {
			t.Errorf("%s %s: %s at word %d (%s), want %s at %d", c.typ, c.in, err.Rule.Code, err.Token, err.Message, c.code, c.token)
		}
	}
}

// Octets that are no data of their type are printed in the generic form and
// refused in messages.
func TestMalformedData(t *testing.T) {
	for _, c := range []struct {
		typ  string
		data []byte
	}{
		{"LOC", make([]byte, 15)},
		{"LOC", append([]byte{1}, make([]byte, 15)...)},                                         // version 1
		{"LOC", []byte{0, 0x05, 0, 0, 0x80, 0, 0, 0, 0x80, 0, 0, 0, 0, 0, 0, 0}},                // zero times 10^5
		{"LOC", []byte{0, 0xa0, 0, 0, 0x80, 0, 0, 0, 0x80, 0, 0, 0, 0, 0, 0, 0}},                // ten times
		{"LOC", []byte{0, 0x10, 0x10, 0x10, 0xff, 0xff, 0xff, 0xff, 0x80, 0, 0, 0, 0, 0, 0, 0}}, // beyond the pole
		{"APL", []byte{0, 1, 24, 2, 192, 0}},                                                    // a trailing zero
		{"APL", []byte{0, 3, 24, 2, 192}},                                                       // cut off
		{"IPSECKEY", []byte{1, 4, 2}},                                                           // no such gateway type
		{"HIP", []byte{0, 2, 0, 1, 1}},                                                          // no tag
		{"A6", []byte{129}},                                                                     // no such length
		{"A6", append([]byte{0}, append(make([]byte, 16), 0)...)},                               // a name, though the prefix is empty
		{"NSEC3", []byte{1, 0, 0, 0, 0, 0}},                                                     // an empty hash
		{"WKS", []byte{192, 0, 2, 1, 6, 0}},                                                     // a trailing zero
		{"NXT", []byte{0, 0x80}},                                                                // the first bit
		{"SVCB", []byte{0, 1, 0, 0, 3, 0, 1, 0}},                                                // a port of one octet
		{"SVCB", []byte{0, 1, 0, 0, 0, 0, 2, 0, 1}},                                             // mandatory and absent
		{"SVCB", []byte{0, 1, 0, 0, 1, 0, 0}},                                                   // a list of no protocols
		{"HINFO", []byte{1, 'a'}},
		{"ZONEMD", make([]byte, 17)},
	} {
		typ := typeOf(t, c.typ)
		if rr.Validate(typ, c.data) == nil {
			t.Errorf("%s %x is accepted", c.typ, c.data)
		}
		if text := rr.DataText(typ, c.data); !strings.HasPrefix(text, `\# `) {
			t.Errorf("%s %x prints as %s", c.typ, c.data, text)
		}
		if _, err := rr.AppendUnpack(nil, c.data, 0, len(c.data), typ); err == nil {
			t.Errorf("%s %x is taken from a message", c.typ, c.data)
		}
	}
}

func TestTargets(t *testing.T) {
	for name, want := range map[string]string{"MX": "1h", "SRV": "3h", "CNAME": "0", "NS": "0h", "HTTPS": "1h", "RP": "1", "PX": "1 2", "NAPTR": "5", "KX": "1h",
		"SOA": "", "A": "", "NSEC": "", "RRSIG": "", "TXT": "", "DNAME": "0", "MINFO": "", "AFSDB": "1h"} {
		var got []string
		for _, target := range rr.Lookup(typeOf(t, name)).Targets() {
			s := string(rune('0' + target.Word))
			if target.Host {
				s += "h"
			}
			got = append(got, s)
		}
		if s := strings.Join(got, " "); s != want {
			t.Errorf("%s: %q, want %q", name, s, want)
		}
	}
}

// A reader of record data never panics, and what it reads it prints and reads
// again.
func FuzzData(f *testing.F) {
	for _, s := range []string{"42 21 54 N 71 06 18 W -24m 30m", "1:192.0.2.0/24 !1:192.0.2.64/28", "10 3 2 gw.example. AQID", "2 2001 AQID a.example.",
		`16 foo.example. alpn="f\\\\oo\\,bar,h2" port=53 key99=x`, "1 1 12 aabbccdd 2vptu5timamqttgl4luu9kg21e0aor3s MX", "192.0.2.1 TCP 25", `\# 3 abcdef`} {
		for _, info := range rr.Table() {
			if len(info.Fields) > 0 && len(info.Fields) < 4 {
				f.Add(uint16(info.Type), s)
				break
			}
		}
		f.Add(uint16(rr.TypeLOC), s)
		f.Add(uint16(rr.TypeHTTPS), s)
		f.Add(uint16(45), s)
		f.Add(uint16(42), s)
	}
	f.Fuzz(func(t *testing.T, n uint16, text string) {
		typ := rr.Type(n)
		data, err := parse(typ, text)
		if err != nil {
			if err.Rule == nil || err.Token < 0 || err.Token > len(words(text)) {
				t.Fatalf("%s %q: %+v", typ, text, err)
			}
			return
		}
		if err := rr.Validate(typ, data); err != nil {
			t.Fatalf("%s %q is read as %x: %v", typ, text, data, err)
		}
		printed := rr.DataText(typ, data)
		again, err := parse(typ, printed)
		if err != nil || !bytes.Equal(again, data) {
			t.Fatalf("%s %q is %x, prints as %s, which reads as %x, %v", typ, text, data, printed, again, err)
		}
	})
}

// Places that were copied from a map are refused with the form that a record wants.
func TestLocationAdvice(t *testing.T) {
	for word, want := range map[string]string{`53°12'30"`: "write 53 12 30 and N or S", `53°12'30"N`: "write 53 12 30 N", "+53.5": "write 53 30 0.000 N", "-53.25": "write 53 15 0.000 S", "53.5N": "write 53 30 0.000 N",
		"53.5": "write 53 30 0.000 and N or S", "north": "write degrees, minutes and seconds with N or S after them, such as 42 21 54 N", "-": "write degrees, minutes and seconds with N or S after them, such as 42 21 54 N", "+999": "write degrees, minutes and seconds with N or S after them, such as 42 21 54 N"} {
		var p rr.Parser
		_, err := p.Data(nil, rr.TypeLOC, []rr.Token{{Text: []byte(word)}, {Text: []byte("6")}})
		if err == nil || err.Suggestion != want {
			t.Errorf("%s: %+v, want %q", word, err, want)
		}
	}
}

// Prefixes of a family whose addresses are not known here are written in the generic form, and read again.
func TestUnknownFamily(t *testing.T) {
	apl := typeOf(t, "APL")
	for _, data := range [][]byte{{0, 3, 24, 1, 192}, {0, 1, 8, 1, 10, 0, 3, 0, 0}, {0, 0, 255, 0x80}} {
		if err := rr.Validate(apl, data); err != nil {
			t.Errorf("%x: %v", data, err)
		}
		if text, want := rr.DataText(apl, data), fmt.Sprintf(`\# %d %X`, len(data), data); !strings.EqualFold(text, want) {
			t.Errorf("%x prints as %s, want %s", data, text, want)
		}
	}
}
