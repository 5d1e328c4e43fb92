package signer

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"sync"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/rr"
	"fencepost/zone"
)

// Recommended parameters (RFC 9276 §3.1): no salt, no further iterations. More
// than MaxIterations are refused: validators treat such zones as unsigned.
const MaxIterations = 100

// maxSalts is how many other salts are tried when two names have one hash.
const maxSalts = 4

// otherSalt is a salt that depends on nothing but the zone and the attempt, so that
// the result does not either.
func otherSalt(apex dnsname.Name, attempt int) []byte {
	sum := sha256.Sum256(append([]byte(apex.Key()), byte(attempt)))
	return sum[:8]
}

// ErrCollision means that two names have one hash with each salt that was tried
// (RFC 5155 §7.1).
var ErrCollision = errors.New("two names of the zone have the same hash; choose another salt")

// checkNSEC3 looks whether the zone may have NSEC3 records with these keys.
func (j *signing) checkNSEC3() error {
	for _, k := range append(slices.Clone(j.ksks), j.zsks...) {
		if k.Algorithm == rr.DSA || k.Algorithm == rr.RSASHA1 { // RFC 5155 §2
			return fmt.Errorf("%w: keys of algorithm %s are for NSEC only", ErrNSEC3, k.Algorithm)
		}
	}
	p := &j.p.Denial.Params
	switch {
	case p.Iterations > MaxIterations:
		return fmt.Errorf("%w: %d iterations; resolvers treat zones with more than %d as unsigned (RFC 9276 §3.2)", ErrNSEC3, p.Iterations, MaxIterations)
	case len(p.Salt) > 255:
		return fmt.Errorf("%w: a salt has at most 255 octets", ErrNSEC3)
	case len(j.apex)+1+dnssec.HashLabel > dnsname.MaxWire: // RFC 5155 §10.1
		return fmt.Errorf("%w: hashed names below %s would be longer than 255 octets", ErrNSEC3, j.z.Apex())
	}
	return nil
}

// hashed is a name on its way into the chain.
type hashed struct {
	dnssec.Hash
	id     uint64 // of the name, to tell a collision from a name met twice
	bitmap []byte // the types at the name; empty for an empty non-terminal
	cut    bool   // an insecure delegation: with opt-out it may be left out
	key    []byte // of the name, where findings are to say it
}

// chainMaker works out which names must have NSEC3 records (RFC 5155 §7.1).
type chainMaker struct {
	z *zone.Snapshot
	d Denial
	// proving also notes insecure delegations that opt-out leaves out, and the names.
	proving bool

	mu     sync.Mutex
	hashes []hashed
}

// included reports whether a name has an NSEC3 record.
func (c *chainMaker) included(n *zone.Node) bool {
	return !n.Occluded() && !leftover(n) && !(c.d.OptOut && insecure(n))
}

// insecure reports whether a name is a delegation without DS.
func insecure(n *zone.Node) bool {
	if !n.IsCut() {
		return false
	}
	_, secure := n.Find(rr.TypeDS)
	return !secure
}

func (c *chainMaker) worker() *chainWorker { return &chainWorker{chainMaker: c} }

// chainWorker notes names, one after another.
type chainWorker struct {
	*chainMaker
	last  []byte // key of the name before
	arena []byte
}

// name notes a name that is not occluded, with its types, and the empty
// non-terminals between it and the name before.
func (c *chainWorker) name(n *zone.Node, owner, key []byte, types []rr.Type) {
	cut := c.d.OptOut && insecure(n)
	if cut && !c.proving {
		return
	}
	at := len(c.arena)
	c.arena = rr.AppendBitmap(c.arena, types)
	c.note(owner, key, c.arena[at:len(c.arena):len(c.arena)], cut)
	shared, all := dnsname.SharedLabels(c.last, key), dnsname.KeyLabels(key)
	if c.last == nil || bytes.Compare(c.last, key) > 0 {
		shared = 0 // another page
	}
	for labels := all - 1; labels > shared && labels > 0; labels-- {
		owner = owner[1+int(owner[0]):]
		above := dnsname.KeyPrefix(key, labels)
		var node zone.Node
		if c.z.Get(above, &node) && (c.proving || !leftover(&node)) {
			continue // a name in its own right
		}
		c.note(owner, above, nil, cut)
	}
	if !cut { // what is above a cut may have to be there for other reasons
		c.last = append(c.last[:0], key...)
	}
}

// note keeps a name. Names met by several workers come more than once.
func (c *chainWorker) note(owner, key, bitmap []byte, cut bool) {
	h := hashed{Hash: hashName(&c.d.Params, owner), id: fnv(key), bitmap: bitmap, cut: cut}
	if c.proving {
		at := len(c.arena)
		c.arena = append(c.arena, key...)
		h.key = c.arena[at:len(c.arena):len(c.arena)]
	}
	c.mu.Lock()
	c.hashes = append(c.hashes, h)
	c.mu.Unlock()
}

const fnvPrime = 1099511628211

// fnv is FNV-1a, for telling names apart cheaply.
func fnv(key []byte) uint64 {
	h := uint64(14695981039346656037)
	for _, c := range key {
		h = (h ^ uint64(c)) * fnvPrime
	}
	return h
}

// hashName can be replaced by tests.
var hashName = (*dnssec.NSEC3Params).Hash

// ring puts the names in the order of their hashes, each once.
func (c *chainMaker) ring() ([]hashed, error) {
	slices.SortFunc(c.hashes, func(a, b hashed) int { return bytes.Compare(a.Hash[:], b.Hash[:]) })
	out := c.hashes[:0]
	for _, h := range c.hashes {
		if n := len(out); n > 0 && out[n-1].Hash == h.Hash {
			if out[n-1].id != h.id {
				return nil, ErrCollision
			}
			out[n-1].cut = out[n-1].cut && h.cut
			continue
		}
		out = append(out, h)
	}
	return out, nil
}

// addHashed makes the chain of NSEC3 records and signs it (RFC 5155 §7.1).
func (j *signing) addHashed(ctx context.Context, out *zone.Snapshot) (*zone.Snapshot, error) {
	chain, err := j.chain.ring()
	if err != nil {
		return nil, err
	}
	b := zone.NewHashedBuilder(j.z.Apex())
	var owner, data []byte
	for i := range chain {
		next := &chain[(i+1)%len(chain)].Hash
		owner = j.hashOwner(owner[:0], &chain[i].Hash)
		data = j.appendNSEC3(data[:0], next, chain[i].bitmap)
		if err := b.Add(owner, rr.TypeNSEC3, j.denialTTL, data, 0); err != nil {
			return nil, err
		}
	}
	plain := b.Build().Snapshot
	signed, err := plain.Rewrite(ctx, j.p.Workers, nil, j.hashedWorker)
	if err != nil {
		return nil, err
	}
	return out.WithNSEC3(signed), nil
}

func (j *signing) hashOwner(dst []byte, h *dnssec.Hash) []byte {
	dst = append(dst, dnssec.HashLabel)
	return append(h.AppendLabel(dst), j.apex...)
}

// appendNSEC3 appends the data of an NSEC3 record with a bitmap that is made.
func (j *signing) appendNSEC3(dst []byte, next *dnssec.Hash, bitmap []byte) []byte {
	flags := byte(0)
	if j.p.Denial.OptOut {
		flags = dnssec.FlagOptOut // on all: simple, and allowed (RFC 5155 §6)
	}
	return append(j.p.Denial.Params.AppendNSEC3(dst, flags, next, nil), bitmap...)
}

// hashedWorker signs NSEC3 records.
func (j *signing) hashedWorker() zone.Transform {
	w := &signWorker{signing: j, prev: j.prevHashed}
	return func(n, _ *zone.Node, out *zone.NodeWriter) error {
		w.begin(n)
		set, ok := n.Find(rr.TypeNSEC3)
		if !ok {
			return nil
		}
		out.AddSet(set)
		return w.sign(set, w.zsks, out)
	}
}
