// Package frontend serves requests on sockets: datagrams as fast as they come, connections
// with places, times and an end (RFC 7766, RFC 9210).
package frontend

import (
	"context"
	"net/netip"
	"sync"

	"fencepost/netio"
	"fencepost/netio/datagram"
	"fencepost/server/request"
)

// Frontend serves requests that come to sockets.
type Frontend struct {
	Env   *request.Env
	Clock netio.Clock // of deadlines
	// IsPeer reports whether connections from an address have places of their own.
	IsPeer func(from netip.Addr) bool

	slots slots
}

// Serve serves what comes to an address until its sockets are closed. What is going on when
// ctx is done may end soon; wg is done when all has ended.
func (f *Frontend) Serve(ctx context.Context, e netio.Endpoint, wg *sync.WaitGroup) {
	for _, u := range e.UDP {
		wg.Go(func() { u.Serve(func() datagram.Handler { return request.New(f.Env, e.Addr) }) })
	}
	wg.Go(func() { f.serveTCP(ctx, e, wg) })
}
