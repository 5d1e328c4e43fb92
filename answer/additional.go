package answer

import (
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/zone"
)

// hostAt is where, in data of a type, the host stands whose addresses whoever got the data will
// ask for next (RFC 1035 §3.3.9, RFC 2782, RFC 9460 §4.2).
var hostAt = map[rr.Type]int{rr.TypeMX: 2, rr.TypeSRV: 6, rr.TypeSVCB: 2, rr.TypeHTTPS: 2}

// maxTargets is how many hosts of one answer are looked up.
const maxTargets = 8

// further is an answer of which more may be said.
type further struct {
	set  zone.RRset
	at   int // where the host stands in its data
	seen [maxTargets]zone.Node
	n    int
}

// mention notes a set that was answered, if hosts stand in it.
func (r *Responder) mention(set zone.RRset) {
	r.more.set.N = 0
	switch set.Type { // a map only where there is something to be found
	case rr.TypeMX, rr.TypeSRV, rr.TypeSVCB, rr.TypeHTTPS:
		r.more.set, r.more.at, r.more.n = set, hostAt[set.Type], 0
	}
}

// additional adds the addresses of the hosts that the answer names, as far as the zone has them
// and they fit; and of an alias for a service what it leads to. They may be left out: nothing is
// cut off for them (RFC 2181 §9).
func (r *Responder) additional() {
	set := r.more.set
	if r.truncate {
		return
	}
	service := set.Type == rr.TypeSVCB || set.Type == rr.TypeHTTPS
	for t := set.Type; set.N > 0 && r.more.n < maxTargets; {
		var data []byte
		data, set = set.Next()
		if len(data) <= r.more.at {
			continue
		}
		host := data[r.more.at:]
		n, err := dnsname.WireLen(host)
		if err != nil {
			continue
		}
		alias := service && data[0] == 0 && data[1] == 0
		var fits bool
		switch {
		case n > 1 && alias:
			fits = r.host(host[:n], t)
		case n > 1:
			fits = r.host(host[:n], 0)
		case service && !alias: // the owner itself (RFC 9460 §2.5.2)
			fits = r.host(nil, 0)
		default: // there is no such service
			fits = true
		}
		if !fits {
			return
		}
	}
}

// host adds the addresses of a host, nil for the owner of the answer, and its set of a type;
// false where they do not fit.
func (r *Responder) host(name []byte, also rr.Type) bool {
	var keyBuf [2 * dnsname.MaxWire]byte
	key, owner := r.key, r.owner
	if name != nil {
		var ok bool
		if key, ok = r.z.AppendKey(keyBuf[:0], name); !ok {
			return true
		}
		owner = name
	}
	self := string(key) == string(r.key)
	n := &r.more.seen[r.more.n]
	if !r.z.Get(key, n) || n.Occluded() || n.IsCut() {
		return true
	}
	for i := range r.more.n {
		if n.Same(&r.more.seen[i]) {
			return true
		}
	}
	r.more.n++
	for _, t := range [3]rr.Type{also, rr.TypeA, rr.TypeAAAA} {
		if t == 0 || t == also && self {
			continue
		}
		set, sig, _ := n.FindWithSig(t)
		mark := r.b.Mark()
		if !r.add(message.AdditionalSection, owner, set, set.TTL) {
			return false
		}
		if r.dnssec && !r.add(message.AdditionalSection, owner, sig, sig.TTL) {
			r.b.Rollback(mark)
			return false
		}
	}
	return true
}
