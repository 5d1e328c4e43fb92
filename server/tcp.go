package server

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
	"fencepost/resolve"
	"fencepost/transfer"
)

// Limits of connections (RFC 7766 §6.2.3, RFC 9210 §4.2).
const (
	idleTimeout     = 10 * time.Second
	transferTimeout = 30 * time.Second // for one write of a transfer
	shutdownGrace   = 2 * time.Second
)

// serveTCP accepts connections until the listener is closed.
func (s *Server) serveTCP(ctx context.Context, l net.Listener, wg *sync.WaitGroup) {
	for {
		conn, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil { // such as too many open files: wait a little
			select {
			case <-ctx.Done():
				return
			case <-time.After(50 * time.Millisecond):
			}
			continue
		}
		from := conn.RemoteAddr().(*net.TCPAddr).AddrPort()
		from = netip.AddrPortFrom(from.Addr().Unmap(), from.Port())
		place := s.conns.enter(conn, from.Addr(), s.table.Load().peers[from.Addr()])
		if place == nil {
			conn.Close()
			continue
		}
		wg.Go(func() {
			defer s.conns.leave(place)
			s.serveConn(ctx, conn, from, place)
		})
	}
}

// serveConn answers the requests of one connection, one after another.
func (s *Server) serveConn(ctx context.Context, conn net.Conn, from netip.AddrPort, place *place) {
	defer conn.Close()
	// On shutdown nothing more is read; what is being written may end soon.
	stop := context.AfterFunc(ctx, func() {
		_ = conn.SetReadDeadline(time.Unix(1, 0))
		_ = conn.SetWriteDeadline(time.Now().Add(shutdownGrace))
	})
	defer stop()
	h := s.newHandler()
	in := bufio.NewReaderSize(conn, 4096)
	var msg, out []byte
	for ctx.Err() == nil {
		_ = conn.SetReadDeadline(time.Now().Add(idleTimeout))
		if ctx.Err() != nil {
			return
		}
		var err error
		s.conns.waits(place)
		if msg, err = resolve.ReadTCP(in, msg); err != nil {
			return
		}
		s.conns.works(place)
		var job *transferJob
		out, job = h.overTCP(append(out[:0], 0, 0), msg, from)
		_ = conn.SetWriteDeadline(time.Now().Add(idleTimeout))
		if job != nil {
			if !s.sendZone(ctx, conn, job, &h.q) {
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

func (s *Server) sendZone(ctx context.Context, conn net.Conn, job *transferJob, q *message.Query) bool {
	err := transfer.Send(&deadlineWriter{ctx, conn}, job.z, q, job.stream, s.Wall)
	if err != nil {
		s.logStranger("transfer failed", "zone", job.z.Apex().String(), "to", conn.RemoteAddr().String(), "error", err)
		return false
	}
	job.done()
	return true
}

// deadlineWriter gives each write its own time, so that a slow but living
// client gets its zone and a dead one does not hold us.
type deadlineWriter struct {
	ctx  context.Context
	conn net.Conn
}

func (w *deadlineWriter) Write(b []byte) (int, error) {
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	_ = w.conn.SetWriteDeadline(time.Now().Add(transferTimeout))
	return w.conn.Write(b)
}

var _ io.Writer = (*deadlineWriter)(nil)
