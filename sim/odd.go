package sim

import (
	"encoding/binary"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
)

// oddity is what a server does about questions, or answers, that it should treat like others
// (RFC 8906 §3). Over UDP alone.
type oddity struct {
	// deaf reports whether it does not hear a question.
	deaf func(msg []byte, q *message.Query) bool
	// hears is the question as it hears it; msg may be changed.
	hears func(msg []byte) []byte
	// refuses reports whether it takes a question for malformed.
	refuses func(msg []byte) bool
	// says is the answer as it sends it.
	says func(out, msg []byte, q *message.Query) []byte
}

var oddities = map[Kind]oddity{
	DropsTypes:   {deaf: func(msg []byte, q *message.Query) bool { return msg[2]>>3&15 == 0 && rr.Lookup(q.Type) == nil }},
	DropsOpcodes: {deaf: func(msg []byte, _ *message.Query) bool { return msg[2]>>3&15 > byte(message.OpUpdate) }},
	DropsFlags:   {deaf: func(msg []byte, _ *message.Query) bool { return msg[3]&0x70 != 0 }},
	DropsRD:      {deaf: func(msg []byte, _ *message.Query) bool { return msg[2]&1 != 0 }},
	EchoesFlag: {says: func(out, msg []byte, _ *message.Query) []byte {
		out[3] |= msg[3] & 0x40
		return out
	}},
	ChangesCase: {says: func(out, _ []byte, q *message.Query) []byte {
		if len(out) >= message.HeaderLen+len(q.Name) {
			copy(out[message.HeaderLen:], dnsname.AppendLower(nil, q.Name))
		}
		return out
	}},
	AddsEDNS: {says: func(out, _ []byte, q *message.Query) []byte {
		if !q.HasEDNS {
			out[11]++
			out = append(out, 0, 0, byte(rr.TypeOPT), 4, 0xd0, 0, 0, 0, 0, 0, 0)
		}
		return out
	}},
	AnyVersion: {hears: func(msg []byte) []byte {
		if at := optAt(msg); at >= 0 {
			msg[at+6] = 0
		}
		return msg
	}},
	NoOptions: {refuses: func(msg []byte) bool {
		at := optAt(msg)
		return at >= 0 && binary.BigEndian.Uint16(msg[at+9:]) > 0
	}},
	EchoesOptions: {says: func(out, msg []byte, _ *message.Query) []byte {
		asked, at := optAt(msg), optAt(out)
		if asked < 0 || at < 0 || len(out) != at+11+int(binary.BigEndian.Uint16(out[at+9:])) {
			return out
		}
		options := msg[asked+11 : asked+11+int(binary.BigEndian.Uint16(msg[asked+9:]))]
		binary.BigEndian.PutUint16(out[at+9:], binary.BigEndian.Uint16(out[at+9:])+uint16(len(options)))
		return append(out, options...)
	}},
	EchoesEDNS: {says: func(out, msg []byte, _ *message.Query) []byte {
		if asked, at := optAt(msg), optAt(out); asked >= 0 && at >= 0 {
			out[at+7], out[at+8] = out[at+7]|msg[asked+7], out[at+8]|msg[asked+8]
		}
		return out
	}},
	ForgetsDO: {says: func(out, _ []byte, _ *message.Query) []byte {
		if at := optAt(out); at >= 0 {
			out[at+7] &^= 0x80
		}
		return out
	}},
	CutsEDNS: {says: func(out, _ []byte, _ *message.Query) []byte {
		if at := optAt(out); at >= 0 && out[2]&0x02 != 0 {
			out[11]--
			out = out[:at]
		}
		return out
	}},
	FailsMissing: {says: func(out, _ []byte, _ *message.Query) []byte {
		if out[3]&15 == byte(message.NXDomain) {
			out[3] = out[3]&0xf0 | byte(message.ServFail)
		}
		return out
	}},
	Overfills: {hears: func(msg []byte) []byte {
		if at := optAt(msg); at >= 0 {
			binary.BigEndian.PutUint16(msg[at+3:], 4096)
		}
		return msg
	}},
}

// oddly is a question as a server with faults hears it. heard is false where it does not, and
// refused is what it says to one that it takes for malformed.
func oddly(msg []byte, q *message.Query, faults map[Kind]*Fault) (as, refused []byte, heard bool) {
	for k := range faults {
		o := oddities[k]
		switch {
		case o.deaf != nil && o.deaf(msg, q):
			return msg, nil, false
		case o.refuses != nil && o.refuses(msg):
			return msg, bare(msg, message.FormErr, 0), true
		case o.hears != nil:
			msg = o.hears(append([]byte(nil), msg...))
		}
	}
	return msg, nil, true
}

// oddAnswer is an answer as a server with faults sends it.
func oddAnswer(out, msg []byte, q *message.Query, faults map[Kind]*Fault) []byte {
	for k := range faults {
		if o := oddities[k]; o.says != nil {
			out = o.says(out, msg, q)
		}
	}
	return out
}

// optAt is where the OPT record of a message begins; -1: there is none.
func optAt(msg []byte) int {
	off, err := message.AfterQuestions(msg)
	if err != nil {
		return -1
	}
	h := message.ParseHeader(msg)
	var it message.Records
	it.Reset(msg, off, int(h.Counts[1])+int(h.Counts[2])+int(h.Counts[3]))
	for it.Next() {
		if it.Type == rr.TypeOPT {
			return it.Start
		}
	}
	return -1
}

// nextSerial raises the serial of a SOA that an answer begins with: its last five fields are
// four octets each (RFC 1035 §3.3.13).
func nextSerial(out []byte) {
	off, err := message.AfterQuestions(out)
	if err != nil {
		return
	}
	h := message.ParseHeader(out)
	var it message.Records
	it.Reset(out, off, int(h.Counts[1])+int(h.Counts[2])+int(h.Counts[3]))
	if h.Counts[1] == 0 || !it.Next() || it.Type != rr.TypeSOA {
		return
	}
	end := len(out)
	if it.Next() {
		end = it.Start
	}
	binary.BigEndian.PutUint32(out[end-20:], binary.BigEndian.Uint32(out[end-20:])+1)
}
