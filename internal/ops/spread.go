package ops

import (
	"context"
	"slices"
	"strings"
	"time"

	"fencepost/internal/edit"
	"fencepost/message"
	"fencepost/rr"
)

// Spread is what resolvers hold of a name, beside what its servers say.
type Spread struct {
	Question message.Question
	Now      time.Time
	// Says is what the servers of the zone say, by most of them; Differ that they do not agree.
	Says   []string
	Differ bool
	Cached []Cached
}

// Cached is what one resolver holds.
type Cached struct {
	Name, Address string
	State         HeldState
	Says          []string
	// TTL is for how many seconds more the resolver goes on saying so; Until is when that ends.
	TTL     uint32
	Until   time.Time
	Problem string
}

// HeldState is how an answer of a resolver compares with that of the servers.
type HeldState string

// The states.
const (
	HasIt    HeldState = "has it"
	HasOther HeldState = "has another answer"
	HasNone  HeldState = "does not answer"
)

// Spread asks resolvers what they hold of a name.
func (a *App) Spread(ctx context.Context, q Question) (*Spread, error) {
	a = a.Holding()
	mq, err := q.parse()
	if err != nil {
		return nil, err
	}
	if len(q.At) == 0 {
		return nil, edit.Usage("say which resolvers to ask with --at RESOLVER, once for each")
	}
	from := q
	from.At, from.Recurse = []string{allServers}, false
	first, err := a.Ask(ctx, from)
	if err != nil {
		return nil, err
	}
	groups := Alike(first)
	out := &Spread{Question: mq, Now: a.Now(), Says: groups[0].Says, Differ: len(groups) > 1}
	q.Recurse = true
	for _, at := range q.At {
		one := q
		one.At = []string{at}
		held := Cached{Name: at, Address: at}
		answers, err := a.Ask(ctx, one)
		switch {
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case err != nil:
			held.State, held.Problem = HasNone, err.Error()
		default:
			held.take(answers[0], out)
		}
		out.Cached = append(out.Cached, held)
	}
	return out, nil
}

// take compares an answer.
func (h *Cached) take(r *Asked, with *Spread) {
	h.Address = r.Server
	says, failed := r.says()
	if h.Says = says; failed {
		h.State, h.Problem = HasNone, strings.Join(says, ", ")
		return
	}
	if h.State = HasOther; slices.Equal(says, with.Says) {
		h.State = HasIt
	}
	h.TTL = remaining(r.Message, with.Question)
	h.Until = with.Now.Add(time.Duration(h.TTL) * time.Second)
}

// remaining is the TTL of an answer: of what was asked for, or of the proof that there is none
// (RFC 2308 §5).
func remaining(m *message.Message, q message.Question) uint32 {
	var ttls []uint32
	for _, r := range m.Answer {
		if r.Type == q.Type || r.Type == rr.TypeCNAME {
			ttls = append(ttls, r.TTL)
		}
	}
	for _, r := range m.Authority {
		if r.Type == rr.TypeSOA && len(ttls) == 0 {
			ttls = append(ttls, r.TTL)
		}
	}
	if len(ttls) == 0 {
		return 0
	}
	return slices.Min(ttls)
}

// Everywhere reports whether all resolvers have what the servers say.
func (s *Spread) Everywhere() bool {
	return !slices.ContainsFunc(s.Cached, func(h Cached) bool { return h.State != HasIt })
}

// Last is when the last resolver that holds another answer has forgotten it; zero: none does.
func (s *Spread) Last() (last time.Time) {
	for _, h := range s.Cached {
		if h.State == HasOther && h.Until.After(last) {
			last = h.Until
		}
	}
	return last
}
