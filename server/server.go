// Package server answers for zones on sockets: it opens them, puts those who read them
// (frontend) together with those who know what requests mean (request) and with the zones
// (zonestate), and ends all of it in order.
package server

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"runtime"
	"slices"
	"sync"
	"syscall"
	"time"

	"fencepost/netio"
	"fencepost/server/frontend"
	"fencepost/server/zonestate"
)

// Server serves zones. Make it with New and start it with Run.
type Server struct{ *zonestate.Zones }

// New makes a server; it does nothing yet.
func New(o zonestate.Options) *Server { return &Server{Zones: zonestate.New(o)} }

// ErrListen is wrapped when a socket cannot be opened.
var ErrListen = errors.New("cannot listen")

// Run opens the sockets, loads the zones and serves until ctx is done; then it
// finishes what it has begun and returns. ready is called when questions are
// answered: when all zones are in service, or a moment after the start if that takes
// longer; zones are answered for as they come.
func (s *Server) Run(ctx context.Context, listen []netip.AddrPort, cfg *zonestate.Config, ready func(Start)) error {
	ctx, cancel := context.WithCancel(ctx) // also where it ends for an error
	defer cancel()
	ends, err := s.listen(listen)
	if err != nil {
		return err
	}
	start := Start{}
	for _, e := range ends {
		start.Addrs = append(start.Addrs, e.Addr)
	}
	s.noteFamilies(start.Addrs)
	var wg sync.WaitGroup
	loaded := s.Begin(ctx, cfg, start.Addrs, &wg)
	clock := s.Net.Clock()
	front := &frontend.Frontend{Env: s.Requests(), Clock: clock, IsPeer: s.IsPeer}
	for _, e := range ends {
		front.Serve(ctx, e, &wg)
	}
	select {
	case start.Results = <-loaded:
	case <-netio.After(clock, startPatience):
		start.Loading = s.Loading()
	}
	if ready != nil {
		ready(start)
	}
	if start.Results == nil {
		s.awaitZones(ctx, loaded)
	}
	<-ctx.Done()
	for _, e := range ends {
		e.Close()
	}
	wg.Wait()
	s.End()
	return nil
}

// awaitZones tells when the zones are loaded that were not at the start.
func (s *Server) awaitZones(ctx context.Context, loaded <-chan []zonestate.ZoneResult) {
	select {
	case <-ctx.Done():
	case all := <-loaded:
		s.Log.Info("all zones are loaded", "zones", len(all), "took", s.Now().Sub(s.Started()).Round(time.Second).String())
	}
}

// startPatience is how long the start waits for all zones before it says that the
// server is ready.
const startPatience = time.Second

// Start is what there is to tell when a server is ready.
type Start struct {
	Addrs   []netip.AddrPort
	Results []zonestate.ZoneResult // nil while zones are still being loaded
	Loading int                    // how many still are
}

// listen opens all addresses, or none.
func (s *Server) listen(addrs []netip.AddrPort) (ends []netio.Endpoint, err error) {
	for _, want := range addrs {
		e, err := s.Net.Listen(want, runtime.GOMAXPROCS(0))
		if err != nil {
			for _, e := range ends {
				e.Close()
			}
			return nil, listenError(want, err)
		}
		ends = append(ends, e)
	}
	return ends, nil
}

// listenCauses are what keeps a socket from being opened, and what to do.
var listenCauses = []struct {
	err  error
	what string
}{
	{syscall.EADDRINUSE, "another program listens there; stop it, or write another port in [serve] listen"},
	{syscall.EACCES, "ports below 1024 need a right: have the service manager give it (CAP_NET_BIND_SERVICE), start as root, or write a port above 1023 in [serve] listen"},
	{syscall.EADDRNOTAVAIL, "this machine does not have the address; see what it has, and write that in [serve] listen"},
}

// listenError says why an address cannot be listened on, and what to do.
func listenError(want netip.AddrPort, err error) error {
	for _, c := range listenCauses {
		if errors.Is(err, c.err) {
			return fmt.Errorf("%w on %s: %s (%w)", ErrListen, want, c.what, err)
		}
	}
	return fmt.Errorf("%w on %s: %w", ErrListen, want, err)
}

// noteFamilies tells of wildcards that take one family alone.
func (s *Server) noteFamilies(addrs []netip.AddrPort) {
	for _, a := range addrs {
		if !a.Addr().IsUnspecified() || slices.ContainsFunc(addrs, func(b netip.AddrPort) bool { return b.Port() == a.Port() && b.Addr().Is4() != a.Addr().Is4() }) {
			continue
		}
		other := "[::]"
		if a.Addr().Is6() {
			other = "0.0.0.0"
		}
		s.Log.Info("this address takes one family alone", "address", a.String(), "for the other add", fmt.Sprintf("%s:%d", other, a.Port()))
	}
}
