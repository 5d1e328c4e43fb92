package signer

import (
	"bytes"
	"crypto/sha512"
	"encoding/binary"
	"fmt"
	"hash"
	"slices"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

// zonemdSimple is the only scheme (RFC 8976 §2.2.2).
const zonemdSimple = 1

// zonemdHashes make the hash of a ZONEMD hash algorithm.
var zonemdHashes = map[uint8]func() hash.Hash{ZonemdSHA384: sha512.New384, ZonemdSHA512: sha512.New}

// zonemdData is the data of the ZONEMD records of a policy; without digests they
// hold zeros in their place (RFC 8976 §3.1).
func (j *signing) zonemdData(serial uint32, digests map[uint8][]byte) (out [][]byte) {
	for _, alg := range j.p.Zonemd {
		data := append(binary.BigEndian.AppendUint32(nil, serial), zonemdSimple, alg)
		digest := digests[alg]
		if make := zonemdHashes[alg]; digest == nil && make != nil {
			digest = bytes.Repeat([]byte{0}, make().Size())
		}
		out = append(out, append(data, digest...))
	}
	return out
}

// addDigest puts the digests of the finished zone in place and signs them. That
// moves no serial (RFC 8976 §3.4).
func (j *signing) addDigest(out *zone.Snapshot) (*zone.Snapshot, error) {
	digests, err := Zonemd(out, j.p.Zonemd)
	if err != nil {
		return nil, err
	}
	var apex zone.Node
	out.ApexNode(&apex)
	old, _ := apex.Find(rr.TypeZONEMD)
	set := zone.NewRRset(rr.TypeZONEMD, old.TTL, j.zonemdData(out.Serial(), digests))
	var w zone.NodeWriter
	for s := range apex.RRsets {
		if s.Type != rr.TypeZONEMD && !(s.Type == rr.TypeRRSIG && s.Covered() == rr.TypeZONEMD) {
			w.AddSet(s)
		}
	}
	w.AddSet(set)
	worker := j.newWorker()
	worker.begin(&apex)
	if err := worker.sign(set, j.zsks, &w); err != nil {
		return nil, err
	}
	return out.Replace([]zone.Content{{Owner: out.Apex(), Records: w.Records()}})
}

// Zonemd works out the digests of a zone with the SIMPLE scheme for each of the
// hash algorithms (RFC 8976 §3.3.1): all records in canonical form and order,
// but the ZONEMD records at the apex and their signatures.
func Zonemd(z *zone.Snapshot, algorithms []uint8) (map[uint8][]byte, error) {
	hashes := map[uint8]hash.Hash{}
	for _, a := range algorithms {
		make := zonemdHashes[a]
		if make == nil {
			return nil, fmt.Errorf("ZONEMD hash algorithm %d is not known: 1 is SHA-384, 2 is SHA-512", a)
		}
		hashes[a] = make()
	}
	d := &digester{z: z, hashes: hashes}
	hashedNodes := nodes(z.NSEC3())
	for n := range z.Nodes {
		d.key = n.AppendKey(d.key[:0])
		hashedNodes.upTo(d.key, d.node)
		d.node(n)
	}
	hashedNodes.rest(d.node)
	d.flush()
	out := map[uint8][]byte{}
	for a, h := range hashes {
		out[a] = h.Sum(nil)
	}
	return out, nil
}

// digester feeds the records of one name after another to hashes.
type digester struct {
	z                    *zone.Snapshot
	hashes               map[uint8]hash.Hash
	key, owner, out, tmp []byte
	sigs                 []zone.RRset
}

// node takes the records of a name in the order of their types. RRSIG records
// stand together, in the order of the types they cover.
func (d *digester) node(n *zone.Node) {
	d.owner = d.z.AppendOwner(d.owner[:0], n)
	d.owner = dnsname.AppendLower(d.owner[:0], d.owner)
	d.sigs = d.sigs[:0]
	for set := range n.RRsets {
		if set.Type == rr.TypeRRSIG && !(n.IsApex() && set.Covered() == rr.TypeZONEMD) {
			d.sigs = append(d.sigs, set)
		}
	}
	for set := range n.RRsets {
		if set.Type == rr.TypeRRSIG || n.IsApex() && set.Type == rr.TypeZONEMD {
			continue
		}
		if set.Type > rr.TypeRRSIG {
			d.signatures()
		}
		d.set(set)
	}
	d.signatures()
}

func (d *digester) signatures() {
	for _, s := range d.sigs {
		d.set(s)
	}
	d.sigs = d.sigs[:0]
}

func (d *digester) set(set zone.RRset) {
	t, ttl := set.Type, set.TTL
	var data []byte
	for set.N > 0 {
		data, set = set.Next()
		d.out = append(d.out, d.owner...)
		d.out = append(d.out, byte(t>>8), byte(t), 0, byte(rr.ClassIN))
		d.out = binary.BigEndian.AppendUint32(d.out, ttl)
		d.tmp = rr.AppendCanonical(d.tmp[:0], t, data)
		d.out = binary.BigEndian.AppendUint16(d.out, uint16(len(d.tmp)))
		d.out = append(d.out, d.tmp...)
	}
	if len(d.out) >= 64<<10 {
		d.flush()
	}
}

func (d *digester) flush() {
	for _, h := range d.hashes {
		h.Write(d.out)
	}
	d.out = d.out[:0]
}

// nodeQueue gives out the names of a snapshot, which may be nil, bit by bit.
type nodeQueue struct {
	c    zone.Cursor
	more bool
}

func nodes(s *zone.Snapshot) *nodeQueue {
	q := &nodeQueue{}
	q.more = s != nil && q.c.First(s)
	return q
}

// upTo hands over the names before key. The key of the apex is empty: none is.
func (q *nodeQueue) upTo(key []byte, f func(*zone.Node)) {
	var n zone.Node
	for q.more {
		q.c.Node(&n)
		if slices.Compare(n.AppendKey(nil), key) >= 0 {
			return
		}
		f(&n)
		q.more = q.c.Next()
	}
}

// rest hands over the names that are left.
func (q *nodeQueue) rest(f func(*zone.Node)) {
	var n zone.Node
	for ; q.more; q.more = q.c.Next() {
		q.c.Node(&n)
		f(&n)
	}
}
