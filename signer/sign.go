// Package signer signs and proves whole zones. It is pure: zone, keys, policy
// and time in, zone out; it reads no clock, file or global.
package signer

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"sync/atomic"
	"time"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/rr"
	"fencepost/zone"
)

// Role says what a key signs.
type Role uint8

// The roles: one key for everything, or one for the DNSKEY set (KSK) and one
// for the rest (ZSK) (RFC 6781 §3.1).
const (
	Single Role = iota
	KSK
	ZSK
)

// Key is a key with its role.
type Key struct {
	*dnssec.Key
	Role Role
}

// Policy says how a zone is signed. Zero fields take the value of Default.
type Policy struct {
	Validity  time.Duration // from now until signatures expire
	Inception time.Duration // how far before now they begin, for clocks that are behind
	DNSKEYTTL uint32        // seconds
	// Serial replaces the SOA's serial if not 0.
	Serial uint32
	// Workers is the number of goroutines; 0 is one for each processor.
	Workers int
	// Done, if set, is told how many names were finished; see zone.Scan.
	Done func(names int)
}

// Default is what holds where a Policy says nothing.
var Default = Policy{Validity: 14 * 24 * time.Hour, Inception: time.Hour, DNSKEYTTL: 3600}

func (p Policy) filled() Policy {
	if p.Validity == 0 {
		p.Validity = Default.Validity
	}
	if p.Inception == 0 {
		p.Inception = Default.Inception
	}
	if p.DNSKEYTTL == 0 {
		p.DNSKEYTTL = Default.DNSKEYTTL
	}
	if p.Workers == 0 {
		p.Workers = runtime.GOMAXPROCS(0)
	}
	return p
}

// Report tells what signing did.
type Report struct {
	Signatures int
	Replaced   int // signatures and NSEC records of the input that were dropped
	Expires    time.Time
}

// Errors of signing.
var (
	ErrNoKeys = errors.New("there is no key to sign with")
	ErrNoSOA  = errors.New("the zone has no SOA record")
	// ErrSelfCheck means that a signature just made does not verify: nothing is
	// handed out (a fault of the machine, or of this program).
	ErrSelfCheck = errors.New("a signature that was just made does not verify")
)

// verifyEvery is which share of new signatures is verified at once, besides
// those over the SOA and the keys: checking costs more than twice signing.
const verifyEvery = 256

// denialBits are the types that a signed name has besides its data.
var denialBits = [...]rr.Type{rr.TypeNSEC, rr.TypeRRSIG}

// Sign makes a signed version of z: DNSKEY records of all keys, an NSEC chain
// and signatures with every algorithm among the keys (RFC 4035 §2). Old
// signatures, NSEC and DNSKEY records of the input are replaced. The same zone,
// keys, policy and time give the same octets.
func Sign(ctx context.Context, z *zone.Snapshot, keys []Key, p Policy, now time.Time) (*zone.Snapshot, Report, error) {
	p = p.filled()
	soa, ok := z.SOA()
	if !ok {
		return nil, Report{}, ErrNoSOA
	}
	job := &signing{z: z, p: p, apex: []byte(z.Apex().Key()),
		times: dnssec.Times{Inception: now.Add(-p.Inception).Truncate(time.Second), Expiration: now.Add(p.Validity).Truncate(time.Second)}}
	for _, k := range keys {
		if k.Role != ZSK {
			job.ksks = append(job.ksks, k.Key)
		}
		if k.Role != KSK {
			job.zsks = append(job.zsks, k.Key)
		}
	}
	if len(job.ksks) == 0 || len(job.zsks) == 0 {
		return nil, Report{}, fmt.Errorf("%s: %w", z.Apex(), ErrNoKeys)
	}
	job.keys = keys
	// RFC 9077 §3: NSEC records live no longer than negative answers do.
	var apex zone.Node
	z.ApexNode(&apex)
	soaSet, _ := apex.Find(rr.TypeSOA)
	job.denialTTL = min(soaSet.TTL, soa.Minimum)

	out, err := z.Rewrite(ctx, p.Workers, p.Done, job.worker)
	report := Report{Signatures: int(job.signatures.Load()), Replaced: int(job.replaced.Load()), Expires: job.times.Expiration}
	if err != nil {
		return nil, report, fmt.Errorf("signing %s: %w", z.Apex(), err)
	}
	return out, report, nil
}

// signing is one run of Sign.
type signing struct {
	z          *zone.Snapshot
	p          Policy
	apex       []byte // canonical wire form
	keys       []Key
	ksks, zsks []*dnssec.Key
	times      dnssec.Times
	denialTTL  uint32

	signatures, replaced atomic.Int64
}

// worker makes the transformation that one goroutine runs, with its memory.
func (j *signing) worker() zone.Transform {
	w := &signWorker{signing: j}
	return w.node
}

type signWorker struct {
	*signing
	owner, scratch []byte
	types          []rr.Type
	made           int
}

// node signs one name.
func (w *signWorker) node(n, next *zone.Node, out *zone.NodeWriter) error {
	authoritative := !n.Occluded()
	w.owner = w.z.AppendOwner(w.owner[:0], n)
	w.types = w.types[:0]
	for set := range n.RRsets {
		if drop(set.Type, n.IsApex()) {
			w.replaced.Add(int64(set.N))
			continue
		}
		if n.IsApex() && set.Type == rr.TypeSOA && w.p.Serial != 0 {
			set = set.With(rr.SetSerial(set.First(), w.p.Serial))
		}
		out.AddSet(set)
		if !authoritative || n.IsCut() && set.Type != rr.TypeNS && set.Type != rr.TypeDS {
			continue
		}
		w.types = append(w.types, set.Type)
		if n.IsCut() && set.Type == rr.TypeNS {
			continue // belongs to the child (RFC 4035 §2.2)
		}
		if err := w.sign(set, w.zsks, out); err != nil {
			return err
		}
	}
	if !authoritative {
		return nil
	}
	if n.IsApex() {
		if err := w.dnskeys(out); err != nil {
			return err
		}
	}
	return w.denial(next, out)
}

// drop tells whether a type of the input is made anew.
func drop(t rr.Type, apex bool) bool {
	return t == rr.TypeRRSIG || t == rr.TypeNSEC || apex && t == rr.TypeDNSKEY
}

// dnskeys adds the DNSKEY set, signed by the keys for it.
func (w *signWorker) dnskeys(out *zone.NodeWriter) error {
	var data [][]byte
	for _, k := range w.keys {
		data = append(data, k.Data)
	}
	set := zone.NewRRset(rr.TypeDNSKEY, w.p.DNSKEYTTL, data)
	out.AddSet(set)
	w.types = append(w.types, rr.TypeDNSKEY)
	return w.sign(set, w.ksks, out)
}

// denial adds the NSEC record (RFC 4034 §4, RFC 4035 §2.3).
func (w *signWorker) denial(next *zone.Node, out *zone.NodeWriter) error {
	w.types = append(w.types, denialBits[:]...)
	data := w.z.AppendOwner(make([]byte, 0, dnsname.MaxWire+16), next)
	data = rr.AppendBitmap(data, w.types)
	set := zone.NewRRset(rr.TypeNSEC, w.denialTTL, [][]byte{data})
	out.AddSet(set)
	return w.sign(set, w.zsks, out)
}

func (w *signWorker) sign(set zone.RRset, keys []*dnssec.Key, out *zone.NodeWriter) error {
	for _, k := range keys {
		data, scratch, err := k.SignSet(w.scratch, w.apex, w.owner, set, w.times)
		w.scratch = scratch
		if err != nil {
			return err
		}
		w.made++
		if w.made%verifyEvery == 1 || set.Type == rr.TypeSOA || set.Type == rr.TypeDNSKEY {
			sig, _ := dnssec.ParseRRSIG(data)
			if err := k.Verify(scratch, sig.Signature); err != nil {
				return fmt.Errorf("%w: %s at %s", ErrSelfCheck, set.Type, dnsname.AppendText(nil, w.owner))
			}
		}
		w.signatures.Add(1)
		out.Add(rr.TypeRRSIG, set.TTL, data)
	}
	return nil
}
