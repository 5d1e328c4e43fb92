package sim

import (
	"context"
	"net"
	"net/netip"
	"sync"
	"time"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/netio"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/validate"
)

// resolver finds answers for others, keeps them for as long as their TTL says, and says
// SERVFAIL where they are bogus.
type resolver struct {
	n      *Internet
	of     *Resolver
	memory *memory
	net    func() netio.Network
}

// memory is what a resolver remembers.
type memory struct {
	mu  sync.Mutex
	all map[recall]*remembered
}

func newMemory() *memory { return &memory{all: map[recall]*remembered{}} }

type recall struct {
	name string
	typ  rr.Type
}

// remembered is an answer.
type remembered struct {
	code    message.Rcode
	ede     message.ExtendedError
	secure  bool
	answer  []rr.Record // aliases first
	proof   []rr.Record // what an answer without data has: the SOA
	since   time.Time
	expires time.Time
}

// How long answers are kept that have no TTL of their own, as failures (RFC 9520 §3.2),
// and how long any is.
const (
	failureKept = 5 * time.Second
	mostKept    = 24 * time.Hour
)

// respond answers a query.
func (r *resolver) respond(msg []byte, tcp bool) []byte {
	var q message.Query
	verdict, code := message.ParseQuery(msg, &q)
	if verdict == message.Drop {
		return nil
	}
	limit, ours := message.MaxLen, resolve.OurUDPSize
	if !tcp {
		limit = min(max(q.UDPSize, message.MinUDP), ours)
	}
	var b message.Builder
	b.Begin(nil, &q, limit, uint16(ours))
	const ra = 0x0080
	b.SetFlag(ra)
	if verdict == message.Respond || q.Opcode() != message.OpQuery {
		b.SetRcode(code)
		return b.Finish()
	}
	name, err := dnsname.FromWire(q.Name)
	if err != nil {
		b.SetRcode(message.FormErr)
		return b.Finish()
	}
	got := r.find(name, q.Type)
	b.SetRcode(got.code)
	if got.ede != 0 {
		b.SetEDE(got.ede)
	}
	const ad = 0x0020
	if got.secure {
		b.SetFlag(ad)
	}
	gone := uint32(r.n.clock.Now().Sub(got.since) / time.Second)
	whole := b.Mark()
	for _, part := range []struct {
		section message.Section
		records []rr.Record
	}{{message.AnswerSection, got.answer}, {message.AuthoritySection, got.proof}} {
		for _, rec := range part.records {
			if signature := rec.Type == rr.TypeRRSIG; signature && !q.DO {
				continue
			}
			if !b.Record(part.section, []byte(rec.Name.Wire()), rec.Type, rec.TTL-min(rec.TTL, gone), rec.Data) {
				b.Rollback(whole)
				b.SetFlag(message.FlagTC)
				return b.Finish()
			}
		}
	}
	return b.Finish()
}

// find is an answer, remembered or found now.
func (r *resolver) find(name dnsname.Name, t rr.Type) *remembered {
	k := recall{name.Key(), t}
	now := r.n.clock.Now()
	r.memory.mu.Lock()
	defer r.memory.mu.Unlock() // one question at a time: this is no resolver for a crowd
	if was := r.memory.all[k]; was != nil && now.Before(was.expires) {
		return was
	}
	got := r.look(name, t)
	r.memory.all[k] = got
	return got
}

// look asks the world, along the aliases.
func (r *resolver) look(name dnsname.Name, t rr.Type) *remembered {
	out := &remembered{since: r.n.clock.Now()}
	ttl := uint32(mostKept / time.Second)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	const aliases = 8
	asked := name
	var all []rr.Record
	for range aliases {
		walked, err := r.walker().Walk(ctx, name, t)
		if err != nil {
			return r.failed(edeNetworkError)
		}
		all = append(all, walked.Records...)
		out.code = walked.Last.Rcode()
		next := out.take(walked, name, t, &ttl)
		if next.IsZero() {
			break
		}
		name = next
	}
	if !r.of.Trusting {
		v := r.judge(all, asked, t)
		if v.Status == validate.Bogus || v.Status == validate.Indeterminate {
			return r.failed(message.ExtendedError(v.EDE))
		}
		out.secure = v.Status == validate.Secure
	}
	out.expires = out.since.Add(time.Duration(ttl) * time.Second)
	return out
}

// edeNetworkError says that no server of a zone answered (RFC 8914 §4.24).
const edeNetworkError = 23

// failed is the answer where there is none.
func (r *resolver) failed(why message.ExtendedError) *remembered {
	now := r.n.clock.Now()
	return &remembered{code: message.ServFail, ede: why, since: now, expires: now.Add(failureKept)}
}

// take takes what one zone says of a name. next is where an alias leads out of it.
func (m *remembered) take(w *resolve.Walked, name dnsname.Name, t rr.Type, ttl *uint32) (next dnsname.Name) {
	m.proof = nil
	const aliases = 16
	for range aliases {
		found := false
		next = dnsname.Name{}
		for _, rec := range w.Last.Answer {
			if dname := rec.Type == rr.TypeDNAME && name.Below(rec.Name); !rec.Name.Equal(name) && !dname {
				continue
			}
			m.answer = append(m.answer, rec)
			*ttl = min(*ttl, rec.TTL)
			switch {
			case rec.Type == t:
				found = true
			case rec.Type == rr.TypeCNAME:
				next, _ = dnsname.FromWire(rec.Data)
			}
		}
		if found {
			return dnsname.Name{}
		}
		if next.IsZero() {
			break
		}
		if !next.AtOrBelow(w.Zone) {
			return next
		}
		name = next
	}
	for _, rec := range w.Last.Authority {
		if soa, err := rr.ParseSOA(rec.Data); err == nil && rec.Type == rr.TypeSOA {
			m.proof = append(m.proof, rec)
			*ttl = min(*ttl, rec.TTL, soa.Minimum)
		}
	}
	return dnsname.Name{}
}

func (r *resolver) judge(records []rr.Record, name dnsname.Name, t rr.Type) validate.Verdict {
	anchor, signed := r.n.Anchor(dnsname.Root)
	if !signed {
		return validate.Verdict{Status: validate.Insecure}
	}
	return validate.NewRRsets(records).Validate([]rr.Record{anchor}, name, t, r.n.clock.Now())
}

func (r *resolver) walker() *resolve.Walker {
	w := &resolve.Walker{Asker: resolve.Asker{Net: r.net()}, Start: dnsname.Root}
	for _, a := range r.n.Roots() {
		w.Roots = append(w.Roots, netip.AddrPortFrom(a, resolve.Port))
	}
	w.Reach = func(_ context.Context, host dnsname.Name, glue [][]byte) (out []netip.AddrPort, err error) {
		if out = resolve.GlueAddrs(glue); len(out) == 0 {
			for _, a := range r.n.addrsOf(host) {
				out = append(out, netip.AddrPortFrom(a, resolve.Port))
			}
		}
		return out, nil
	}
	return w
}

// converse answers over a connection.
func (r *resolver) converse(conn net.Conn) {
	defer conn.Close()
	for {
		msg, err := resolve.ReadTCP(conn, nil)
		if err != nil {
			return
		}
		out := r.respond(msg, true)
		if len(out) == 0 || resolve.WriteTCP(conn, out) != nil {
			return
		}
	}
}
