package zonestate

import (
	"context"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

// Zone says what is served and how: its content comes from an origin, goes through a signer
// where there is one, and is published: answered from, and sent to peers.
type Zone struct {
	Name dnsname.Name
	// Lists tells that it is a catalog: only peers are answered (RFC 9432 §7). Catalog is the one that
	// lists the zone itself; the zero name: none does.
	Lists   bool
	Catalog dnsname.Name
	// Audience is for whom this version of the zone is; empty: for everyone for whom there is no other.
	Audience string
	Origin   Origin
	Signer   Signer // signs the zone and looks after its keys; nil leaves it unsigned
	SendTo   []Peer // are told of new versions and may transfer
	// Updates says who may change it by requests; nil: nobody.
	Updates *Updates
	Follows []Follow // names whose addresses follow those of others
}

// Origin is where the content of a zone comes from: *Files or *Primaries.
type Origin interface{ origin() }

// Files is content that is read, of a zone that we are primary for.
type Files struct {
	// Load reads and checks it. last is what it gave last time, without delta and stamp,
	// where that is in service still; else there is no zone in it.
	Load func(ctx context.Context, last Input) (Input, error)
	// Unchanged reports whether Load would read what it read when it gave the stamp;
	// again is the stamp for next time. Nil: it cannot be told.
	Unchanged func(stamp string) (again string, ok bool)
	// Author says, in words, who wrote what Load reads; empty: that is not known. It is
	// asked where the content changed; nil is never asked.
	Author func(ctx context.Context) string
	// Where says where the files have a set, for whoever has to settle a conflict; empty: nowhere, or
	// that is not known. Nil is never asked.
	Where func(owner dnsname.Name, t rr.Type) string
	// Once tells that they are read while nothing is kept of the zone, and never again: from then on it
	// is what the store has, and requests change it.
	Once bool
	// Numbered tells that their serials say nothing: the server gives them.
	Numbered bool
	// Work is about how much work it is to load: of many zones the small ones are in
	// service first; nil is none.
	Work func() int64
}

// Primaries is content that is fetched.
type Primaries struct {
	Servers []Peer
	// CheckDigest says whether a version has to prove itself by its ZONEMD records.
	CheckDigest DigestCheck
}

func (*Files) origin()     {}
func (*Primaries) origin() {}

// DigestCheck says what is asked of the ZONEMD records of a fetched version (RFC 8976 §4).
type DigestCheck uint8

// The choices.
const (
	DigestIgnored   DigestCheck = iota
	DigestIfPresent             // one that is there must fit
	DigestAlways                // there must be one, and it must fit
)

// Input is what Load reads.
type Input struct {
	Zone *zone.Snapshot
	// Delta is what it was made of the last with; nil: it was not.
	Delta *zone.Delta
	// Stamp says what it was read from, for Unchanged; empty: nothing does.
	Stamp  string
	Checks CheckState // helps to check the next version; nil: there is nothing
}

// CheckState is what was found out about a version while it was checked. It never changes, and can
// be compared.
type CheckState interface {
	// After is what is known of the version that a delta makes of it; nil: nothing.
	After(next *zone.Snapshot, d *zone.Delta) CheckState
}

// files is the origin where it is files, else nil.
func (z *Zone) files() *Files {
	f, _ := z.Origin.(*Files)
	return f
}

// primaries is the origin where it is primaries, else nil.
func (z *Zone) primaries() *Primaries {
	p, _ := z.Origin.(*Primaries)
	return p
}

// fetchFrom are the primaries; none where the content comes from elsewhere.
func (z *Zone) fetchFrom() []Peer {
	if p := z.primaries(); p != nil {
		return p.Servers
	}
	return nil
}
