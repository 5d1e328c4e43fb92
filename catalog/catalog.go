// Package catalog reads and makes catalog zones (RFC 9432): zones that list others, so that secondaries
// have them without their configuration being touched. Which of several catalogs has a zone is settled
// here too.
package catalog

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

// Member is a zone that a catalog lists.
type Member struct {
	Zone dnsname.Name
	// Label is the unique one under which it stands: with another one it is another zone of that name.
	Label  string
	Groups []string     // what it belongs to, in words of whoever makes the catalog (RFC 9432 §4.4.2)
	Moves  dnsname.Name // the catalog that may take it over (coo, §4.4.1); the zero name: none
}

// version is what a catalog has to say that it is of (RFC 9432 §4.2.1), as data of a TXT record.
const version = "\x012"

// ErrBroken means that a zone is no catalog, or one in which nothing may be believed.
var ErrBroken = errors.New("the catalog is broken")

func broken(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrBroken, fmt.Sprintf(format, args...))
}

// Read is the members of a catalog, in the order of their labels. With an error nothing of it counts
// (RFC 9432 §5.1). Properties that are not known here are passed over.
func Read(z *zone.Snapshot) ([]Member, error) {
	at, err := z.Apex().Child("version")
	if err != nil {
		return nil, broken("its name is too long for one")
	}
	if set, _ := z.Find(at, rr.TypeTXT, 0); set.N != 1 || string(set.First()) != version {
		return nil, broken("it does not say that it is of version 2")
	}
	zones, err := z.Apex().Child("zones")
	if err != nil {
		return nil, broken("its name is too long for one")
	}
	members := map[string]*Member{}
	var order []string
	seen := map[string]string{}
	for n := range z.Nodes {
		owner := z.Owner(n)
		if !owner.Parent().Equal(zones) {
			continue
		}
		set, _ := n.Find(rr.TypePTR)
		if set.N == 0 {
			continue
		}
		label := strings.ToLower(owner.Label())
		if set.N > 1 {
			return nil, broken("%s lists %d zones", owner, set.N)
		}
		name, err := dnsname.FromWire(set.First())
		if err != nil {
			return nil, broken("%s: %v", owner, err)
		}
		if other, twice := seen[name.Key()]; twice {
			return nil, broken("%s is listed twice, as %s and %s", name, other, label)
		}
		seen[name.Key()] = label
		members[owner.Key()] = &Member{Zone: name, Label: label}
		order = append(order, owner.Key())
	}
	for n := range z.Nodes {
		owner := z.Owner(n)
		m := members[owner.Parent().Key()]
		if m == nil {
			continue
		}
		if err := m.property(strings.ToLower(owner.Label()), n); err != nil {
			return nil, err
		}
	}
	out := make([]Member, len(order))
	for i, key := range order {
		out[i] = *members[key]
	}
	return out, nil
}

// property takes what is said of a member below its label.
func (m *Member) property(name string, n *zone.Node) error {
	switch name {
	case "group":
		set, _ := n.Find(rr.TypeTXT)
		for data := range set.Data {
			m.Groups = append(m.Groups, textOf(data))
		}
	case "coo":
		set, _ := n.Find(rr.TypePTR)
		if set.N > 1 {
			return broken("%s may be taken over by %d catalogs", m.Zone, set.N)
		}
		if set.N == 1 {
			to, err := dnsname.FromWire(set.First())
			if err != nil {
				return broken("%s: %v", m.Zone, err)
			}
			m.Moves = to
		}
	}
	return nil
}

// textOf joins the strings of a TXT record.
func textOf(data []byte) (out string) {
	for len(data) > 0 && int(data[0]) < len(data) {
		out += string(data[1 : 1+data[0]])
		data = data[1+data[0]:]
	}
	return out
}

// LabelOf is a label for a zone, the same each time.
func LabelOf(z dnsname.Name) string {
	const octets = 10
	sum := sha256.Sum256([]byte(z.Key()))
	return hex.EncodeToString(sum[:octets])
}

// maxString is the most octets of one string of a TXT record.
const maxString = 255

// Build makes a catalog. Members without a label get that of their zone. Nobody is to ask for it, which
// its NS record says (RFC 9432 §4.1).
func Build(apex dnsname.Name, serial uint32, members []Member) (*zone.Snapshot, error) {
	const ttl, refresh, retry, expire, minimum = 0, 3600, 600, 2419200, 0
	b := zone.NewBuilder(apex, false)
	add := func(owner dnsname.Name, t rr.Type, data []byte) error {
		return b.AddRecord(rr.Record{Name: owner, Type: t, Class: rr.ClassIN, TTL: ttl, Data: data})
	}
	below := func(labels ...string) (n dnsname.Name, err error) {
		n = apex
		for _, l := range labels {
			if n, err = n.Child(l); err != nil {
				return n, fmt.Errorf("%s is too long for a catalog: %w", apex, err)
			}
		}
		return n, nil
	}
	nobody := dnsname.MustParse("invalid.").AppendWire(nil)
	soa := rr.SOA{Serial: serial, Refresh: refresh, Retry: retry, Expire: expire, Minimum: minimum}
	at, err := below("version")
	err = errors.Join(err, add(apex, rr.TypeSOA, soaData(nobody, soa)), add(apex, rr.TypeNS, nobody))
	if err == nil {
		err = add(at, rr.TypeTXT, []byte(version))
	}
	for _, m := range members {
		if err != nil {
			return nil, err
		}
		if m.Label == "" {
			m.Label = LabelOf(m.Zone)
		}
		if at, err = below("zones", m.Label); err == nil {
			err = add(at, rr.TypePTR, m.Zone.AppendWire(nil))
		}
		for _, g := range m.Groups {
			if at, gerr := below("zones", m.Label, "group"); gerr != nil || len(g) > maxString {
				err = errors.Join(err, gerr)
			} else {
				err = errors.Join(err, add(at, rr.TypeTXT, append([]byte{byte(len(g))}, g...)))
			}
		}
		if !m.Moves.IsZero() {
			if at, cerr := below("zones", m.Label, "coo"); cerr != nil {
				err = errors.Join(err, cerr)
			} else {
				err = errors.Join(err, add(at, rr.TypePTR, m.Moves.AppendWire(nil)))
			}
		}
	}
	if err != nil {
		return nil, err
	}
	return b.Build().Snapshot, nil
}

func soaData(nobody []byte, s rr.SOA) []byte {
	out := slices.Concat(nobody, nobody)
	for _, n := range []uint32{s.Serial, s.Refresh, s.Retry, s.Expire, s.Minimum} {
		out = append(out, byte(n>>24), byte(n>>16), byte(n>>8), byte(n))
	}
	return out
}
