package zonestate

import (
	"context"
	"errors"
	"sync"
	"time"

	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/store"
)

// storing does something with the store. Where its file turns out to be damaged, that is set aside, what
// is in service is stored in another, and it is done once more.
func (s *Zones) storing(do func() error) error {
	err := do()
	if errors.Is(err, store.ErrBroken) && s.renewStore() == nil {
		err = do()
	}
	return err
}

// renewStore makes another store of what can still be read of a damaged one and of what is in service.
func (s *Zones) renewStore() error {
	done, err := s.Store.Renew()
	if err != nil {
		s.Log.Error("the store is damaged, and no other can be made", "error", err)
		return err
	}
	if !done { // somebody else did
		return nil
	}
	s.Log.Error("the store turned out to be damaged: its file was set aside, and what is in service is stored anew", "file", s.Store.Aside)
	for _, z := range s.table.Load().zones {
		if err := s.storeAnew(z); err != nil {
			s.setUnstored(z, err)
			s.Log.Error("a zone could not be stored anew", "zone", z.String(), "error", err)
		}
	}
	return nil
}

// storeAnew stores the version in service, unless a new store has one as new, and what is pending.
func (s *Zones) storeAnew(z *zoneState) error {
	z.mu.Lock()
	snap, meta, pending := z.head, z.headMeta, z.pending
	z.head, z.headMeta = nil, store.Meta{} // whatever is there now is looked at
	z.mu.Unlock()
	kept := store.Pending{}
	if pending != nil {
		for _, c := range pending.List() {
			kept[c.Key()] = c.AppendBinary(nil)
		}
	}
	in := s.storeOf(z)
	if has, found, err := in.Meta(z.name); snap == nil || err == nil && found && (has.Serial == snap.Serial() || rr.NewerSerial(has.Serial, snap.Serial())) {
		return in.PutPending(z.name, kept)
	}
	_, err := in.Put(store.Version{Zone: snap, Meta: meta, Info: store.Info{Way: store.FromStore}, Pending: kept})
	return err
}

// setUnstored notes why what is in service, or was asked for, could not be stored; nil: it could.
func (s *Zones) setUnstored(z *zoneState, err error) {
	z.mu.Lock()
	defer z.mu.Unlock()
	z.unstored = err
}

// floorTimeout is how long secondaries are waited for where nothing else tells how far a serial was.
const floorTimeout = time.Second

// floorOf is the newest serial of the unsigned zone that is known where no version of it is stored,
// though there may have been one: what the copy beside the store has, else what the secondaries show.
// They are asked once, where the serials are ours.
func (s *Zones) floorOf(z *zoneState) (serial uint32, known bool) {
	if s.Store == nil {
		return 0, false
	}
	served, source, found := s.storeOf(z).Floor(z.name)
	switch {
	case found && source != 0:
		return source, true
	case found && !z.role().Signs():
		return served, true
	case z.role().Signs(): // the serials of what secondaries have are others
		return 0, false
	}
	z.askedPeers.Do(func() {
		for _, n := range s.servedElsewhere(z) {
			if z.peersHave == 0 || rr.NewerSerial(n, z.peersHave) {
				z.peersHave = n
			}
		}
		if z.peersHave != 0 {
			s.Log.Info("the serial continues from what the secondaries have", "zone", z.String(), "serial", z.peersHave)
		}
	})
	return z.peersHave, z.peersHave != 0
}

// servedElsewhere are the serials that the secondaries show. One that was silent once is not asked for
// other zones: all of them ask at a start.
func (s *Zones) servedElsewhere(z *zoneState) (out []uint32) {
	var mu sync.Mutex
	var wg sync.WaitGroup
	for _, p := range z.cfg.Load().SendTo {
		if _, silent := s.silentAtStart.Load(p.Address); silent {
			continue
		}
		wg.Go(func() {
			resp, err := resolve.Ask(context.Background(), p.Address, resolve.Request{Net: s.Net, Name: z.name, Type: rr.TypeSOA, Timeout: floorTimeout, TSIG: p.Key, Local: s.localFor(p.Address)})
			if err != nil {
				s.silentAtStart.Store(p.Address, true)
				return
			}
			for _, r := range resp.Answer {
				if soa, err := rr.ParseSOA(r.Data); r.Type == rr.TypeSOA && r.Name.Equal(z.name) && err == nil {
					mu.Lock()
					out = append(out, soa.Serial)
					mu.Unlock()
				}
			}
		})
	}
	wg.Wait()
	return out
}
