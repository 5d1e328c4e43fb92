package message

import (
	"cmp"

	"fencepost/dnsname"
	"fencepost/rr"
)

// Query is a request as a server needs it: slices into the message, no copies.
type Query struct {
	Header
	Name     []byte // QNAME in wire form, case as asked
	Type     rr.Type
	Class    rr.Class
	Question []byte // the octets of the question section

	HasEDNS bool
	UDPSize int // what the client takes over UDP, at least 512
	Version uint8
	DO      bool

	TSIG int // offset of the TSIG record, 0 if there is none

	// WantsExpire is set by an EXPIRE option (RFC 7314).
	WantsExpire bool
	// Cookie is the data of the first COOKIE option, of a length that is allowed (RFC 7873
	// §5.2); nil: there is none. WantsNSID and Keepalive are set by options without data
	// (RFC 5001 §2.1, RFC 7828 §3.2.1).
	Cookie    []byte
	WantsNSID bool
	Keepalive bool
	// WantsAddress is set by an OptionAddress.
	WantsAddress bool
	// WantsVersion is set by an empty ZONEVERSION option (RFC 9660), and WantsPadding by a
	// PADDING option, whatever stands in it (RFC 7830 §4).
	WantsVersion bool
	WantsPadding bool
	// PadTo is set by whoever answers: the response has a multiple of so many octets; 0 for none.
	PadTo int

	// For NOTIFY the serial of a SOA in the answer section, for IXFR that of one in the
	// authority section.
	HasSerial bool
	Serial    uint32
	// Authority counts the records of the authority section (RFC 1995 §3).
	Authority int
}

// Verdict says what to do with a request.
type Verdict uint8

// The verdicts of ParseQuery.
const (
	Drop    Verdict = iota // no answer: too short, or itself an answer
	Answer                 // well-formed
	Respond                // answer with the code that ParseQuery returns
)

// MinUDP is what every client takes over UDP (RFC 1035 §4.2.1).
const MinUDP = 512

// ParseQuery reads a request. With Respond, q holds what could be read and
// code is the response code to send (RFC 8906 §2: nothing readable is left
// without an answer).
func ParseQuery(msg []byte, q *Query) (v Verdict, code Rcode) {
	*q = Query{UDPSize: MinUDP}
	if len(msg) < HeaderLen {
		return Drop, 0
	}
	q.Header = ParseHeader(msg)
	if q.Flags&FlagQR != 0 {
		return Drop, 0
	}
	if !taken[q.Opcode()] {
		q.findOPT(msg)
		return Respond, NotImp
	}
	off, ok := HeaderLen, true
	switch {
	case q.Counts[0] == 1:
		if off, ok = q.question(msg); !ok {
			return Respond, FormErr
		}
	case q.Counts[0] != 0 || q.Opcode() != OpQuery: // without a question somebody may want a cookie
		q.findOPT(msg)
		return Respond, FormErr
	}
	for section := 1; section < 4; section++ {
		for range q.Counts[section] {
			next, code, ok := q.record(msg, off, section)
			if !ok {
				return Respond, code
			}
			off = next
		}
	}
	if off != len(msg) {
		return Respond, FormErr
	}
	q.Authority = int(q.Counts[2])
	switch {
	case q.HasEDNS && q.Version != 0:
		return Respond, BadVers
	case q.Counts[0] == 0 && q.Cookie == nil:
		return Respond, FormErr
	case q.Counts[0] == 0: // RFC 7873 §5.4
		return Respond, NoError
	}
	return Answer, NoError
}

// taken are the opcodes that are done.
var taken = [16]bool{OpQuery: true, OpNotify: true, OpUpdate: true}

// question reads the only question. Its name cannot be compressed, for there
// is nothing before it to point to.
func (q *Query) question(msg []byte) (off int, ok bool) {
	n, err := dnsname.WireLen(msg[HeaderLen:])
	if err != nil {
		return 0, false
	}
	off = HeaderLen + n
	if off+4 > len(msg) {
		return 0, false
	}
	q.Name = msg[HeaderLen:off]
	q.Type, q.Class = rr.Type(be16(msg[off:])), rr.Class(be16(msg[off+2:]))
	q.Question = msg[HeaderLen : off+4]
	return off + 4, true
}

func (q *Query) record(msg []byte, off, section int) (next int, code Rcode, ok bool) {
	start := off
	root := off < len(msg) && msg[off] == 0
	off, ok = skipName(msg, off)
	if !ok || off+10 > len(msg) || q.TSIG != 0 { // TSIG is the last record (RFC 8945 §5.1)
		return 0, FormErr, false
	}
	t := rr.Type(be16(msg[off:]))
	n := int(be16(msg[off+8:]))
	next = off + 10 + n
	if next > len(msg) {
		return 0, FormErr, false
	}
	switch {
	case t == rr.TypeOPT:
		if section != 3 || !root || q.HasEDNS {
			return 0, FormErr, false
		}
		q.HasEDNS = true
		q.UDPSize = max(int(be16(msg[off+2:])), MinUDP)
		q.Version = msg[off+5]
		q.DO = msg[off+6]&0x80 != 0
		if !q.options(msg[off+10 : next]) { // the answer has OPT all the same (RFC 6891 §7)
			return 0, FormErr, false
		}
	case t == rr.TypeTSIG:
		if section != 3 {
			return 0, FormErr, false
		}
		q.TSIG = start
	case t == rr.TypeSOA && n >= 22 && (section == 1 || section == 2 && q.Type == rr.TypeIXFR):
		if section == 2 && !q.namedAt(msg, start) { // the version is one of the zone (RFC 1995 §3)
			return 0, FormErr, false
		}
		q.HasSerial, q.Serial = true, be32(msg[next-20:])
	}
	return next, NoError, true
}

// namedAt reports whether the name at an offset of the message is that of the question.
func (q *Query) namedAt(msg []byte, off int) bool {
	name, _, err := unpackName(msg, off)
	return err == nil && dnsname.EqualWire([]byte(name.Wire()), string(q.Name))
}

// findOPT looks whether a request has an OPT record that is answered before it is read: responses to
// requests with EDNS have EDNS (RFC 6891 §7).
func (q *Query) findOPT(msg []byte) {
	off, err := AfterQuestions(msg)
	if err != nil {
		return
	}
	for section := 1; section < 4; section++ {
		for range q.Counts[section] {
			next, _, ok := q.record(msg, off, section)
			if !ok {
				return
			}
			off = next
		}
	}
}

// skipName is the offset after the name at off, which may end in a pointer.
func skipName(msg []byte, off int) (int, bool) {
	for off < len(msg) {
		c := int(msg[off])
		switch {
		case c == 0:
			return off + 1, true
		case c >= 0xc0:
			return off + 2, off+2 <= len(msg)
		case c > dnsname.MaxLabel:
			return 0, false
		}
		off += 1 + c
	}
	return 0, false
}

// QueryOptions say how a request is written.
type QueryOptions struct {
	ID      uint16
	Opcode  Opcode
	RD      bool
	EDNS    bool
	UDPSize uint16
	Class   rr.Class // 0 is IN
	DO      bool
	CD      bool
	// SOA is the data of the SOA of the version that an IXFR begins at, for the authority
	// section (RFC 1995 §3); nil puts none there.
	SOA []byte
	// Expire asks how long the zone may still be served (RFC 7314 §4). It takes EDNS.
	Expire bool
	// Options are further EDNS options; they take EDNS.
	Options []Option
	// Pad fills the request up to a multiple of so many octets (RFC 8467 §4.1); 0 does not.
	Pad int
}

// AppendQuery appends a request for one question.
func AppendQuery(dst []byte, name dnsname.Name, t rr.Type, o QueryOptions) []byte {
	flags := uint16(o.Opcode) << 11
	if o.RD {
		flags |= FlagRD
	}
	if o.CD {
		flags |= FlagCD
	}
	if o.Opcode == OpNotify {
		flags |= FlagAA // RFC 1996 §3.3
	}
	at := len(dst)
	dst = append(dst, byte(o.ID>>8), byte(o.ID), byte(flags>>8), byte(flags), 0, 1, 0, 0, 0, 0, 0, 0)
	if o.EDNS {
		dst[len(dst)-1] = 1
	}
	dst = name.AppendWire(dst)
	class := cmp.Or(o.Class, rr.ClassIN)
	dst = append(dst, byte(t>>8), byte(t), byte(class>>8), byte(class))
	if o.SOA != nil {
		dst[at+9] = 1
		n := len(o.SOA)
		dst = append(dst, 0xc0, HeaderLen, byte(rr.TypeSOA>>8), byte(rr.TypeSOA), 0, byte(rr.ClassIN), 0, 0, 0, 0, byte(n>>8), byte(n))
		dst = append(dst, o.SOA...)
	}
	if o.EDNS {
		dst = appendOPT(dst, o.UDPSize, 0, o.DO)
		dst = o.appendOptions(dst, at)
	}
	return dst
}

// appendOptions appends the options behind an OPT record that was appended just now; the
// message begins at at.
func (o *QueryOptions) appendOptions(dst []byte, at int) []byte {
	end := len(dst)
	if o.Expire {
		dst = append(dst, 0, OptionExpire, 0, 0)
	}
	for _, x := range o.Options {
		dst = append(dst, byte(x.Code>>8), byte(x.Code), byte(len(x.Data)>>8), byte(len(x.Data)))
		dst = append(dst, x.Data...)
	}
	if o.Pad > 0 {
		const head = 4
		n := (o.Pad - (len(dst)-at+head)%o.Pad) % o.Pad
		dst = append(dst, 0, OptionPadding, byte(n>>8), byte(n))
		dst = append(dst, make([]byte, n)...)
	}
	n := len(dst) - end
	dst[end-2], dst[end-1] = byte(n>>8), byte(n)
	return dst
}

func appendOPT(dst []byte, size uint16, ext Rcode, do bool) []byte {
	var flags byte
	if do {
		flags = 0x80
	}
	return append(dst, 0, 0, byte(rr.TypeOPT), byte(size>>8), byte(size), byte(ext>>4), 0, flags, 0, 0, 0)
}

// FindTSIG is the offset of the TSIG record at the end of a message, 0 if its
// last record is none.
func FindTSIG(msg []byte) (int, error) {
	off, err := AfterQuestions(msg)
	if err != nil {
		return 0, err
	}
	h := ParseHeader(msg)
	last, t := 0, rr.Type(0)
	for range int(h.Counts[1]) + int(h.Counts[2]) + int(h.Counts[3]) {
		last = off
		next, ok := skipName(msg, off)
		if !ok || next+10 > len(msg) {
			return 0, ErrShort
		}
		t = rr.Type(be16(msg[next:]))
		off = next + 10 + int(be16(msg[next+8:]))
		if off > len(msg) {
			return 0, ErrShort
		}
	}
	if t != rr.TypeTSIG || h.Counts[3] == 0 { // elsewhere it signs nothing (RFC 8945 §5.2)
		return 0, nil
	}
	return last, nil
}
