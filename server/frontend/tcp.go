package frontend

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"net/netip"
	"sync"
	"time"

	"fencepost/message"
	"fencepost/netio"
	"fencepost/resolve"
	"fencepost/server/request"
	"fencepost/transfer"
)

// Limits of connections (RFC 7766 §6.2.3, RFC 9210 §4.2).
const (
	IdleTimeout     = 10 * time.Second // of a connection without requests
	transferTimeout = 30 * time.Second // for one write of a transfer
	shutdownGrace   = 2 * time.Second
)

// serveTCP accepts connections until the listener is closed.
func (f *Frontend) serveTCP(ctx context.Context, e netio.Endpoint, wg *sync.WaitGroup) {
	for {
		conn, err := e.TCP.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil { // such as too many open files: wait a little
			select {
			case <-ctx.Done():
				return
			case <-netio.After(f.Clock, 50*time.Millisecond):
			}
			continue
		}
		from := conn.RemoteAddr().(*net.TCPAddr).AddrPort()
		from = netip.AddrPortFrom(from.Addr().Unmap(), from.Port())
		place := f.slots.enter(conn, from.Addr(), f.IsPeer(from.Addr()))
		if place == nil {
			conn.Close()
			continue
		}
		wg.Go(func() {
			defer f.slots.leave(place)
			f.serveConn(ctx, conn, from, e.Addr, place)
		})
	}
}

// serveConn answers the requests of one connection, one after another.
func (f *Frontend) serveConn(ctx context.Context, conn net.Conn, from, local netip.AddrPort, place *slot) {
	defer conn.Close()
	// On shutdown nothing more is read; what is being written may end soon.
	stop := context.AfterFunc(ctx, func() {
		_ = conn.SetReadDeadline(time.Unix(1, 0))
		_ = conn.SetWriteDeadline(f.Clock.Now().Add(shutdownGrace))
	})
	defer stop()
	h := request.New(f.Env, local)
	in := bufio.NewReaderSize(conn, 4096)
	var msg, out []byte
	for ctx.Err() == nil {
		_ = conn.SetReadDeadline(f.Clock.Now().Add(IdleTimeout))
		if ctx.Err() != nil {
			return
		}
		var err error
		f.slots.waits(place)
		if msg, err = resolve.ReadTCP(in, msg); err != nil {
			return
		}
		f.slots.works(place)
		var job *request.Job
		out, job = h.Stream(append(out[:0], 0, 0), msg, from)
		_ = conn.SetWriteDeadline(f.Clock.Now().Add(IdleTimeout))
		if job != nil {
			if !f.sendZone(ctx, conn, job, h.Query()) {
				return
			}
			continue
		}
		if len(out) <= 2 || len(out)-2 > message.MaxLen {
			return
		}
		binary.BigEndian.PutUint16(out, uint16(len(out)-2))
		if _, err := conn.Write(out); err != nil {
			return
		}
	}
}

func (f *Frontend) sendZone(ctx context.Context, conn net.Conn, job *request.Job, q *message.Query) bool {
	err := transfer.Send(&deadlineWriter{ctx, conn, f.Clock}, job.Body, q, job.Stream, job.Expire, f.Clock.Now)
	if err != nil {
		f.Env.Stranger("transfer failed", "zone", job.Zone.String(), "to", conn.RemoteAddr().String(), "error", err)
		return false
	}
	job.Done()
	return true
}

// deadlineWriter gives each write its own time, so that a slow but living
// client gets its zone and a dead one does not hold us.
type deadlineWriter struct {
	ctx   context.Context
	conn  net.Conn
	clock netio.Clock
}

func (w *deadlineWriter) Write(b []byte) (int, error) {
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	_ = w.conn.SetWriteDeadline(w.clock.Now().Add(transferTimeout))
	return w.conn.Write(b)
}

var _ io.Writer = (*deadlineWriter)(nil)
