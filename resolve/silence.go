package resolve

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"sync"
)

// silentAfter is how many questions, each with all its tries, a server leaves unanswered before
// it is not asked again: one with EDNS and one without (RFC 6891 §6.2.2).
const silentAfter = 2

// Silence remembers, for as long as one look at things takes, which servers answered nothing: so a
// dead one is waited for twice and not at each question (RFC 9520 §3.2). A server that answered
// anything over a transport is asked over it as ever, for it may fail at some questions alone. It
// may be used by many at once; nil remembers nothing.
type Silence struct {
	mu sync.Mutex
	of map[reached]*heard
}

type reached struct {
	at  netip.AddrPort
	tcp bool
}

type heard struct {
	answered bool
	silent   int
	last     error
}

// over is what a server is known to do: the error of the last question if it is silent.
func (s *Silence) over(at netip.AddrPort, tcp bool) error {
	if s == nil {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if h := s.of[reached{at, tcp}]; h != nil && !h.answered && h.silent >= silentAfter {
		return h.last
	}
	return nil
}

// note takes down what came of a question. What ended for another reason than time says nothing.
func (s *Silence) note(ctx context.Context, at netip.AddrPort, tcp bool, err error) {
	if s == nil || ctx.Err() != nil {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.of == nil {
		s.of = map[reached]*heard{}
	}
	h := s.of[reached{at, tcp}]
	if h == nil {
		h = &heard{}
		s.of[reached{at, tcp}] = h
	}
	var nerr net.Error
	switch {
	case err == nil:
		h.answered = true
	case errors.Is(err, ErrNoAnswer), errors.As(err, &nerr) && nerr.Timeout():
		h.silent++
		h.last = err
	}
}

// once puts a question over one transport, unless the server is known to be silent there.
func once(ctx context.Context, server netip.AddrPort, r Request, tcp bool) (resp *Response, err error) {
	if err := r.Silent.over(server, tcp); err != nil {
		return nil, err
	}
	if tcp {
		resp, err = askTCP(ctx, server, r)
	} else {
		resp, err = askUDP(ctx, server, r)
	}
	r.Silent.note(ctx, server, tcp, err)
	return resp, err
}
