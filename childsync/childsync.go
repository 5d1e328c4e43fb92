// Package childsync is the parent's side of a delegation: what it may take over from a
// child that asks by CDS and CDNSKEY (RFC 7344, RFC 8078) or CSYNC (RFC 7477). It is
// pure: what each of the child's servers showed comes in, and what to change, or why
// nothing is, goes out.
package childsync

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"slices"
	"time"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/validate"
	"fencepost/zone"
)

// Seen is what one server of the child showed: its serial before and after, and the
// records of the answers, with signatures and proofs.
type Seen struct {
	Server        string
	Before, After uint32
	Records       []rr.Record
	Err           error // it could not be asked
	SyncErr       error // it could not be asked for CSYNC and the delegation
}

// RefusedError says why a child's request is not followed.
type RefusedError struct{ Why string }

func (e *RefusedError) Error() string { return e.Why }

func refuse(format string, args ...any) error {
	return &RefusedError{fmt.Sprintf(format, args...)}
}

// Child is a delegation as the parent has it.
type Child struct {
	Name    dnsname.Name
	DS      [][]byte
	Servers []dnsname.Name
	Glue    map[string][][]byte // by the key of the host's name: addresses, 4 or 16 octets
}

// First is what lets the keys of a child that has no DS yet be taken over.
type First struct {
	// Trusted takes them although nothing proves them but that all servers agree
	// (RFC 8078 §3.3).
	Trusted bool
	// Signals are what was found at the signalling names of the name servers that lie
	// outside the child (RFC 9615); nil: they were not looked at.
	Signals []Signal
}

// Signal is what was found at the signalling name of one name server.
type Signal struct {
	Server  dnsname.Name
	Sets    *validate.RRsets
	Anchors []rr.Record
	Err     error
}

// SignalName is the name at which a name server vouches for the keys of a child:
// _dsboot.CHILD._signal.SERVER (RFC 9615 §3.1).
func SignalName(child, server dnsname.Name) (dnsname.Name, error) {
	wire := append([]byte("\x07_dsboot"), child.Wire()[:len(child.Wire())-1]...)
	wire = append(append(wire, "\x07_signal"...), server.Wire()...)
	return dnsname.FromWire(wire)
}

// signalled tells why the signals do not vouch for the records that all servers of
// the child show (RFC 9615 §4.2); nil if they do.
func (c *Child) signalled(signals []Signal, cds, cdnskeys [][]byte, now time.Time) error {
	vouched := 0
	for _, s := range signals {
		name, err := SignalName(c.Name, s.Server)
		if err != nil {
			return refuse("the signalling name below %s would be too long", s.Server)
		}
		if s.Err != nil {
			return refuse("%s could not be asked for: %v", name, s.Err)
		}
		for t, want := range map[rr.Type][][]byte{rr.TypeCDS: cds, rr.TypeCDNSKEY: cdnskeys} {
			if v := s.Sets.Validate(s.Anchors, name, t, now); v.Status != validate.Secure {
				return refuse("%s %s is not proved but %s: %s (RFC 9615 §4.2)", name, t, v.Status, v.Reason)
			}
			if have := s.Sets.Data(name, t); len(have) == 0 && len(want) > 0 {
				return refuse("there are no %s records at %s (RFC 9615 §4.2)", t, name)
			} else if !same(have, want) {
				return refuse("the %s records at %s are not those of the child (RFC 9615 §4.2)", t, name)
			}
		}
		vouched++
	}
	if vouched == 0 {
		return refuse("%s has no name server outside it, so none can vouch for its keys (RFC 9615 §4.2)", c.Name)
	}
	return nil
}

// WantedDS works out the DS set that the child asks for. change is false when it asks for
// nothing, or for what is there.
func (c *Child) WantedDS(seen []Seen, first First, now time.Time) (want [][]byte, change bool, err error) {
	if len(seen) == 0 {
		return nil, false, refuse("%s has no server that could be asked", c.Name)
	}
	if !slices.ContainsFunc(seen, func(s Seen) bool { return c.asksForDS(&s) }) { // RFC 7344 §4.1: nothing is asked
		if i := slices.IndexFunc(seen, func(s Seen) bool { return s.Err != nil }); i >= 0 && len(c.DS) > 0 {
			return nil, false, refuse("%s could not be asked: %v", seen[i].Server, seen[i].Err)
		}
		return c.DS, false, nil
	}
	if len(c.DS) == 0 && !first.Trusted && first.Signals == nil {
		return nil, false, refuse("%s has no DS yet, so nothing proves what its servers say; enter the first one by hand, or permit it (RFC 8078 §3)", c.Name)
	}
	var cds, cdnskeys [][]byte
	for i := range seen {
		s := &seen[i]
		if s.Err != nil { // RFC 7344 §6.1: all servers have to agree
			return nil, false, refuse("%s could not be asked: %v", s.Server, s.Err)
		}
		a, b, err := c.request(s, now)
		if err != nil {
			return nil, false, err
		}
		if i > 0 && (!same(a, cds) || !same(b, cdnskeys)) {
			return nil, false, refuse("the servers do not agree: %s shows other CDS or CDNSKEY records than %s", s.Server, seen[0].Server)
		}
		cds, cdnskeys = a, b
	}
	want, err = c.wanted(cds, cdnskeys)
	if err == nil && len(c.DS) == 0 && !first.Trusted {
		err = c.signalled(first.Signals, cds, cdnskeys, now)
	}
	if err != nil {
		return nil, false, err
	}
	for i := range seen {
		if err := c.works(&seen[i], want, now); err != nil {
			return nil, false, err
		}
	}
	return want, !same(want, c.DS), nil
}

// asksForDS reports whether a server shows a request on the DS, proved or not.
func (c *Child) asksForDS(s *Seen) bool {
	return slices.ContainsFunc(s.Records, func(r rr.Record) bool {
		return (r.Type == rr.TypeCDS || r.Type == rr.TypeCDNSKEY) && r.Name.Equal(c.Name)
	})
}

// request is the CDS and CDNSKEY records of one server, proved by the present DS.
func (c *Child) request(s *Seen, now time.Time) (cds, cdnskeys [][]byte, err error) {
	p := validate.NewRRsets(s.Records)
	cds, cdnskeys = p.Data(c.Name, rr.TypeCDS), p.Data(c.Name, rr.TypeCDNSKEY)
	anchors := records(c.Name, rr.TypeDS, c.DS)
	if len(anchors) == 0 {
		if slices.ContainsFunc(cds, func(d []byte) bool { return signer.IsDelete(rr.TypeCDS, d) }) {
			return nil, nil, refuse("%s asks for its DS to be deleted, and it has none", c.Name)
		}
		anchors = append(records(c.Name, rr.TypeDS, cds), records(c.Name, rr.TypeDNSKEY, cdnskeys)...)
		if len(anchors) == 0 {
			return nil, nil, nil
		}
	}
	all, v := p.TrustKeys(c.Name, anchors, now)
	if all == nil {
		return nil, nil, refuse("what %s shows is not proved by the present DS: %s", s.Server, v.Reason)
	}
	// A request counts only if a key that the parent knows has signed it (RFC 7344 §4.1).
	entries := p.EntryKeys(c.Name, anchors)
	for t, data := range map[rr.Type][][]byte{rr.TypeCDS: cds, rr.TypeCDNSKEY: cdnskeys} {
		keys := all
		if len(data) > 0 {
			keys = entries
		}
		if v := p.Set(keys, c.Name, t, now); v.Status != validate.Secure {
			return nil, nil, refuse("the %s records of %s at %s are not proved: %s", t, c.Name, s.Server, v.Reason)
		}
	}
	var public []*dnssec.PublicKey
	for _, data := range p.Data(c.Name, rr.TypeDNSKEY) {
		if k, err := dnssec.ParseDNSKEY(data); err == nil {
			public = append(public, k)
		}
	}
	faults := signer.CDSFaults(c.Name, public, zone.NewRRset(rr.TypeCDS, 0, cds), zone.NewRRset(rr.TypeCDNSKEY, 0, cdnskeys))
	if len(faults) > 0 {
		return nil, nil, refuse("%s at %s: %s", c.Name, s.Server, faults[0])
	}
	return cds, cdnskeys, nil
}

func records(name dnsname.Name, t rr.Type, data [][]byte) (out []rr.Record) {
	for _, d := range data {
		if !signer.IsDelete(rr.TypeCDS, d) || t != rr.TypeDS {
			out = append(out, rr.Record{Name: name, Type: t, Class: rr.ClassIN, Data: d})
		}
	}
	return out
}

// wanted is the DS set that a request means: none for the request to delete, the CDS
// with digests that are made today, or SHA-256 of the CDNSKEY records.
func (c *Child) wanted(cds, cdnskeys [][]byte) (want [][]byte, err error) {
	for _, d := range cds {
		if signer.IsDelete(rr.TypeCDS, d) {
			return nil, nil
		}
		if len(d) > 4 && dnssec.DigestLevel(d[3]).Signing >= dnssec.Allowed {
			want = append(want, d)
		}
	}
	for _, k := range cdnskeys {
		if signer.IsDelete(rr.TypeCDNSKEY, k) {
			return nil, nil
		}
		if len(cds) == 0 {
			want = append(want, dnssec.DS(c.Name, k, dnssec.DigestSHA256))
		}
	}
	if len(want) == 0 {
		return nil, refuse("%s asks for DS with digests that are not to be used (RFC 8624 §3.3)", c.Name)
	}
	return want, nil
}

// works looks whether a new DS set leads to keys that sign, with each of its
// algorithms (RFC 7344 §4.1).
func (c *Child) works(s *Seen, want [][]byte, now time.Time) error {
	byAlgorithm := map[byte][][]byte{}
	for _, d := range want {
		byAlgorithm[d[2]] = append(byAlgorithm[d[2]], d)
	}
	for alg, ds := range byAlgorithm {
		if _, v := validate.NewRRsets(s.Records).TrustKeys(c.Name, records(c.Name, rr.TypeDS, ds), now); v.Status != validate.Secure {
			return refuse("%s would become unreachable for validating resolvers: at %s the new DS of algorithm %s match no key that signs: %s", c.Name, s.Server, rr.AlgorithmNumber(alg), v.Reason)
		}
	}
	return nil
}

func same(a, b [][]byte) bool {
	if len(a) != len(b) {
		return false
	}
	sort := func(in [][]byte) [][]byte {
		out := slices.Clone(in)
		slices.SortFunc(out, bytes.Compare)
		return out
	}
	return slices.EqualFunc(sort(a), sort(b), func(x, y []byte) bool { return bytes.Equal(x, y) })
}

// Flags of CSYNC records (RFC 7477 §2.1.1.2).
const (
	syncImmediate  = 1
	syncSOAMinimum = 2
)

// WantedServers works out the name servers and glue that the child asks for by CSYNC. approved
// tells that somebody agreed to a request that is not to be followed at once.
func (c *Child) WantedServers(seen []Seen, approved bool, now time.Time) (want *Child, change bool, err error) {
	for i := range seen {
		next, asked, err := c.syncAt(&seen[i], approved, now)
		if err != nil {
			return nil, false, err
		}
		if !asked {
			return c, false, nil
		}
		if want != nil && !want.equal(next) {
			return nil, false, refuse("the servers do not agree on the delegation: %s shows another than %s", seen[i].Server, seen[0].Server)
		}
		want = next
	}
	return want, want != nil && !want.equal(c), nil
}

// syncAt is what one server asks for (RFC 7477 §3.1).
func (c *Child) syncAt(s *Seen, approved bool, now time.Time) (want *Child, asked bool, err error) {
	if err := cmp.Or(s.Err, s.SyncErr); err != nil {
		return nil, false, refuse("%s could not be asked: %v", s.Server, err)
	}
	p := validate.NewRRsets(s.Records)
	list := p.Data(c.Name, rr.TypeCSYNC)
	if len(list) == 0 {
		return nil, false, nil
	}
	if len(c.DS) == 0 {
		return nil, false, refuse("%s is not signed, so its CSYNC record proves nothing (RFC 7477 §3)", c.Name)
	}
	keys, v := p.TrustKeys(c.Name, records(c.Name, rr.TypeDS, c.DS), now)
	if keys == nil {
		return nil, false, refuse("what %s shows is not proved by the DS: %s", s.Server, v.Reason)
	}
	proved := func(name dnsname.Name, t rr.Type) error {
		if v := p.Set(keys, name, t, now); v.Status != validate.Secure {
			return refuse("%s %s at %s is not proved: %s", name, t, s.Server, v.Reason)
		}
		return nil
	}
	if err := proved(c.Name, rr.TypeCSYNC); err != nil {
		return nil, false, err
	}
	types, err := c.syncRules(s, list, approved)
	if err != nil {
		return nil, false, err
	}
	want = &Child{Name: c.Name, DS: c.DS, Servers: slices.Clone(c.Servers), Glue: map[string][][]byte{}}
	if slices.Contains(types, rr.TypeNS) {
		if err := proved(c.Name, rr.TypeNS); err != nil {
			return nil, false, err
		}
		if want.Servers = names(p.Data(c.Name, rr.TypeNS)); len(want.Servers) == 0 {
			return nil, false, refuse("%s shows no NS record, and a delegation needs one (RFC 7477 §3.2.1)", s.Server)
		}
	}
	for _, host := range want.Servers {
		if !host.AtOrBelow(c.Name) {
			continue
		}
		for _, t := range []rr.Type{rr.TypeA, rr.TypeAAAA} {
			if !slices.Contains(types, t) {
				want.Glue[host.Key()] = append(want.Glue[host.Key()], ofType(c.Glue[host.Key()], t)...)
				continue
			}
			if err := proved(host, t); err != nil {
				return nil, false, err
			}
			want.Glue[host.Key()] = append(want.Glue[host.Key()], p.Data(host, t)...)
		}
		if len(want.Glue[host.Key()]) == 0 {
			return nil, false, refuse("the server %s would have no address, so %s could not be reached (RFC 7477 §4.3)", host, c.Name)
		}
	}
	return want, true, nil
}

// syncRules are the rules on the CSYNC record itself.
func (c *Child) syncRules(s *Seen, list [][]byte, approved bool) ([]rr.Type, error) {
	data := list[0]
	if len(list) > 1 || len(data) < 6 {
		return nil, refuse("%s has %d CSYNC records; there must be one (RFC 7477 §2)", c.Name, len(list))
	}
	serial, flags, types := binary.BigEndian.Uint32(data), binary.BigEndian.Uint16(data[4:]), rr.BitmapTypes(data[6:])
	switch {
	case flags&^(syncImmediate|syncSOAMinimum) != 0:
		return nil, refuse("the CSYNC record of %s has flags %d, of which some are not known (RFC 7477 §2.1.1.2)", c.Name, flags)
	case s.Before != s.After:
		return nil, refuse("%s changed while it was asked, from serial %d to %d; try again (RFC 7477 §3.1)", s.Server, s.Before, s.After)
	case flags&syncSOAMinimum != 0 && s.Before != serial && !rr.NewerSerial(s.Before, serial):
		return nil, refuse("%s still has serial %d; CSYNC asks for %d at least (RFC 7477 §2.1.1.1)", s.Server, s.Before, serial)
	case flags&syncImmediate == 0 && !approved:
		return nil, refuse("%s asks for a change that needs approval: its CSYNC record has no immediate flag (RFC 7477 §3)", c.Name)
	}
	for _, t := range types {
		if t != rr.TypeNS && t != rr.TypeA && t != rr.TypeAAAA {
			return nil, refuse("the CSYNC record of %s lists %s, which is not known (RFC 7477 §2.1.1.2.1)", c.Name, t)
		}
	}
	return types, nil
}

func names(data [][]byte) (out []dnsname.Name) {
	for _, d := range data {
		if n, err := dnsname.FromWire(d); err == nil {
			out = append(out, n)
		}
	}
	return out
}

func ofType(addrs [][]byte, t rr.Type) (out [][]byte) {
	size := map[rr.Type]int{rr.TypeA: 4, rr.TypeAAAA: 16}[t]
	for _, a := range addrs {
		if len(a) == size {
			out = append(out, a)
		}
	}
	return out
}

// Same compares all that a parent has of a child.
func (c *Child) Same(o *Child) bool { return same(c.DS, o.DS) && c.equal(o) }

// equal compares name servers and glue.
func (c *Child) equal(o *Child) bool {
	flat := func(c *Child) (out [][]byte) {
		for _, n := range c.Servers {
			out = append(out, []byte(n.Key()))
			if n.AtOrBelow(c.Name) {
				for _, a := range c.Glue[n.Key()] {
					out = append(out, append([]byte(n.Key()), a...))
				}
			}
		}
		return out
	}
	return same(flat(c), flat(o))
}
