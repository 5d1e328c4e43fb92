package signer

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/rr"
	"fencepost/zone"
)

// Update signs what changed from one unsigned version to the next: signed is the
// signed version of before, made with the same keys and policy. What did not
// change is shared, so the cost is that of the change (but ZONEMD, which is over
// the whole zone, costs the whole zone). Signatures that are about to expire are
// left to Sign.
func Update(ctx context.Context, before, z, signed *zone.Snapshot, keys []Key, p Policy, now time.Time) (*zone.Snapshot, Report, error) {
	p.Previous = signed
	if before == nil || signed == nil || !sameDenial(&p.Denial, signed) {
		return Sign(ctx, z, keys, p, now)
	}
	j, err := newSigning(z, keys, p, now)
	if err != nil {
		return nil, Report{}, err
	}
	if !j.madeAlike(signed) {
		return Sign(ctx, z, keys, p, now)
	}
	u := &updating{signing: j, before: before, names: map[string]dnsname.Name{}}
	j.prevHashed = signed.NSEC3()
	u.compare()
	if len(u.names) > z.Names()/4+16 {
		return Sign(ctx, z, keys, p, now)
	}
	out, err := u.signNames(ctx, signed)
	if err == nil && p.Denial.NSEC3 {
		out, err = u.hashedNames(out)
	}
	if errors.Is(err, ErrCollision) {
		return Sign(ctx, z, keys, p, now)
	}
	if err == nil && len(p.Zonemd) > 0 {
		out, err = j.addDigest(out)
	}
	if err != nil {
		return nil, j.report(), fmt.Errorf("signing %s: %w", z.Apex(), err)
	}
	return out, j.report(), nil
}

// sameDenial reports whether a signed version denies as the policy says.
func sameDenial(d *Denial, signed *zone.Snapshot) bool {
	if !d.NSEC3 {
		return signed.NSEC3() == nil
	}
	return bytes.Equal(signed.HashParams(), d.Params.ParamData())
}

// madeAlike reports whether what does not change can stay as it is: the zone's keys
// are those that signed before, and what denies lives as long as it has to (RFC
// 9077 §3).
func (j *signing) madeAlike(signed *zone.Snapshot) bool {
	var apex, first zone.Node
	signed.ApexNode(&apex)
	set, sigs, _ := apex.FindWithSig(rr.TypeSOA)
	if sigs.N != len(j.zsks) {
		return false
	}
	for _, k := range j.zsks {
		if !signedBy(k, set, sigs, j.apex, j.now) {
			return false
		}
	}
	denial, ok := apex.Find(rr.TypeNSEC)
	if h := signed.NSEC3(); h != nil {
		var c zone.Cursor
		if !c.First(h) {
			return false
		}
		c.Node(&first)
		denial, ok = first.Find(rr.TypeNSEC3)
		ok = ok && (denial.First()[1]&dnssec.FlagOptOut != 0) == j.p.Denial.OptOut
	}
	return ok && denial.TTL == j.denialTTL
}

// signedBy reports whether one of the signatures over a set of the apex is by the key.
func signedBy(k *dnssec.Key, set, sigs zone.RRset, apex []byte, now time.Time) bool {
	for data := range sigs.Data {
		if _, err := dnssec.VerifySet(nil, []*dnssec.PublicKey{k.PublicKey}, apex, apex, set, data, now); err == nil {
			return true
		}
	}
	return false
}

// updating is one run of Update.
type updating struct {
	*signing
	before *zone.Snapshot
	names  map[string]dnsname.Name // to be signed again, by key
}

func (u *updating) add(key []byte) {
	if _, known := u.names[string(key)]; !known {
		name, _ := dnsname.FromWire(u.z.AppendKeyName(nil, key))
		u.names[string(key)] = name
	}
}

// compare collects the names that changed, those that a change hides or shows,
// and with NSEC the names whose neighbour is another one now.
func (u *updating) compare() {
	u.add(nil) // the serial
	var last dnsname.Name
	var key []byte
	for c := range zone.Changes(u.before, u.z) {
		if c.Hashed() || c.Owner == last {
			continue
		}
		last = c.Owner
		key, _ = u.z.AppendKey(key[:0], []byte(c.Owner.Wire()))
		u.add(key)
		if u.standing(u.before, key).hides != u.standing(u.z, key).hides {
			u.addBelow(u.before, key)
			u.addBelow(u.z, key)
		}
	}
	if u.p.Denial.NSEC3 {
		return
	}
	for key := range u.names {
		if k := []byte(key); u.standing(u.before, k).proves != u.standing(u.z, k).proves {
			u.addBefore(k)
		}
	}
}

// standing is what counts of a name for its neighbours.
type standing struct{ hides, proves bool }

func (u *updating) standing(z *zone.Snapshot, key []byte) standing {
	var n zone.Node
	if !z.Get(key, &n) {
		return standing{}
	}
	_, dname := n.Find(rr.TypeDNAME)
	return standing{hides: n.IsCut() || dname, proves: !n.Occluded() && !leftover(&n)}
}

func (u *updating) addBelow(z *zone.Snapshot, key []byte) {
	var c zone.Cursor
	var n zone.Node
	c.Seek(z, key)
	for c.Valid() {
		c.Node(&n)
		if n.HasKeyPrefix(key) {
			u.add(n.AppendKey(nil))
		} else if bytes.Compare(n.AppendKey(nil), key) > 0 {
			return
		}
		if !c.Next() {
			return
		}
	}
}

// addBefore adds the name whose NSEC leads to or over key.
func (u *updating) addBefore(key []byte) {
	var c zone.Cursor
	var n zone.Node
	exact := c.Seek(u.z, key)
	if exact && !c.Prev() {
		return
	}
	for c.Valid() {
		c.Node(&n)
		if !n.Occluded() && !leftover(&n) {
			u.add(n.AppendKey(nil))
			return
		}
		if !c.Prev() {
			return
		}
	}
}

// keys are the names in canonical order, so that the result does not depend on
// chance.
func (u *updating) keys() []string {
	keys := make([]string, 0, len(u.names))
	for k := range u.names {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// signNames signs the names collected.
func (u *updating) signNames(ctx context.Context, signed *zone.Snapshot) (*zone.Snapshot, error) {
	w := u.newWorker()
	var changes []zone.Content
	for _, key := range u.keys() {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		change := zone.Content{Owner: u.names[key]}
		var n, next zone.Node
		var c zone.Cursor
		exists := c.Seek(u.z, []byte(key))
		if exists {
			c.Node(&n)
			exists = !leftover(&n)
		}
		if exists {
			change.Owner = u.z.Owner(&n)
			following(u.z, c, &next)
			var out zone.NodeWriter
			if err := w.node(&n, &next, &out); err != nil {
				return nil, err
			}
			change.Records = out.Records()
		}
		changes = append(changes, change)
	}
	return signed.Replace(changes)
}

// following is the next name that is not occluded: the apex after the last.
func following(z *zone.Snapshot, c zone.Cursor, next *zone.Node) {
	for c.Next() {
		if c.Node(next); !next.Occluded() && !leftover(next) {
			return
		}
	}
	z.ApexNode(next)
}

// hashedNames brings the NSEC3 records in line with the names that changed. Their
// hashes were noted while they were signed; those of names that are gone, or not
// included any more, go.
func (u *updating) hashedNames(out *zone.Snapshot) (*zone.Snapshot, error) {
	now, err := u.chain.ring()
	if err != nil {
		return nil, err
	}
	want := map[dnssec.Hash][]byte{}
	for _, h := range now {
		want[h.Hash] = h.bitmap
	}
	gone := map[dnssec.Hash]bool{}
	for key := range u.names {
		u.goneAbove([]byte(key), want, gone)
	}
	old := u.prevHashed
	// First who is there, then who is next: each with the cost of the change.
	var changes []zone.Content
	touched := map[dnssec.Hash]bool{}
	for h, bitmap := range want {
		touched[h] = true
		changes = append(changes, u.hashedChange(&h, &h, bitmap))
	}
	for h := range gone {
		if old.Get(hashKey(&h), new(zone.Node)) {
			changes = append(changes, zone.Content{Owner: u.hashName(&h)})
		} else {
			delete(gone, h)
		}
	}
	chain, err := old.Replace(changes)
	if err != nil {
		return nil, err
	}
	for h := range want {
		if !old.Get(hashKey(&h), new(zone.Node)) {
			touchBefore(chain, &h, touched)
		}
	}
	for h := range gone {
		touchBefore(chain, &h, touched)
	}
	chain, err = u.link(chain, want, touched)
	if err != nil {
		return nil, err
	}
	return out.WithNSEC3(chain), nil
}

// goneAbove notes a name and the empty non-terminals above it that exist no more.
func (u *updating) goneAbove(key []byte, want map[dnssec.Hash][]byte, gone map[dnssec.Hash]bool) {
	for labels := dnsname.KeyLabels(key); labels > 0; labels-- {
		k := dnsname.KeyPrefix(key, labels)
		h := hashName(&u.p.Denial.Params, u.z.AppendKeyName(nil, k))
		if _, there := want[h]; there {
			continue
		}
		var n zone.Node
		switch {
		case u.z.Get(k, &n):
			if !u.chain.included(&n) {
				if u.hasIncludedBelow(k) {
					want[h] = nil
				} else {
					gone[h] = true
				}
			}
		case u.hasIncludedBelow(k):
			want[h] = nil
		default:
			gone[h] = true
		}
	}
}

// hasIncludedBelow reports whether a name that is in the chain lies below key.
func (u *updating) hasIncludedBelow(key []byte) bool {
	var c zone.Cursor
	var n zone.Node
	exact := c.Seek(u.z, key)
	for ok := c.Valid(); ok; ok = c.Next() {
		c.Node(&n)
		if exact { // the name itself
			exact = false
			continue
		}
		if !n.HasKeyPrefix(key) {
			if bytes.Compare(n.AppendKey(nil), key) > 0 {
				return false
			}
			continue
		}
		if u.chain.included(&n) {
			return true
		}
	}
	return false
}

func hashKey(h *dnssec.Hash) []byte { return append(h.AppendLabel(nil), 0) }

func (u *updating) hashName(h *dnssec.Hash) dnsname.Name {
	n, _ := dnsname.FromWire(u.hashOwner(nil, h))
	return n
}

func (u *updating) hashedChange(h, next *dnssec.Hash, bitmap []byte) zone.Content {
	data := u.appendNSEC3(nil, next, bitmap)
	return zone.Content{Owner: u.hashName(h), Records: []rr.Record{{Type: rr.TypeNSEC3, TTL: u.denialTTL, Data: data}}}
}

// touchBefore notes the hash in front of another, round the ring.
func touchBefore(chain *zone.Snapshot, h *dnssec.Hash, touched map[dnssec.Hash]bool) {
	var c zone.Cursor
	if exact := c.Seek(chain, hashKey(h)); exact || !c.Valid() {
		if !exact || !c.Prev() {
			last(chain, &c)
		}
	}
	if before, ok := hashAt(&c); ok {
		touched[before] = true
	}
}

// last puts a cursor on the last name.
func last(s *zone.Snapshot, c *zone.Cursor) { c.Seek(s, bytes.Repeat([]byte{0xff}, 64)) }

func hashAt(c *zone.Cursor) (h dnssec.Hash, ok bool) {
	if !c.Valid() {
		return h, false
	}
	var n zone.Node
	c.Node(&n)
	key := n.AppendKey(nil)
	if len(key) == 0 {
		return h, false
	}
	return dnssec.ParseHashLabel(key[:len(key)-1])
}

// link writes and signs the records of the hashes touched, each with the next.
func (u *updating) link(chain *zone.Snapshot, want map[dnssec.Hash][]byte, touched map[dnssec.Hash]bool) (*zone.Snapshot, error) {
	w := u.newWorker()
	w.prev = u.prevHashed
	var changes []zone.Content
	for h := range touched {
		var c zone.Cursor
		if !c.Seek(chain, hashKey(&h)) {
			continue // gone
		}
		var n zone.Node
		c.Node(&n)
		bitmap, fresh := want[h]
		if !fresh {
			set, _ := n.Find(rr.TypeNSEC3)
			old, err := dnssec.ParseNSEC3(set.First())
			if err != nil {
				return nil, err
			}
			bitmap = old.Bitmap
		}
		following := c
		if !following.Next() {
			following.First(chain)
		}
		next, ok := hashAt(&following)
		if !ok {
			return nil, fmt.Errorf("%w: a name in the chain is not a hash", ErrNSEC3)
		}
		w.begin(&n)
		set := zone.NewRRset(rr.TypeNSEC3, u.denialTTL, [][]byte{u.appendNSEC3(nil, &next, bitmap)})
		var out zone.NodeWriter
		out.AddSet(set)
		if err := w.sign(set, w.zsks, &out); err != nil {
			return nil, err
		}
		changes = append(changes, zone.Content{Owner: u.hashName(&h), Records: out.Records()})
	}
	return chain.Replace(changes)
}
