package keymanager

import (
	"context"
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/keyring"
	"fencepost/netio"
	"fencepost/resolve"
	"fencepost/roll"
	"fencepost/rr"
)

// LookTimeout is how long one try of a look at a server waits.
const LookTimeout = time.Second

// Observer looks whether servers show what the keys of a zone demand.
type Observer struct {
	resolve.Asker
	zone   dnsname.Name
	ring   *keyring.Ring
	serial uint32 // the version that has to be shown, or a later one
	extra  bool   // keys that are not in the ring may be in the zone
	// rejects tells that a server of the parent has only DS that fit no key of the zone.
	rejects atomic.Bool
}

// NewObserver looks at servers for the keys of a zone. The ring may be nil where only what
// a parent has is asked for.
func NewObserver(net netio.Network, zone dnsname.Name, ring *keyring.Ring) *Observer {
	return &Observer{Asker: resolve.Asker{Net: net, Timeout: LookTimeout}, zone: zone, ring: ring}
}

// DSSet is what one server of a parent shows.
type DSSet struct {
	Data [][]byte
	TTL  uint32
}

// looks looks at the servers of the zone and of the parent, all at once. The DS
// TTLs of the parent's servers come back too.
func (w *Observer) looks(ctx context.Context, servers, parents []resolve.Server) (out []roll.Observation, dsTTL uint32) {
	out = make([]roll.Observation, len(servers)+len(parents))
	ttls := make([]uint32, len(parents))
	var wg sync.WaitGroup
	for i, s := range servers {
		wg.Go(func() { out[i] = w.lookAtZone(ctx, s) })
	}
	for i, s := range parents {
		wg.Go(func() { out[len(servers)+i], ttls[i] = w.lookAtParent(ctx, s) })
	}
	wg.Wait()
	if len(ttls) > 0 {
		dsTTL = slices.Max(ttls)
	}
	return out, dsTTL
}

// lookAtZone compares what a server of the zone shows with what it has to.
func (w *Observer) lookAtZone(ctx context.Context, s resolve.Server) roll.Observation {
	l := roll.Observation{Server: s.String()}
	soa, err := w.Authoritative(ctx, s.Address, w.zone, rr.TypeSOA)
	if err != nil {
		l.Err = err
		return l
	}
	keys, err := w.Authoritative(ctx, s.Address, w.zone, rr.TypeDNSKEY)
	if err != nil {
		l.Err = err
		return l
	}
	l.Mismatch = w.judge(soa, keys)
	return l
}

func (w *Observer) judge(soa, keys *resolve.Response) string {
	data, _ := soa.Set(w.zone, rr.TypeSOA)
	if len(data) != 1 {
		return "it shows no SOA"
	}
	parsed, err := rr.ParseSOA(data[0])
	if err != nil {
		return "its SOA cannot be read"
	}
	if w.serial != parsed.Serial && !rr.NewerSerial(parsed.Serial, w.serial) {
		return fmt.Sprintf("it still has serial %d; %d is needed", parsed.Serial, w.serial)
	}
	var want, wantKeySigs, wantZoneSigs []resolve.Signer
	for _, e := range w.ring.Keys {
		t := resolve.Signer{Algorithm: e.Public.Algorithm, Tag: e.Shown().Tag}
		if e.Publish {
			want = append(want, t)
		}
		if e.SignKeys && !e.Foreign {
			wantKeySigs = append(wantKeySigs, t)
		}
		if e.SignZone && !e.Foreign {
			wantZoneSigs = append(wantZoneSigs, t)
		}
	}
	set, _ := keys.Set(w.zone, rr.TypeDNSKEY)
	var have []resolve.Signer
	for _, d := range set {
		have = append(have, resolve.Signer{Algorithm: rr.AlgorithmNumber(d[3]), Tag: dnssec.KeyTag(d)})
	}
	for _, c := range []struct {
		what       string
		have, want []resolve.Signer
	}{
		{"keys", have, want},
		{"signatures over the keys", keys.Signers(w.zone, rr.TypeDNSKEY), wantKeySigs},
		{"signatures over the SOA", soa.Signers(w.zone, rr.TypeSOA), wantZoneSigs},
	} {
		if words := compareTags(c.what, c.have, c.want, w.extra); words != "" {
			return words
		}
	}
	return ""
}

// compareTags says which keys are missing or too many.
func compareTags(what string, have, want []resolve.Signer, extra bool) string {
	for _, t := range want {
		if !slices.Contains(have, t) {
			return fmt.Sprintf("its %s do not include one of key %d yet", what, t.Tag)
		}
	}
	for _, t := range have {
		if !slices.Contains(want, t) && !extra {
			return fmt.Sprintf("its %s still include one of key %d", what, t.Tag)
		}
	}
	return ""
}

// ParentDS asks a server of the parent for the DS set of the zone. The TTL of an empty set
// is that of its absence (RFC 2308 §5).
func (w *Observer) ParentDS(ctx context.Context, at netip.AddrPort) (DSSet, error) {
	resp, err := w.Authoritative(ctx, at, w.zone, rr.TypeDS)
	if err != nil {
		return DSSet{}, err
	}
	data, ttl := resp.Set(w.zone, rr.TypeDS)
	if len(data) == 0 {
		for _, r := range resp.Authority {
			if soa, err := rr.ParseSOA(r.Data); r.Type == rr.TypeSOA && err == nil {
				ttl = min(r.TTL, soa.Minimum)
			}
		}
	}
	return DSSet{data, ttl}, nil
}

// ParentNames asks servers of the parent whether any has a DS of a key; nil if that cannot
// be known.
func (w *Observer) ParentNames(ctx context.Context, parents []resolve.Server, e *keyring.Entry) *bool {
	if len(parents) == 0 {
		return nil
	}
	named := false
	for _, p := range parents {
		have, err := w.ParentDS(ctx, p.Address)
		if err != nil {
			return nil
		}
		for _, ds := range have.Data {
			named = named || matchesDS(w.zone, e.Public, ds)
		}
	}
	return &named
}

// ParentRejects reports whether each server of the parent answers, and one has only DS that fit no key
// that signs the keys of the zone.
func (w *Observer) ParentRejects(ctx context.Context, parents []resolve.Server) bool {
	sets, asked := w.dsSets(ctx, parents)
	return asked && slices.ContainsFunc(sets, func(s DSSet) bool { return w.rejected(s.Data) })
}

// dsSets are the DS sets at all servers of the parent; asked tells that each of them
// answered, and that there are some.
func (w *Observer) dsSets(ctx context.Context, parents []resolve.Server) (out []DSSet, asked bool) {
	out = make([]DSSet, len(parents))
	errs := make([]error, len(parents))
	var wg sync.WaitGroup
	for i, p := range parents {
		wg.Go(func() { out[i], errs[i] = w.ParentDS(ctx, p.Address) })
	}
	wg.Wait()
	return out, len(parents) > 0 && !slices.ContainsFunc(errs, func(err error) bool { return err != nil })
}

// lookAtParent compares the DS at a server of the parent with what is wanted.
func (w *Observer) lookAtParent(ctx context.Context, s resolve.Server) (roll.Observation, uint32) {
	l := roll.Observation{Server: s.String(), Parent: true}
	have, err := w.ParentDS(ctx, s.Address)
	if err != nil {
		l.Err = err
		return l, 0
	}
	l.Mismatch, l.DS = w.judgeDS(have.Data), w.named(have.Data)
	if w.rejected(have.Data) {
		w.rejects.Store(true)
	}
	return l, have.TTL
}

// named are the tags of our keys that a DS set names.
func (w *Observer) named(have [][]byte) (out []uint16) {
	for _, e := range w.ring.Keys {
		if slices.ContainsFunc(have, func(ds []byte) bool { return matchesDS(w.zone, e.Public, ds) }) {
			out = append(out, e.Tag)
		}
	}
	return out
}

// rejectsWords is how it is said that a wrong DS is an outage.
const rejectsWords = "validating resolvers reject the whole zone"

// rejected reports whether a DS set makes validating resolvers reject the zone: there is
// one, and it names no key that signs the keys of the zone (RFC 4035 §5.2).
func (w *Observer) rejected(have [][]byte) bool {
	if len(have) == 0 || w.extra {
		return false
	}
	return !slices.ContainsFunc(have, func(ds []byte) bool {
		return slices.ContainsFunc(w.ring.Keys, func(e *keyring.Entry) bool {
			return e.Publish && e.SignKeys && !e.Revoked && matchesDS(w.zone, e.Public, ds)
		})
	})
}

func (w *Observer) judgeDS(have [][]byte) string {
	if w.rejected(have) {
		if near := w.nearDS(have); near != "" {
			return fmt.Sprintf("its DS %s is wrong: %s; %s", dsTags(have), near, rejectsWords)
		}
		return fmt.Sprintf("it has a DS of key %s, which matches no key that signs here: %s", dsTags(have), rejectsWords)
	}
	for _, e := range w.ring.Keys {
		if e.DS && !slices.ContainsFunc(have, func(ds []byte) bool { return matchesDS(w.zone, e.Public, ds) }) {
			return fmt.Sprintf("it has no DS of key %d%s", e.Tag, map[bool]string{true: " yet", false: " any more"}[e.Seen.IsZero()])
		}
	}
	for _, ds := range have {
		i := slices.IndexFunc(w.ring.Keys, func(e *keyring.Entry) bool { return matchesDS(w.zone, e.Public, ds) })
		if i >= 0 && !w.ring.Keys[i].DS {
			return fmt.Sprintf("it still has a DS of key %d", w.ring.Keys[i].Tag)
		}
		if i < 0 && !w.extra {
			return fmt.Sprintf("it has a DS of key %d, which is not ours", binary.BigEndian.Uint16(ds))
		}
	}
	return ""
}

// nearDS says of which of our keys a DS was typed wrong, and where; empty: of none.
func (w *Observer) nearDS(have [][]byte) string {
	var keys [][]byte
	for _, e := range w.ring.Keys {
		keys = append(keys, e.Public.Data)
	}
	for _, ds := range have {
		if _, near := dnssec.DSMatch(w.zone, ds, keys); near != "" {
			return near
		}
	}
	return ""
}

// matchesDS reports whether a DS names a key. One with a digest that is not known
// goes by tag and algorithm.
func matchesDS(zone dnsname.Name, k *dnssec.PublicKey, ds []byte) bool {
	if len(ds) < 5 || binary.BigEndian.Uint16(ds) != k.Tag || rr.AlgorithmNumber(ds[2]) != k.Algorithm {
		return false
	}
	want := dnssec.DS(zone, k.Data, ds[3])
	return want == nil || string(want) == string(ds)
}
