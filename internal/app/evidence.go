package app

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/keyring"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/roll"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/workspace"
)

// lookTimeout is how long one try of a look at a server waits.
const lookTimeout = time.Second

// watcher looks whether servers show what the keys of a zone demand.
type watcher struct {
	zone   dnsname.Name
	ring   *keyring.Ring
	serial uint32 // the version that has to be shown, or a later one
	extra  bool   // keys that are not in the ring may be in the zone
	now    func() time.Time
	// rejects tells that a server of the parent has only DS that fit no key of the zone.
	rejects atomic.Bool
}

// dsNow is what one server of the parent shows.
type dsNow struct {
	data [][]byte
	ttl  uint32
}

// looks looks at the servers of the zone and of the parent, all at once. The DS
// TTLs of the parent's servers come back too.
func (w *watcher) looks(ctx context.Context, servers, parents []*workspace.Peer) (out []roll.Look, dsTTL uint32) {
	out = make([]roll.Look, len(servers)+len(parents))
	ttls := make([]uint32, len(parents))
	var wg sync.WaitGroup
	for i, p := range servers {
		wg.Go(func() { out[i] = w.lookAtZone(ctx, p) })
	}
	for i, p := range parents {
		wg.Go(func() { out[len(servers)+i], ttls[i] = w.lookAtParent(ctx, p) })
	}
	wg.Wait()
	if len(ttls) > 0 {
		dsTTL = slices.Max(ttls)
	}
	return out, dsTTL
}

func serverName(p *workspace.Peer) string {
	if p.Name == "" {
		return p.Address.String()
	}
	return fmt.Sprintf("%s (%s)", p.Name, p.Address)
}

// ask asks an authoritative server for a set with its signatures.
func (w *watcher) ask(ctx context.Context, at netip.AddrPort, t rr.Type) (*resolve.Response, error) {
	resp, err := resolve.Ask(ctx, at, resolve.Request{Name: w.zone, Type: t, DO: true, Timeout: lookTimeout, Now: w.now})
	if err != nil {
		return nil, err
	}
	if code := resp.Rcode(); code != message.NoError {
		return nil, fmt.Errorf("it answers: %s", code.Words())
	}
	if resp.Flags&message.FlagAA == 0 {
		return nil, errors.New("its answer is not authoritative")
	}
	return resp, nil
}

// answerSet is the data of a set in an answer, and the tags that signed it.
func answerSet(resp *resolve.Response, name dnsname.Name, t rr.Type) (data [][]byte, signers []string, ttl uint32) {
	for _, r := range resp.Answer {
		if !r.Name.Equal(name) {
			continue
		}
		if r.Type == t {
			data, ttl = append(data, r.Data), r.TTL
		}
		if sig, err := dnssec.ParseRRSIG(r.Data); r.Type == rr.TypeRRSIG && err == nil && sig.Covered == t {
			signers = append(signers, tagText(sig.Algorithm, sig.KeyTag))
		}
	}
	slices.Sort(signers)
	return data, slices.Compact(signers), ttl
}

func tagText(a rr.AlgorithmNumber, tag uint16) string { return fmt.Sprintf("%d/%d", a, tag) }

// lookAtZone compares what a server of the zone shows with what it has to.
func (w *watcher) lookAtZone(ctx context.Context, p *workspace.Peer) roll.Look {
	l := roll.Look{Server: serverName(p)}
	soa, err := w.ask(ctx, p.Address, rr.TypeSOA)
	if err != nil {
		l.Err = err
		return l
	}
	keys, err := w.ask(ctx, p.Address, rr.TypeDNSKEY)
	if err != nil {
		l.Err = err
		return l
	}
	l.Wrong = w.judge(soa, keys)
	return l
}

func (w *watcher) judge(soa, keys *resolve.Response) string {
	data, zoneSigs, _ := answerSet(soa, w.zone, rr.TypeSOA)
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
	var want, wantKeySigs, wantZoneSigs []string
	for _, e := range w.ring.Keys {
		t := tagText(e.Public.Algorithm, e.Tag)
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
	set, keySigs, _ := answerSet(keys, w.zone, rr.TypeDNSKEY)
	var have []string
	for _, d := range set {
		have = append(have, tagText(rr.AlgorithmNumber(d[3]), dnssec.KeyTag(d)))
	}
	for _, c := range []struct {
		what       string
		have, want []string
	}{{"keys", have, want}, {"signatures over the keys", keySigs, wantKeySigs}, {"signatures over the SOA", zoneSigs, wantZoneSigs}} {
		if words := compareTags(c.what, c.have, c.want, w.extra); words != "" {
			return words
		}
	}
	return ""
}

// compareTags says which tags are missing or too many.
func compareTags(what string, have, want []string, extra bool) string {
	for _, t := range want {
		if !slices.Contains(have, t) {
			return fmt.Sprintf("among its %s there is none of key %s yet", what, plainTag(t))
		}
	}
	for _, t := range have {
		if !slices.Contains(want, t) && !extra {
			return fmt.Sprintf("among its %s there is still one of key %s", what, plainTag(t))
		}
	}
	return ""
}

func plainTag(t string) string {
	_, tag, _ := strings.Cut(t, "/")
	return tag
}

// parentDS asks a server of the parent for the DS set of the zone.
func (w *watcher) parentDS(ctx context.Context, at netip.AddrPort) (dsNow, error) {
	resp, err := w.ask(ctx, at, rr.TypeDS)
	if err != nil {
		return dsNow{}, err
	}
	data, _, ttl := answerSet(resp, w.zone, rr.TypeDS)
	if len(data) == 0 {
		for _, r := range resp.Authority {
			if soa, err := rr.ParseSOA(r.Data); r.Type == rr.TypeSOA && err == nil {
				ttl = min(r.TTL, soa.Minimum)
			}
		}
	}
	return dsNow{data, ttl}, nil
}

// lookAtParent compares the DS at a server of the parent with what is wanted.
func (w *watcher) lookAtParent(ctx context.Context, p *workspace.Peer) (roll.Look, uint32) {
	l := roll.Look{Server: serverName(p), Parent: true}
	have, err := w.parentDS(ctx, p.Address)
	if err != nil {
		l.Err = err
		return l, 0
	}
	l.Wrong = w.judgeDS(have.data)
	if w.rejected(have.data) {
		w.rejects.Store(true)
	}
	return l, have.ttl
}

// rejectsWords is how it is said that a wrong DS is an outage.
const rejectsWords = "validating resolvers reject the whole zone"

// rejected tells whether a DS set makes validating resolvers reject the zone: there is
// one, and it names no key that signs the keys of the zone (RFC 4035 §5.2).
func (w *watcher) rejected(have [][]byte) bool {
	if len(have) == 0 || w.extra {
		return false
	}
	return !slices.ContainsFunc(have, func(ds []byte) bool {
		return slices.ContainsFunc(w.ring.Keys, func(e *keyring.Entry) bool { return e.Publish && e.SignKeys && matchesDS(w.zone, e.Public, ds) })
	})
}

func (w *watcher) judgeDS(have [][]byte) string {
	if w.rejected(have) {
		return fmt.Sprintf("it has a DS of key %s, which fits no key that signs here: %s", dsTags(have), rejectsWords)
	}
	for _, e := range w.ring.Keys {
		if e.DS && !slices.ContainsFunc(have, func(ds []byte) bool { return matchesDS(w.zone, e.Public, ds) }) {
			return fmt.Sprintf("it has no DS of key %d yet", e.Tag)
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

// matchesDS tells whether a DS names a key. One with a digest that is not known
// goes by tag and algorithm.
func matchesDS(zone dnsname.Name, k *dnssec.PublicKey, ds []byte) bool {
	if len(ds) < 5 || binary.BigEndian.Uint16(ds) != k.Tag || rr.AlgorithmNumber(ds[2]) != k.Algorithm {
		return false
	}
	want := dnssec.DS(zone, k.Data, ds[3])
	return want == nil || string(want) == string(ds)
}

// entryPoint tells whether a parent can have a DS for a key.
func entryPoint(e *keyring.Entry) bool { return e.Role != signer.ZSK }
