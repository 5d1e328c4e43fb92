// Package message reads and writes DNS messages (RFC 1035 §4, RFC 6891).
//
// A server reads requests with ParseQuery and writes responses with a Builder;
// neither allocates. A client takes a whole message apart with Decode. Nothing
// here knows zones or sockets.
package message

import (
	"errors"
	"fmt"

	"fencepost/dnsname"
	"fencepost/rr"
)

// HeaderLen is the length of a message header in octets.
const HeaderLen = 12

// MaxLen is the most octets a message can have over TCP.
const MaxLen = 65535

// Bits of the header's third and fourth octets, as a 16-bit number.
const (
	FlagQR uint16 = 1 << 15
	FlagAA uint16 = 1 << 10
	FlagTC uint16 = 1 << 9
	FlagRD uint16 = 1 << 8
	FlagRA uint16 = 1 << 7
	FlagAD uint16 = 1 << 5
	FlagCD uint16 = 1 << 4
)

// Header is the fixed part of a message.
type Header struct {
	ID     uint16
	Flags  uint16 // opcode and response code included
	Counts [4]uint16
}

// Opcode is the kind of request.
func (h Header) Opcode() Opcode { return Opcode(h.Flags >> 11 & 0xf) }

// Rcode is the response code without the bits that EDNS adds.
func (h Header) Rcode() Rcode { return Rcode(h.Flags & 0xf) }

// ParseHeader reads the header; msg has at least HeaderLen octets.
func ParseHeader(msg []byte) (h Header) {
	h.ID, h.Flags = be16(msg), be16(msg[2:])
	for i := range h.Counts {
		h.Counts[i] = be16(msg[4+2*i:])
	}
	return h
}

// Question is what is asked.
type Question struct {
	Name  dnsname.Name
	Type  rr.Type
	Class rr.Class
}

// EDNS is what an OPT record says (RFC 6891 §6.1.2).
type EDNS struct {
	UDPSize uint16
	Version uint8
	DO      bool
	Options []Option
}

// Option is one EDNS option.
type Option struct {
	Code uint16
	Data []byte
}

// Message is a whole message taken apart. The OPT record is in EDNS and not in
// Additional; a TSIG record stays in Additional.
type Message struct {
	Header
	ExtendedRcode                 Rcode
	Question                      []Question
	Answer, Authority, Additional []rr.Record
	EDNS                          *EDNS
	Len                           int // octets on the wire
	Trailing                      int // octets after the last record
}

// Errors of messages that cannot be read.
var (
	ErrShort = errors.New("the message is cut off")
	ErrOPT   = errors.New("more than one OPT record, or one with an owner")
)

// Decode takes a message apart. What could be read comes back with the error.
func Decode(msg []byte) (*Message, error) {
	if len(msg) < HeaderLen {
		return nil, ErrShort
	}
	m := &Message{Header: ParseHeader(msg), Len: len(msg)}
	m.ExtendedRcode = m.Rcode()
	off := HeaderLen
	for range m.Counts[0] {
		name, next, err := unpackName(msg, off)
		if err != nil {
			return m, fmt.Errorf("question: %w", err)
		}
		if next+4 > len(msg) {
			return m, ErrShort
		}
		m.Question = append(m.Question, Question{name, rr.Type(be16(msg[next:])), rr.Class(be16(msg[next+2:]))})
		off = next + 4
	}
	sections := [3]*[]rr.Record{&m.Answer, &m.Authority, &m.Additional}
	for i, section := range sections {
		for range m.Counts[i+1] {
			rec, next, err := unpackRecord(msg, off)
			if err != nil {
				return m, fmt.Errorf("record at octet %d: %w", off, err)
			}
			off = next
			if rec.Type == rr.TypeOPT {
				if err := m.takeOPT(rec); err != nil {
					return m, err
				}
				continue
			}
			*section = append(*section, rec)
		}
	}
	m.Trailing = len(msg) - off
	return m, nil
}

func (m *Message) takeOPT(rec rr.Record) error {
	if m.EDNS != nil || rec.Name != dnsname.Root {
		return ErrOPT
	}
	m.EDNS = &EDNS{UDPSize: uint16(rec.Class), Version: uint8(rec.TTL >> 16), DO: rec.TTL&0x8000 != 0}
	m.ExtendedRcode |= Rcode(rec.TTL>>24) << 4
	for b := rec.Data; len(b) > 0; {
		if len(b) < 4 || len(b) < 4+int(be16(b[2:])) {
			return ErrShort
		}
		n := int(be16(b[2:]))
		m.EDNS.Options = append(m.EDNS.Options, Option{be16(b), b[4 : 4+n]})
		b = b[4+n:]
	}
	return nil
}

func unpackName(msg []byte, off int) (dnsname.Name, int, error) {
	var buf [dnsname.MaxWire]byte
	w, next, err := dnsname.AppendUnpack(buf[:0], msg, off)
	if err != nil {
		return dnsname.Name{}, 0, err
	}
	name, err := dnsname.FromWire(w)
	return name, next, err
}

func unpackRecord(msg []byte, off int) (rec rr.Record, next int, err error) {
	rec.Name, off, err = unpackName(msg, off)
	if err != nil {
		return rec, 0, err
	}
	if off+10 > len(msg) {
		return rec, 0, ErrShort
	}
	rec.Type, rec.Class, rec.TTL = rr.Type(be16(msg[off:])), rr.Class(be16(msg[off+2:])), be32(msg[off+4:])
	n := int(be16(msg[off+8:]))
	off += 10
	if off+n > len(msg) {
		return rec, 0, ErrShort
	}
	if rec.Type == rr.TypeOPT || rec.Type == rr.TypeTSIG {
		rec.Data = append([]byte(nil), msg[off:off+n]...)
		return rec, off + n, nil
	}
	meta := rec.Class == rr.ClassAny || rec.Class == rr.ClassNone // it stands for others (RFC 2136 §1.3)
	if meta && n == 0 {
		return rec, off, nil
	}
	if rec.TTL > 1<<31-1 && !meta { // RFC 2181 §8
		rec.TTL = 0
	}
	rec.Data, err = rr.AppendUnpack(nil, msg, off, n, rec.Type)
	return rec, off + n, err
}

// Records walks over the records of a message without keeping them: a transfer
// has millions. Names and data are valid until the next step.
type Records struct {
	Owner []byte // uncompressed wire form
	Type  rr.Type
	Class rr.Class
	TTL   uint32
	Data  []byte // uncompressed wire form
	Start int    // where the record begins in the message
	Err   error

	msg        []byte
	off, left  int
	name, data []byte
	nameAt     int // where name stands in the message; -1: there is none yet
}

// Reset begins a walk over the n records at msg[off:].
func (it *Records) Reset(msg []byte, off, n int) {
	it.msg, it.off, it.left, it.nameAt, it.Err = msg, off, n, -1, nil
}

// Next reads a record; false at the end or at an error.
func (it *Records) Next() bool {
	if it.left == 0 || it.Err != nil {
		return false
	}
	it.left--
	it.Start = it.off
	off := it.owner()
	if it.Err != nil {
		return false
	}
	if off+10 > len(it.msg) || off+10+int(be16(it.msg[off+8:])) > len(it.msg) {
		it.Err = ErrShort
		return false
	}
	msg, n := it.msg, int(be16(it.msg[off+8:]))
	it.Owner, it.Type, it.Class, it.TTL = it.name, rr.Type(be16(msg[off:])), rr.Class(be16(msg[off+2:])), be32(msg[off+4:])
	off += 10
	it.off = off + n
	if it.Type == rr.TypeOPT || it.Type == rr.TypeTSIG {
		it.Data = msg[off : off+n]
		return true
	}
	if it.TTL > 1<<31-1 {
		it.TTL = 0
	}
	if !rr.Unpacks(it.Type) {
		it.Data = msg[off : off+n : off+n]
		it.Err = rr.Validate(it.Type, it.Data)
		return it.Err == nil
	}
	it.data, it.Err = rr.AppendUnpack(it.data[:0], msg, off, n, it.Type)
	it.Data = it.data
	return it.Err == nil
}

// owner reads the owner of the next record and gives the offset after it. Most records have
// that of the one before, by a pointer to where it stands.
func (it *Records) owner() (next int) {
	at := it.off
	if at+1 < len(it.msg) && it.msg[at] >= 0xC0 {
		if at = int(be16(it.msg[at:]) & 0x3FFF); at == it.nameAt {
			return it.off + 2
		}
	}
	it.nameAt = at
	it.name, next, it.Err = dnsname.AppendUnpack(it.name[:0], it.msg, it.off)
	return next
}

// AfterQuestions is the offset after the questions of a message.
func AfterQuestions(msg []byte) (int, error) {
	if len(msg) < HeaderLen {
		return 0, ErrShort
	}
	off := HeaderLen
	var buf [dnsname.MaxWire]byte
	for range be16(msg[4:]) {
		_, next, err := dnsname.AppendUnpack(buf[:0], msg, off)
		if err != nil {
			return 0, err
		}
		off = next + 4
	}
	if off > len(msg) {
		return 0, ErrShort
	}
	return off, nil
}

func be16(b []byte) uint16 { return uint16(b[0])<<8 | uint16(b[1]) }
func be32(b []byte) uint32 {
	return uint32(b[0])<<24 | uint32(b[1])<<16 | uint32(b[2])<<8 | uint32(b[3])
}
