// Package answer is the authoritative algorithm (RFC 1034 §4.3.2 as amended by
// RFC 2308, 4035, 4592, 6604 and 8020): from zone versions and a question to a
// response. It is a pure function: it reads no clock, no socket, no file. The
// server, `ask --zone`, expectations and rehearsals all use it.
//
// Where the standards leave room: positive answers carry no authority records, and of
// additional ones the addresses of hosts that MX, SRV, SVCB and HTTPS name; a referral
// carries all the glue; ANY over UDP is answered
// with one set (RFC 8482 §4.1); a chain of aliases is followed for 16 steps, or until
// it comes back to a name that was met; each record stands once.
package answer

import (
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/zone"
)

// State says what a server has of a zone.
type State uint8

// The states.
const (
	NotServed   State = iota // no zone at or above the name
	Served                   // there is a version to answer from
	Unavailable              // configured, and not loaded yet
	Expired                  // configured, and too old to answer from (RFC 1035 §3.3.13)
)

// Source finds the zone for a name.
type Source interface {
	// Find is the zone with the longest apex at or above the name in wire form;
	// with above, only zones above the name itself count (RFC 4035 §3.1.4.1).
	Find(name []byte, above bool) (*zone.Snapshot, State)
}

// Options of one response.
type Options struct {
	TCP     bool
	Limit   int    // most octets of the response
	UDPSize uint16 // what we say in OPT that we take over UDP
	// Expire is for how many seconds the zone may still be served, for whoever asked
	// (RFC 7314); negative says nothing of it.
	Expire int64
	// EDNS are further options for the response, in wire form.
	EDNS []byte
}

// maxChain bounds how many aliases one answer follows.
const maxChain = 16

// Responder answers questions. It holds scratch memory, so that plain answers
// allocate nothing; a Responder serves one goroutine at a time.
type Responder struct {
	// Trace, if set, is told how each answer came about.
	Trace *Trace

	b        message.Builder
	q        *message.Query
	src      Source
	tcp      bool
	z        *zone.Snapshot
	dnssec   bool // signatures and proofs are wanted and there are some
	m        zone.Match
	wild     zone.Match
	node     zone.Node
	key      []byte
	owner    []byte // of the RRset looked at now; nil while it is QNAME
	target   []byte
	scratch  []byte
	truncate bool
	cover    zone.Cursor
	proof    zone.Node

	// What is in the response already: each record stands there once (RFC 2181 §5).
	proofs  [maxChain + 3]zone.Node // with NSEC or NSEC3
	nProofs int
	dnames  [maxChain]zone.Node
	nDNames int
	names   [maxChain][]byte // owners of aliases, to find out about loops
	// due are the wildcards that made aliases: the proof that no closer name exists
	// follows in the authority section (RFC 4035 §3.1.3.3), behind all answers.
	due  [maxChain]dueProof
	nDue int
	more further
}

// dueProof is where a proof is taken from: the cursor is on the name before, or on
// the NSEC3 record.
type dueProof struct {
	z  *zone.Snapshot
	at zone.Cursor
}

// Respond appends the response to q to dst.
func (r *Responder) Respond(dst []byte, q *message.Query, src Source, o Options) []byte {
	r.q, r.src, r.tcp, r.truncate, r.owner = q, src, o.TCP, false, nil
	r.nProofs, r.nDNames, r.nDue, r.more.set.N = 0, 0, 0, 0
	r.b.Begin(dst, q, o.Limit, o.UDPSize)
	if q.WantsExpire && o.Expire >= 0 {
		r.b.AddExpire(uint32(o.Expire))
	}
	if len(o.EDNS) > 0 {
		r.b.AddOptions(o.EDNS)
	}
	if code, why := refuse(q); code != message.NoError {
		r.b.SetRcode(code)
		r.b.SetEDE(why)
		return r.b.Finish()
	}
	z, state := src.Find(q.Name, q.Type == rr.TypeDS)
	if q.Type == rr.TypeDS && state == NotServed {
		z, state = src.Find(q.Name, false)
	}
	switch state {
	case NotServed:
		r.trace(Step{Kind: NoZone})
		r.b.SetRcode(message.Refused)
		r.b.SetEDE(message.NotAuthoritative)
		return r.b.Finish()
	case Unavailable, Expired:
		r.trace(Step{Kind: ZoneUnavailable})
		r.b.SetRcode(message.ServFail)
		r.b.SetEDE(state.Why())
		return r.b.Finish()
	}
	if q.WantsVersion {
		r.version(z)
	}
	r.chain(z)
	r.settle()
	if r.more.set.N > 0 {
		r.additional()
	}
	if r.truncate {
		r.b.SetFlag(message.FlagTC)
	}
	return r.b.Finish()
}

// Why is the extended error for what there is no answer from (RFC 8914 §4.15, §4.25).
func (s State) Why() message.ExtendedError {
	if s == Expired {
		return message.InvalidData
	}
	return message.NotReady
}

// version says which version of which zone the answer is made from: the labels of its name,
// the kind of version, and the serial (RFC 9660 §2).
func (r *Responder) version(z *zone.Snapshot) {
	const serial = 0
	s := z.Serial()
	data := [6]byte{byte(z.Apex().Labels()), serial, byte(s >> 24), byte(s >> 16), byte(s >> 8), byte(s)}
	r.b.AddOption(message.OptionVersion, data[:])
}

// refuse finds questions that are not about data.
func refuse(q *message.Query) (message.Rcode, message.ExtendedError) {
	const nxname, maila, mailb = 128, 254, 253
	switch {
	case q.Class != rr.ClassIN:
		return message.Refused, message.NotSupported
	case q.Type == rr.TypeOPT || q.Type == rr.TypeTSIG || q.Type == nxname || q.Type == 0:
		return message.FormErr, message.InvalidQueryType
	case q.Type == maila || q.Type == mailb:
		return message.NotImp, message.NotSupported
	}
	return message.NoError, 0
}

// chain answers from zone z and follows aliases into other zones served here, until
// one leads back to a name that was met.
func (r *Responder) chain(z *zone.Snapshot) {
	name := r.q.Name
	for step := 0; ; step++ {
		r.z = z
		r.dnssec = r.q.DO && z.Signed()
		r.key, _ = z.AppendKey(r.key[:0], name)
		r.names[step] = append(r.names[step][:0], name...)
		next := r.lookup(step)
		if next == nil || step == maxChain-1 || r.met(next, step) {
			return
		}
		// The target is kept, for next lies in a page and becomes the owner.
		r.target = append(r.target[:0], next...)
		name = r.target
		r.owner = r.target
		above, state := r.src.Find(name, r.q.Type == rr.TypeDS)
		if state != Served {
			if state == NotServed && r.q.Type == rr.TypeDS {
				if at, st := r.src.Find(name, false); st == Served {
					z = at
					continue
				}
			}
			r.trace(Step{Kind: LeavesServer, Name: name})
			return
		}
		z = above
	}
}

// met reports whether a name is one of those that were looked up.
func (r *Responder) met(name []byte, step int) bool {
	for _, n := range r.names[:step+1] {
		if dnsname.EqualWire(n, name) {
			return true
		}
	}
	return false
}

// lookup answers for the name with r.key in zone r.z. It returns the target of
// an alias that is to be followed.
func (r *Responder) lookup(step int) (follow []byte) {
	r.z.Lookup(r.key, &r.m)
	m := &r.m
	if m.Cut && !(m.Exact && r.q.Type == rr.TypeDS) {
		r.referral(step)
		return nil
	}
	if step == 0 {
		r.b.SetFlag(message.FlagAA) // of the first owner (RFC 6604 §2)
	}
	switch {
	case m.BelowDNAME:
		return r.substitute()
	case m.Exact:
		return r.data(&m.Node, false)
	case m.EmptyNonTerminal:
		r.trace(Step{Kind: EmptyNonTerminal, Zone: r.z})
		r.negative()
		r.noType(nil)
		return nil
	}
	if exists, empty := r.z.Wildcard(r.key, m.Encloser, &r.node); exists {
		if !empty {
			return r.data(&r.node, true)
		}
		r.trace(Step{Kind: EmptyWildcard, Zone: r.z, Encloser: m.Encloser, Key: r.key})
		r.negative()
		r.noEmptyWildcard(m.Encloser)
		return nil
	}
	r.trace(Step{Kind: NameMissing, Zone: r.z, Encloser: m.Encloser, Key: r.key})
	r.b.SetRcode(message.NXDomain)
	r.negative()
	r.noName(m.Encloser)
	return nil
}

// data answers from a node: the set asked for, the alias, or that there is none.
func (r *Responder) data(n *zone.Node, wildcard bool) (follow []byte) {
	t := r.q.Type
	if t == rr.TypeANY {
		r.any(n, wildcard)
		return nil
	}
	if t == rr.TypeRRSIG && r.signatures(n, wildcard) {
		return nil
	}
	if set, sig, ok := n.FindWithSig(t); ok && t != rr.TypeRRSIG {
		r.trace(Step{Kind: matched(wildcard), Zone: r.z, Node: n, Type: t})
		if !r.redirected(n, t) {
			r.positive(set, sig, wildcard)
			r.mention(set)
		}
		return nil
	}
	if n.HasAlias() {
		set, sig, _ := n.FindWithSig(rr.TypeCNAME)
		r.trace(Step{Kind: aliased(wildcard), Zone: r.z, Node: n, Name: set.First()})
		if !r.positive(set, sig, wildcard) {
			return nil
		}
		return set.First()
	}
	r.trace(Step{Kind: TypeMissing, Zone: r.z, Node: n, Type: t, Wildcard: wildcard})
	r.negative()
	if wildcard {
		r.noWildcardType(n)
	} else {
		r.noType(n)
	}
	return nil
}

// positive puts a set and its signatures into the answer.
func (r *Responder) positive(set, sig zone.RRset, wildcard bool) bool {
	if !r.add(message.AnswerSection, r.owner, set, set.TTL) {
		r.truncate = true
		return false
	}
	if r.dnssec {
		if !r.add(message.AnswerSection, r.owner, sig, sig.TTL) {
			r.truncate = true
			return false
		}
		if wildcard { // RFC 4035 §3.1.3.3
			r.noCloser()
		}
	}
	return true
}

// add writes all records of a set or none.
func (r *Responder) add(s message.Section, owner []byte, set zone.RRset, ttl uint32) bool {
	if set.N == 0 {
		return true
	}
	mark := r.b.Mark()
	var data []byte
	for t := set.Type; set.N > 0; {
		data, set = set.Next()
		if !r.b.Record(s, owner, t, ttl, data) {
			r.b.Rollback(mark)
			return false
		}
	}
	return true
}

// any answers ANY: one set over UDP, everything over TCP (RFC 8482 §4.1, §4.4).
func (r *Responder) any(n *zone.Node, wildcard bool) {
	r.trace(Step{Kind: matched(wildcard), Zone: r.z, Node: n, Type: rr.TypeANY})
	for set := range n.RRsets {
		if set.Type == rr.TypeRRSIG && !r.tcp {
			continue // goes with its set below
		}
		if r.tcp && set.Type == rr.TypeRRSIG && (!r.dnssec || r.redirected(n, set.Covered())) {
			continue
		}
		if r.redirected(n, set.Type) {
			if r.tcp {
				continue
			}
			break
		}
		if !r.add(message.AnswerSection, r.owner, set, set.TTL) {
			r.truncate = true
			return
		}
		if !r.tcp {
			if r.dnssec {
				sig, _ := n.FindSig(set.Type)
				r.truncate = !r.add(message.AnswerSection, r.owner, sig, sig.TTL)
			}
			break
		}
	}
	if wildcard {
		r.noCloser()
	}
}

// signatures answers RRSIG: those of one set over UDP, all over TCP (RFC 8482 §7);
// false if there are none.
func (r *Responder) signatures(n *zone.Node, wildcard bool) (found bool) {
	for set := range n.RRsets {
		if set.Type != rr.TypeRRSIG || found && !r.tcp {
			continue
		}
		found = true
		if r.dnssec && r.redirected(n, set.Covered()) {
			continue // it came with the DNAME
		}
		if !r.add(message.AnswerSection, r.owner, set, set.TTL) {
			r.truncate = true
			return true
		}
	}
	if found {
		r.trace(Step{Kind: matched(wildcard), Zone: r.z, Node: n, Type: rr.TypeRRSIG})
		if wildcard {
			r.noCloser()
		}
	}
	return found
}

// negative puts the SOA into the authority section, with the time for which
// the answer may be remembered (RFC 2308 §3, §5).
func (r *Responder) negative() {
	r.settle()
	var apex zone.Node
	if !r.z.ApexNode(&apex) {
		return
	}
	set, sig, ok := apex.FindWithSig(rr.TypeSOA)
	if !ok {
		return
	}
	soa, _ := r.z.SOA()
	ttl := min(set.TTL, soa.Minimum)
	owner := message.QName
	if r.owner != nil || len(r.key) > 0 {
		r.scratch = append(r.scratch[:0], r.z.Apex().Wire()...)
		owner = r.scratch
	}
	if !r.addSOA(set, ttl) || r.dnssec && !r.add(message.AuthoritySection, owner, sig, ttl) {
		r.truncate = true
	}
}

// addSOA writes the SOA, with a pointer into the question where that is possible.
func (r *Responder) addSOA(set zone.RRset, ttl uint32) bool {
	mark := r.b.Mark()
	var ok bool
	if r.owner == nil {
		ok = r.b.SuffixRecord(message.AuthoritySection, len(r.z.Apex().Wire()), rr.TypeSOA, ttl, set.First())
	} else {
		r.scratch = append(r.scratch[:0], r.z.Apex().Wire()...)
		ok = r.b.Record(message.AuthoritySection, r.scratch, rr.TypeSOA, ttl, set.First())
	}
	if !ok {
		r.b.Rollback(mark)
	}
	return ok
}

// substitute answers for a name below a DNAME (RFC 6672 §3.2).
func (r *Responder) substitute() (follow []byte) {
	n := &r.m.Node
	set, sig, _ := n.FindWithSig(rr.TypeDNAME)
	r.trace(Step{Kind: Substituted, Zone: r.z, Node: n, Name: set.First()})
	r.scratch = r.z.AppendOwner(r.scratch[:0], n)
	if !r.usedDNAME(n) && (!r.add(message.AnswerSection, r.scratch, set, set.TTL) ||
		r.dnssec && !r.add(message.AnswerSection, r.scratch, sig, sig.TTL)) {
		r.truncate = true
		return nil
	}
	asked := r.q.Name
	if r.owner != nil {
		asked = r.owner
	}
	head := asked[:len(asked)-len(r.scratch)]
	if len(head)+len(set.First()) > dnsname.MaxWire {
		const yxdomain = 6
		r.b.SetRcode(yxdomain)
		return nil
	}
	r.scratch = append(append(r.scratch[:0], head...), set.First()...)
	mark := r.b.Mark()
	if !r.b.Record(message.AnswerSection, r.owner, rr.TypeCNAME, set.TTL, r.scratch) {
		r.b.Rollback(mark)
		r.truncate = true
		return nil
	}
	if r.q.Type == rr.TypeCNAME {
		return nil
	}
	return r.scratch
}

// redirected reports whether the set asked for is a DNAME that stands in the response
// because it led here.
func (r *Responder) redirected(n *zone.Node, t rr.Type) bool {
	if t != rr.TypeDNAME {
		return false
	}
	for i := range r.nDNames {
		if r.dnames[i].Same(n) {
			return true
		}
	}
	return false
}

// usedDNAME reports whether the DNAME of a node is in the response, and notes that it
// will be.
func (r *Responder) usedDNAME(n *zone.Node) bool {
	if r.redirected(n, rr.TypeDNAME) {
		return true
	}
	r.dnames[r.nDNames] = *n
	r.nDNames++
	return false
}
