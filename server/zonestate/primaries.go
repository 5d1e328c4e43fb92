package zonestate

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"fencepost/message"
	"fencepost/netio"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/transfer"
	"fencepost/tsig"
	"fencepost/zone"
)

// expiry is for how long a primary may still serve a version (RFC 7314).
type expiry struct {
	seconds uint32
	known   bool
}

// shown is what a primary says that it has.
type shown struct {
	peer   Peer
	serial uint32
	expire expiry
	err    error // why it does not say
}

// othersWait is how long, after one primary has answered, the others are waited for: one
// of them may have a newer version, or be dead.
const othersWait = time.Second

// lookForVersion asks all primaries what they have, and takes what the one with the newest
// version has, or notes that ours is the newest. Where that fails the next one is taken.
func (s *Zones) lookForVersion(ctx context.Context, z *zoneState) error {
	var errs []error
	fault := func(p Peer, err error) { errs = append(errs, fmt.Errorf("%s (%s): %w", p.Name, p.Address, err)) }
	have := z.lastGood().source
	for _, one := range newestFirst(s.askAll(ctx, z)) {
		err := one.err
		if err == nil {
			err = s.fetchFrom(ctx, z, have, one)
		}
		if err == nil {
			return nil
		}
		fault(one.peer, err)
		if ctx.Err() != nil {
			break
		}
	}
	return errors.Join(errs...)
}

// newestFirst puts those with newer serials first; what cannot be compared stays in the
// order of the configuration, and those that said nothing are last (RFC 1982 §3.2).
func newestFirst(all []shown) []shown {
	out := make([]shown, 0, len(all))
	for _, one := range all {
		at := len(out)
		for at > 0 && before(one, out[at-1]) {
			at--
		}
		out = slices.Insert(out, at, one)
	}
	return out
}

func before(a, b shown) bool {
	if a.err != nil || b.err != nil {
		return a.err == nil && b.err != nil
	}
	return rr.NewerSerial(a.serial, b.serial)
}

// askAll asks the primaries of a zone at the same time.
func (s *Zones) askAll(ctx context.Context, z *zoneState) []shown {
	from := z.cfg.Load().fetchFrom()
	out := make([]shown, len(from))
	for i, p := range from {
		out[i] = shown{peer: p, err: errSlower}
	}
	if len(from) == 1 {
		out[0] = s.askOne(ctx, z, from[0])
		return out
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	type answer struct {
		i int
		shown
	}
	answers := make(chan answer, len(from)) // whoever comes late is not waited for
	for i, p := range from {
		go func() { answers <- answer{i, s.askOne(ctx, z, p)} }()
	}
	var late <-chan struct{}
	for range from {
		select {
		case a := <-answers:
			if out[a.i] = a.shown; a.err == nil && late == nil {
				late = netio.After(s.clock, othersWait)
			}
		case <-late:
			return out
		case <-ctx.Done():
			return out
		}
	}
	return out
}

var errSlower = errors.New("it has not answered yet, and another one has")

// askOne asks one primary for the SOA, unless it has been silent just now.
func (s *Zones) askOne(ctx context.Context, z *zoneState, p Peer) shown {
	out := shown{peer: p}
	if resting := s.health.may(p.Address, s.Now()); resting != nil {
		out.err = resting
		return out
	}
	out.err = s.withKeys(p, func(key *tsig.Key) (err error) {
		out.serial, out.expire, err = s.askSerial(ctx, z, p, key)
		return err
	})
	if ctx.Err() == nil {
		s.health.note(p.Address, s.Now(), out.err)
	}
	return out
}

// withKeys does something that a peer has to know us for, with the key that it is known
// to take: while a key is changed, one side has the new one first.
func (s *Zones) withKeys(p Peer, f func(*tsig.Key) error) error {
	if len(p.Also) == 0 {
		return f(p.Key)
	}
	keys := append([]*tsig.Key{p.Key}, p.Also...)
	first, _ := s.keyInUse.Load(p.Address)
	if i := slices.IndexFunc(keys, func(k *tsig.Key) bool { return first == k.Name.Key() }); i > 0 {
		keys[0], keys[i] = keys[i], keys[0]
	}
	var wrong error
	for _, key := range keys {
		err := f(key)
		if err == nil {
			s.keyInUse.Store(p.Address, key.Name.Key())
			return nil
		}
		if wrong == nil {
			wrong = err
		}
		if isSilence(err) {
			return err
		}
	}
	return wrong
}

// fetchFrom takes what a primary has: its version, or that it has ours.
func (s *Zones) fetchFrom(ctx context.Context, z *zoneState, have *zone.Snapshot, from shown) error {
	if have != nil && from.serial == have.Serial() {
		return s.confirm(z, have, from.expire)
	}
	if err := notOlder("shows", from.serial, have); err != nil {
		return err
	}
	p := from.peer
	fetch := transfer.Fetch{Net: s.Net, Zone: z.name, Server: p.Address, Have: have, Expire: from.expire.known,
		Max: s.mostOfZone.Load(), Budget: &s.transfers, Local: s.localFor(p.Address), Conns: &s.fetches}
	got, err := s.receive(ctx, p, fetch)
	if err != nil {
		return err
	}
	if err = z.checkDigest(got.Zone); err != nil && got.Steps > 0 { // perhaps what changed was damaged
		fetch.Have = nil
		if got, err = s.receive(ctx, p, fetch); err == nil {
			err = z.checkDigest(got.Zone)
		}
	}
	if err != nil {
		return err
	}
	if err := notOlder("sent", got.Serial, have); err != nil {
		return err
	}
	if got.Fallback != nil {
		s.Log.Warn("the whole zone was fetched instead of the changes", "zone", z.String(), "from", p.Name, "why", got.Fallback)
	}
	s.Log.Info("zone fetched", "zone", z.String(), "from", p.Name, "serial", got.Serial, "steps", got.Steps, "octets", got.Octets)
	return s.installFetched(ctx, z, got.Zone, p, expiry{got.Expire, got.HasExpire})
}

func (s *Zones) receive(ctx context.Context, p Peer, f transfer.Fetch) (got transfer.Fetched, err error) {
	err = s.withKeys(p, func(key *tsig.Key) error {
		f.Key = key
		got, err = transfer.Receive(ctx, f)
		return err
	})
	return got, err
}

// checkDigest looks whether a version is what its primary made, where that is asked for.
func (z *zoneState) checkDigest(got *zone.Snapshot) error {
	from := z.cfg.Load().primaries()
	if from == nil || from.CheckDigest == DigestIgnored {
		return nil
	}
	err := signer.CheckZonemd(got)
	if errors.Is(err, signer.ErrNoZonemd) && from.CheckDigest == DigestIfPresent {
		return nil
	}
	return err
}

// notOlder refuses a version that is not newer than the one we have: to go back
// would undo changes, and whoever has such a version has not confirmed ours.
func notOlder(how string, serial uint32, have *zone.Snapshot) error {
	if have == nil || rr.NewerSerial(serial, have.Serial()) {
		return nil
	}
	if rr.CompareSerials(serial, have.Serial()) == rr.SerialUndefined {
		return fmt.Errorf("it %s serial %d, which is neither newer nor older than our %d (RFC 1982 §3.2)", how, serial, have.Serial())
	}
	return fmt.Errorf("it %s serial %d, older than our %d: its own copy went back or is behind; raise the serial there", how, serial, have.Serial())
}

// askSerial asks a primary for its SOA, and how long the zone may still be served.
func (s *Zones) askSerial(ctx context.Context, z *zoneState, p Peer, key *tsig.Key) (serial uint32, said expiry, err error) {
	resp, err := resolve.Ask(ctx, p.Address, resolve.Request{Net: s.Net, Name: z.name, Type: rr.TypeSOA, Expire: true, TSIG: key, Local: s.localFor(p.Address)})
	if err != nil {
		return 0, said, err
	}
	if resp.Rcode() != message.NoError {
		return 0, said, fmt.Errorf("asked for the SOA it answers %s (%s)", resp.Rcode().Description(), resp.Rcode())
	}
	if resp.Flags&message.FlagAA == 0 {
		return 0, said, errors.New("it answers for the zone without authority: it does not serve it, or its own copy has expired")
	}
	said.seconds, said.known = resp.EDNS.Expire()
	for _, r := range resp.Answer {
		if r.Type == rr.TypeSOA && r.Name.Equal(z.name) {
			soa, err := rr.ParseSOA(r.Data)
			return soa.Serial, said, err
		}
	}
	return 0, said, errors.New("its answer holds no SOA")
}
