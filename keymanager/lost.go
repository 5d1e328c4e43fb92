package keymanager

import (
	"context"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/keyring"
	"fencepost/resolve"
	"fencepost/roll"
	"fencepost/rr"
	"fencepost/zone"
)

// LostKeysError says that a zone was signed with keys that are not here: to sign it
// with new ones would make validating resolvers reject it.
type LostKeysError struct {
	Zone   dnsname.Name
	Folder string
	Why    string // what says that it was signed
}

func (e *LostKeysError) Error() string {
	return fmt.Sprintf("the keys of %s are not in %s, and %s. New keys would make resolvers reject the zone, so none was made", e.Zone.Plain(), e.Folder, e.Why)
}

// mayBegin refuses to begin to sign a zone that was signed before with keys that are
// not in the ring. Where the parent can be asked, what counts is its DS; else what
// lies here.
func (s *Manager) mayBegin(ctx context.Context, ring *keyring.Ring, j Job) error {
	lost := func(format string, args ...any) error {
		return &LostKeysError{s.Name, s.Dir, fmt.Sprintf(format, args...)}
	}
	sets, asked := s.observer(ring).dsSets(ctx, s.parents(ctx))
	if asked {
		candidates := ring.Unused()
		for _, set := range sets {
			if len(set.Data) == 0 {
				continue
			}
			fits := slices.ContainsFunc(set.Data, func(ds []byte) bool {
				return slices.ContainsFunc(candidates, func(e *keyring.Entry) bool { return e.EntryPoint() && matchesDS(s.Name, e.Public, ds) })
			})
			if !fits {
				return lost("the parent has a DS of key %s", dsTags(set.Data))
			}
		}
		return nil
	}
	if tags := zoneTags(j.Signed); tags != "" {
		return lost("the version in service is signed with key %s", tags)
	}
	if files := ring.Unlisted(); len(files) > 0 {
		return lost("private keys lie there that keyring.toml does not list: %s", strings.Join(files, ", "))
	}
	return nil
}

// dsTags are the key tags in DS data.
func dsTags(set [][]byte) string {
	var tags []uint16
	for _, ds := range set {
		if len(ds) > 2 && !slices.Contains(tags, binary.BigEndian.Uint16(ds)) {
			tags = append(tags, binary.BigEndian.Uint16(ds))
		}
	}
	return roll.Names(tags)
}

// zoneTags are the tags of the keys in a zone; empty if it has none.
func zoneTags(z *zone.Snapshot) string {
	if z == nil {
		return ""
	}
	var apex zone.Node
	var tags []uint16
	z.ApexNode(&apex)
	set, _ := apex.Find(rr.TypeDNSKEY)
	for data := range set.Data {
		tags = append(tags, dnssec.KeyTag(data))
	}
	if len(tags) == 0 {
		return ""
	}
	return roll.Names(tags)
}

// serialAfter is the serial that a version is signed with: the server's wish, but
// after all that was signed before, also where the server's store is gone.
func (s *Manager) serialAfter(ctx context.Context, ring *keyring.Ring, j Job) uint32 {
	serial := j.Serial
	raise := func(known uint32) {
		if known != 0 && !rr.NewerSerial(serial, known) {
			serial = rr.NextSerial(known)
		}
	}
	raise(ring.Serial)
	if j.Signed == nil && ring.Roll.Signs() { // signed before, and nothing is left of it
		for _, known := range s.servedElsewhere(ctx) {
			raise(known)
		}
		if serial != j.Serial || ring.Serial != 0 {
			s.Log.Warn("the last signed version is not in the store; the serial continues from what the keys and the secondaries have", "zone", s.Name.String(), "serial", serial)
		}
	}
	return serial
}

// servedElsewhere are the serials that the secondaries show.
func (s *Manager) servedElsewhere(ctx context.Context) (out []uint32) {
	var mu sync.Mutex
	var wg sync.WaitGroup
	for _, p := range s.Servers {
		wg.Go(func() {
			resp, err := resolve.Ask(ctx, p.Address, resolve.Request{Net: s.Net, Name: s.Name, Type: rr.TypeSOA, Timeout: LookTimeout, TSIG: p.Key})
			if err != nil {
				return
			}
			for _, r := range resp.Answer {
				if soa, err := rr.ParseSOA(r.Data); r.Type == rr.TypeSOA && err == nil {
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

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}
