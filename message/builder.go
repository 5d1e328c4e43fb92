package message

import (
	"encoding/binary"
	"slices"

	"fencepost/dnsname"
	"fencepost/rr"
)

// Builder writes one response into a buffer of the caller. It does not
// allocate if the buffer is large enough. The zero Builder is ready for Begin.
type Builder struct {
	buf   []byte // the message is buf[base:]
	base  int
	limit int // most octets of the message, without what is kept for OPT
	// largest is that for the first record of a message of a transfer.
	largest int
	counts  [4]uint16
	flags   uint16
	rcode   Rcode

	edns    bool
	do      bool
	udpSize uint16
	ede     int // extended error to add, or -1

	options  [optionRoom]byte // EDNS options to add
	nOptions int

	names    [maxNames]nameRef          // where names stand that later ones can point to
	starts   [dnsname.MaxWire / 2]uint8 // scratch: the labels of the name being written
	hashes   [dnsname.MaxWire / 2]uint32
	nNames   int
	qname    bool   // the suffixes of QNAME are in names
	below    []byte // a name in the question that alone is pointed to
	belowAt  int    // and where it stands
	question []byte
	padTo    int // what the length is a multiple of; 0: of nothing
}

type nameRef struct {
	hash uint32
	off  uint16
}

// maxNames bounds the search for names to point to; more give little.
const maxNames = 48

// optLen is the room that OPT takes, and edeLen that of an extended error in it: one
// that does not fit is left out.
const (
	optLen = 11
	edeLen = 6
)

// Section is a section of a message.
type Section uint8

// The sections that records stand in.
const (
	AnswerSection     Section = 1
	AuthoritySection  Section = 2
	AdditionalSection Section = 3
)

// Begin starts a response to q after the octets of dst. It will have at most
// limit octets; ourSize is what we take over UDP, for OPT.
func (b *Builder) Begin(dst []byte, q *Query, limit int, ourSize uint16) {
	b.base, b.counts, b.rcode, b.ede = len(dst), [4]uint16{}, NoError, -1
	b.nNames, b.qname, b.below, b.nOptions = 0, false, nil, 0
	b.flags = FlagQR | uint16(q.Opcode())<<11 | q.Flags&FlagRD
	b.edns, b.do, b.udpSize = q.HasEDNS, q.DO, ourSize
	b.limit, b.question, b.padTo = limit, q.Question, q.PadTo
	if b.edns {
		b.limit -= optLen
	}
	b.buf = append(dst, byte(q.ID>>8), byte(q.ID), 0, 0, 0, 0, 0, 0, 0, 0, 0, 0)
	if len(q.Question) > 0 {
		b.buf = append(b.buf, q.Question...)
		b.counts[0] = 1
	}
}

// Transfer makes names point to the name asked, the apex of the zone sent, and
// nowhere else: with millions of records no search is worth its time. room is what
// is added behind OPT, as a signature is.
func (b *Builder) Transfer(q *Query, room int) {
	b.below, b.belowAt, b.largest = q.Name, HeaderLen, MaxLen-room-b.nOptions
	if b.edns {
		b.largest -= optLen
	}
}

// SetRcode sets the response code.
func (b *Builder) SetRcode(c Rcode) { b.rcode = c }

// Rcode is the response code set.
func (b *Builder) Rcode() Rcode { return b.rcode }

// SetFlag sets header flags, such as FlagAA.
func (b *Builder) SetFlag(f uint16) { b.flags |= f }

// SetEDE adds an extended error if the request had EDNS (RFC 8914).
func (b *Builder) SetEDE(code ExtendedError) { b.ede = int(code) }

// Len is the present length of the message.
func (b *Builder) Len() int { return len(b.buf) - b.base }

// Count is the number of records in a section.
func (b *Builder) Count(s Section) int { return int(b.counts[s]) }

// Mark is a place to go back to.
type Mark struct {
	len, names int
	counts     [4]uint16
	qname      bool
}

// Mark remembers the present state.
func (b *Builder) Mark() Mark { return Mark{len(b.buf), b.nNames, b.counts, b.qname} }

// Rollback forgets everything written since the mark.
func (b *Builder) Rollback(m Mark) {
	b.buf, b.nNames, b.counts, b.qname = b.buf[:m.len], m.names, m.counts, m.qname
}

// QName stands for the name asked in place of an owner.
var QName []byte

// Record writes a record; false when it does not fit, and then it may be
// there in part: go back to a Mark. An owner of QName means the name asked.
func (b *Builder) Record(s Section, owner []byte, t rr.Type, ttl uint32, data []byte) bool {
	if owner == nil {
		b.buf = append(b.buf, 0xc0, HeaderLen)
	} else {
		b.name(owner)
	}
	return b.record(s, t, ttl, data)
}

// OfClass writes a record for the name asked that is of another class than IN; as Record.
func (b *Builder) OfClass(s Section, c rr.Class, t rr.Type, ttl uint32, data []byte) bool {
	at := len(b.buf) + 4 // behind the pointer and the type
	ok := b.Record(s, QName, t, ttl, data)
	b.buf[at], b.buf[at+1] = byte(c>>8), byte(c)
	return ok
}

// SuffixRecord writes a record whose owner is the last octets octets of the name
// asked, which are a whole name: the owner is a pointer into the question. Names
// in the data are only matched with that owner, for a SOA is all that is written
// so and nothing points into it.
func (b *Builder) SuffixRecord(s Section, octets int, t rr.Type, ttl uint32, data []byte) bool {
	at := len(b.qnameOctets()) - octets
	b.below, b.belowAt = b.qnameOctets()[at:], HeaderLen+at
	b.buf = append(b.buf, 0xc0|byte(b.belowAt>>8), byte(b.belowAt))
	ok := b.record(s, t, ttl, data)
	b.below = nil
	return ok
}

// SuffixOwner writes a record like SuffixRecord, its data compressed as usual.
func (b *Builder) SuffixOwner(s Section, octets int, t rr.Type, ttl uint32, data []byte) bool {
	at := HeaderLen + len(b.qnameOctets()) - octets
	b.buf = append(b.buf, 0xc0|byte(at>>8), byte(at))
	return b.record(s, t, ttl, data)
}

// qnameOctets is the name in the question.
func (b *Builder) qnameOctets() []byte { return b.question[:len(b.question)-4] }

// TransferSet writes records of a transfer to the answer section: their owner is the labels
// relative, without root, followed by the name asked, the apex. items is, for each record, the
// length of its data as a varint and the data. It returns the items that did not fit; the
// first record of a message may be as large as a message can be.
func (b *Builder) TransferSet(relative []byte, t rr.Type, ttl uint32, items []byte) (rest []byte) {
	n := len(relative) + transferHead
	for len(items) > 0 {
		size, width := int(items[0]), 1
		if size >= 0x80 {
			long, w := binary.Uvarint(items)
			size, width = int(long), w
		}
		data := items[width : width+size]
		at := len(b.buf)
		if limit := b.transferLimit(); at-b.base+n+size > limit {
			return items
		}
		b.counts[AnswerSection]++
		if cap(b.buf)-at < transferRoom+size {
			b.buf = slices.Grow(b.buf, transferRoom+size)
		}
		w := b.buf[at:cap(b.buf)]
		copyShort(w, relative)
		head := w[len(relative):n]
		binary.BigEndian.PutUint32(head, (0xc000|HeaderLen)<<16|uint32(t))
		binary.BigEndian.PutUint32(head[4:], uint32(rr.ClassIN)<<16|ttl>>16)
		binary.BigEndian.PutUint32(head[8:], ttl<<16|uint32(size))
		if packsNames(t) {
			b.buf = b.buf[:at+n]
			b.data(t, data)
		} else {
			copyShort(w[n:], data)
			b.buf = b.buf[:at+n+size]
		}
		items = items[width+size:]
	}
	return nil
}

// transferLimit is how many octets the message may have with the next record.
func (b *Builder) transferLimit() int {
	if b.counts[AnswerSection] == 0 {
		return b.largest
	}
	return b.limit
}

// transferHead is what stands between the labels of an owner and the data of its record: a
// pointer, type, class, TTL and length. transferRoom is for that with any owner.
const (
	transferHead = 12
	transferRoom = dnsname.MaxWire + transferHead + 16
)

// copyShort copies src to the beginning of dst, which has room for 16 octets more. Nearly all
// that is copied is short, and then it is done in one step whatever its length is: a step that
// depends on the length is guessed wrong by the processor every other time.
func copyShort(dst, src []byte) {
	if len(src) <= 16 && cap(src) >= 16 {
		*(*[16]byte)(dst) = *(*[16]byte)(src[:16])
		return
	}
	copy(dst, src)
}

func (b *Builder) record(s Section, t rr.Type, ttl uint32, data []byte) bool {
	b.buf = append(b.buf, byte(t>>8), byte(t), 0, byte(rr.ClassIN), byte(ttl>>24), byte(ttl>>16), byte(ttl>>8), byte(ttl), 0, 0)
	if packsNames(t) {
		b.data(t, data)
	} else {
		b.buf = append(b.buf, data...)
		n := len(data)
		at := len(b.buf) - n
		b.buf[at-2], b.buf[at-1] = byte(n>>8), byte(n)
	}
	b.counts[s]++
	return b.Len() <= b.limit
}

// singleName is, for each type whose data end with one name and hold no other (MD, MF, MB, MG and
// MR by their numbers), how many octets stand before it, and one more.
var singleName = [16]uint8{rr.TypeNS: 1, 3: 1, 4: 1, rr.TypeCNAME: 1, 7: 1, 8: 1, 9: 1, rr.TypePTR: 1, rr.TypeMX: 3}

// data writes data with names that are compressed, and their length in front.
func (b *Builder) data(t rr.Type, data []byte) {
	at := len(b.buf)
	if n := int(singleName[t]); n > 0 {
		b.buf = append(b.buf, data[:n-1]...)
		b.name(data[n-1:])
	} else {
		for it := rr.NewParts(t, data); it.Next(); {
			if _, packed := it.IsName(); packed {
				b.name(it.Bytes)
			} else {
				b.buf = append(b.buf, it.Bytes...)
			}
		}
	}
	n := len(b.buf) - at
	b.buf[at-2], b.buf[at-1] = byte(n>>8), byte(n)
}

// packsNames reports whether data of type t have names that are compressed when
// sent: the types of RFC 1035 (RFC 3597 §4). All their numbers are below 16.
func packsNames(t rr.Type) bool { return t < 16 && rr.HasNames(t) }

// name writes a name, pointing to an earlier one for as much of it as is
// there, octet for octet, so that case survives.
func (b *Builder) name(w []byte) {
	if len(w) == 1 {
		b.buf = append(b.buf, 0)
		return
	}
	if b.below != nil {
		if d := len(w) - len(b.below); d >= 0 && string(w[d:]) == string(b.below) && onLabel(w, d) {
			b.buf = append(append(b.buf, w[:d]...), 0xc0|byte(b.belowAt>>8), byte(b.belowAt))
		} else {
			b.buf = append(b.buf, w...)
		}
		return
	}
	if !b.qname && b.counts[0] > 0 {
		b.qname = true
		b.remember(b.buf[b.base+HeaderLen:], HeaderLen, 1<<14)
	}
	n := b.suffixes(w)
	starts, hashes := &b.starts, &b.hashes
	found, to := n, 0
	for i := range n {
		if off := b.lookup(hashes[i], w[starts[i]:]); off > 0 {
			found, to = i, off
			break
		}
	}
	at := len(b.buf) - b.base
	for i := 0; i < found && b.nNames < maxNames; i++ {
		if off := at + int(starts[i]); off < 1<<14 {
			b.names[b.nNames] = nameRef{hashes[i], uint16(off)}
			b.nNames++
		}
	}
	if found == n {
		b.buf = append(b.buf, w...)
		return
	}
	b.buf = append(b.buf, w[:starts[found]]...)
	b.buf = append(b.buf, 0xc0|byte(to>>8), byte(to))
}

// onLabel reports whether a label of w begins at d.
func onLabel(w []byte, d int) bool {
	i := 0
	for i < d {
		i += 1 + int(w[i])
	}
	return i == d
}

// remember makes the suffixes of the uncompressed name w, which stands at off
// of the message, known.
func (b *Builder) remember(w []byte, off, below int) {
	n, err := dnsname.WireLen(w)
	if err != nil {
		return
	}
	for i := range b.suffixes(w[:n]) {
		if at := off + int(b.starts[i]); at < below && b.nNames < maxNames {
			b.names[b.nNames] = nameRef{b.hashes[i], uint16(at)}
			b.nNames++
		}
	}
}

// suffixes finds where the labels of w begin, in b.starts, and a hash of w from
// each on, in b.hashes; it returns their number without the root.
func (b *Builder) suffixes(w []byte) int {
	n := 0
	for i := 0; w[i] != 0; i += 1 + int(w[i]) {
		b.starts[n] = uint8(i)
		n++
	}
	h := uint32(2166136261)
	end := len(w) - 1
	for i := n - 1; i >= 0; i-- {
		for j := end - 1; j >= int(b.starts[i]); j-- {
			h = (h ^ uint32(w[j])) * 16777619
		}
		end = int(b.starts[i])
		b.hashes[i] = h
	}
	return n
}

func (b *Builder) lookup(hash uint32, w []byte) int {
	for _, r := range b.names[:b.nNames] {
		if r.hash == hash && b.nameAt(int(r.off), w) {
			return int(r.off)
		}
	}
	return 0
}

// nameAt reports whether the name at off of the message, which we wrote and which
// may end in a pointer, is w.
func (b *Builder) nameAt(off int, w []byte) bool {
	msg := b.buf[b.base:]
	for {
		c := int(msg[off])
		if c >= 0xc0 {
			off = (c&0x3f)<<8 | int(msg[off+1])
			continue
		}
		if len(w) < 1+c || string(msg[off:off+1+c]) != string(w[:1+c]) {
			return false
		}
		if c == 0 {
			return true
		}
		off += 1 + c
		w = w[1+c:]
	}
}

// Finish completes the message and returns the whole buffer.
func (b *Builder) Finish() []byte {
	if b.edns {
		b.buf = appendOPT(b.buf, b.udpSize, b.rcode, b.do)
		b.finishOptions()
		b.counts[3]++
	}
	msg := b.buf[b.base:]
	flags := b.flags | uint16(b.rcode)&0xf
	msg[2], msg[3] = byte(flags>>8), byte(flags)
	for i, n := range b.counts {
		msg[4+2*i], msg[5+2*i] = byte(n>>8), byte(n)
	}
	return b.buf
}
