package message

import (
	"encoding/binary"
	"testing"

	"fencepost/rr"
)

// What requests may not have, or have twice, and what is known of them all the same.
func TestParseQueryStrictly(t *testing.T) {
	const (
		tides = "\x05tides\x07example\x00"
		cook  = "\x00\x0a\x00\x08abcdefgh"
	)
	question := func(typ rr.Type) string { return tides + string([]byte{0, byte(typ), 0, 1}) }
	opt := func(options string) string {
		return "\x00\x00\x29\x04\xd0\x00\x00\x80\x00" + string(binary.BigEndian.AppendUint16(nil, uint16(len(options)))) + options
	}
	soa := func(owner string) string {
		data := "\x00\x00" + "\x00\x00\x00\x07" + "\x00\x00\x00\x01\x00\x00\x00\x01\x00\x00\x00\x01\x00\x00\x00\x01"
		return owner + "\x00\x06\x00\x01\x00\x00\x00\x00" + string(binary.BigEndian.AppendUint16(nil, uint16(len(data)))) + data
	}
	tsig := "\x01k\x00\x00\xfa\x00\xff\x00\x00\x00\x00\x00\x00"
	message := func(opcode byte, counts [4]byte, body string) []byte {
		return append([]byte{1, 2, opcode << 3, 0, 0, counts[0], 0, counts[1], 0, counts[2], 0, counts[3]}, body...)
	}
	for _, c := range []struct {
		what    string
		msg     []byte
		verdict Verdict
		code    Rcode
		edns    bool
		cookie  string
	}{
		{"a question", message(0, [4]byte{1, 0, 0, 1}, question(rr.TypeA)+opt("")), Answer, NoError, true, ""},
		{"two cookies, the first counts", message(0, [4]byte{1, 0, 0, 1}, question(rr.TypeA)+opt(cook+"\x00\x0a\x00\x03abc")), Answer, NoError, true, "abcdefgh"},
		{"and the first is malformed", message(0, [4]byte{1, 0, 0, 1}, question(rr.TypeA)+opt("\x00\x0a\x00\x03abc"+cook)), Respond, FormErr, true, "abc"},
		{"two OPT records", message(0, [4]byte{1, 0, 0, 2}, question(rr.TypeA)+opt("")+opt("")), Respond, FormErr, true, ""},
		{"an OPT record with a name", message(0, [4]byte{1, 0, 0, 1}, question(rr.TypeA)+"\x01x"+opt("")), Respond, FormErr, false, ""},
		{"OPT in the answer section", message(0, [4]byte{1, 1, 0, 0}, question(rr.TypeA)+opt("")), Respond, FormErr, false, ""},
		{"an option that is cut off", message(0, [4]byte{1, 0, 0, 1}, question(rr.TypeA)+opt("\x00\x03\x00\x09abc")), Respond, FormErr, true, ""},
		{"half an option", message(0, [4]byte{1, 0, 0, 1}, question(rr.TypeA)+opt("\x00\x03\x00")), Respond, FormErr, true, ""},
		{"a record that is cut off", message(0, [4]byte{1, 0, 0, 1}, question(rr.TypeA)+"\x00\x00\x29\x04"), Respond, FormErr, false, ""},
		{"fewer records than the header says", message(0, [4]byte{1, 0, 0, 1}, question(rr.TypeA)), Respond, FormErr, false, ""},
		{"no question", message(0, [4]byte{0, 0, 0, 1}, opt("")), Respond, FormErr, true, ""},
		{"two questions with EDNS", message(0, [4]byte{2, 0, 0, 1}, question(rr.TypeA)+question(rr.TypeA)+opt("")), Respond, FormErr, true, ""},
		{"two questions without", message(0, [4]byte{2, 0, 0, 0}, question(rr.TypeA)+question(rr.TypeA)), Respond, FormErr, false, ""},
		{"an opcode that is not known, with EDNS", message(2, [4]byte{1, 0, 0, 1}, question(rr.TypeA)+opt("")), Respond, NotImp, true, ""},
		{"one of whose message nothing can be read", message(2, [4]byte{9, 9, 9, 9}, "\xff"), Respond, NotImp, false, ""},
		{"TSIG in the answer section", message(0, [4]byte{1, 1, 0, 0}, question(rr.TypeA)+tsig), Respond, FormErr, false, ""},
		{"TSIG in the authority section", message(0, [4]byte{1, 0, 1, 0}, question(rr.TypeA)+tsig), Respond, FormErr, false, ""},
		{"IXFR", message(0, [4]byte{1, 0, 1, 0}, question(rr.TypeIXFR)+soa("\xc0\x0c")), Answer, NoError, false, ""},
		{"IXFR, its name in capitals", message(0, [4]byte{1, 0, 1, 0}, question(rr.TypeIXFR)+soa("\x05TIDES\x07example\x00")), Answer, NoError, false, ""},
		{"IXFR of another zone's version", message(0, [4]byte{1, 0, 1, 0}, question(rr.TypeIXFR)+soa("\x04reef\xc0\x12")), Respond, FormErr, false, ""},
	} {
		var q Query
		verdict, code := ParseQuery(c.msg, &q)
		if verdict != c.verdict || code != c.code || q.HasEDNS != c.edns || string(q.Cookie) != c.cookie {
			t.Errorf("%s: %v %s, EDNS %v, cookie %q; want %v %s, %v, %q", c.what, verdict, code, q.HasEDNS, q.Cookie, c.verdict, c.code, c.edns, c.cookie)
		}
	}
}
