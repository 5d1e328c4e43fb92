package netio

import (
	"io"
	"net"
	"net/netip"
	"os"
	"syscall"
	"time"
)

// memoryStream is one end of a stream on a Memory, whose lock guards it.
type memoryStream struct {
	m             *Memory
	local, remote netip.AddrPort
	peer          *memoryStream
	serves        bool // it was accepted, not dialled

	in      []byte // what came and was not read
	closed  bool
	lost    bool // something got lost on the way: nothing comes any more
	working bool // it serves, and does not wait for what comes next; counted in Memory.busy
	until   time.Time
	wake    func() bool // takes back the timer of until
}

func (m *Memory) newStream(from, to netip.AddrPort) (ours, theirs *memoryStream) {
	ours = &memoryStream{m: m, local: from, remote: to}
	theirs = &memoryStream{m: m, local: to, remote: from, peer: ours, serves: true}
	ours.peer = theirs
	return ours, theirs
}

// work notes whether a serving end is at work. The lock is held.
func (s *memoryStream) work(is bool) {
	if !s.serves || s.working == is || is && s.closed {
		return
	}
	if s.working = is; is {
		s.m.busy++
	} else {
		s.m.busy--
	}
	s.m.moved.Broadcast()
}

// late reports whether the deadline is over. The lock is held.
func (s *memoryStream) late() bool {
	return !s.until.IsZero() && !s.m.clock.Now().Before(s.until)
}

// nothingComes reports whether whoever is at the other end will say nothing more unless it is
// asked. The lock is held.
func (s *memoryStream) nothingComes() bool {
	return s.lost || !s.serves && !s.peer.working
}

func (s *memoryStream) Read(b []byte) (int, error) {
	s.m.mu.Lock()
	defer s.m.mu.Unlock()
	for {
		switch {
		case s.closed:
			return 0, net.ErrClosed
		case len(s.in) > 0:
			n := copy(b, s.in)
			s.in = s.in[n:]
			return n, nil
		case s.peer.closed && !s.lost:
			return 0, io.EOF
		case s.late() || s.nothingComes():
			return 0, &net.OpError{Op: "read", Net: "memory", Err: os.ErrDeadlineExceeded}
		}
		s.work(false)
		s.m.moved.Wait()
	}
}

func (s *memoryStream) Write(b []byte) (int, error) {
	s.m.mu.Lock()
	defer s.m.mu.Unlock()
	fail := func(err error) (int, error) { return 0, &net.OpError{Op: "write", Net: "memory", Err: err} }
	switch {
	case s.closed:
		return 0, net.ErrClosed
	case s.peer.closed && !s.lost:
		return fail(syscall.EPIPE)
	case s.late():
		return fail(os.ErrDeadlineExceeded)
	}
	if s.m.down[s.local.Addr()] || s.m.down[s.remote.Addr()] {
		s.lost, s.peer.lost = true, true
		s.peer.work(true)
		s.m.moved.Broadcast()
		return len(b), nil
	}
	s.peer.in = append(s.peer.in, b...)
	s.peer.work(true)
	s.m.moved.Broadcast()
	return len(b), nil
}

func (s *memoryStream) Close() error {
	s.m.mu.Lock()
	defer s.m.mu.Unlock()
	if s.closed {
		return nil
	}
	s.work(false)
	s.closed = true
	if s.wake != nil {
		s.wake()
	}
	s.peer.work(true) // it sees that nothing more comes
	s.m.moved.Broadcast()
	return nil
}

// SetDeadline is for reads and writes together, which is all that is needed here.
func (s *memoryStream) SetDeadline(t time.Time) error {
	now := s.m.clock.Now()
	s.m.mu.Lock()
	defer s.m.mu.Unlock()
	if s.wake != nil {
		s.wake()
		s.wake = nil
	}
	if s.until = t; t.IsZero() || s.closed {
		return nil
	}
	if !t.After(now) {
		s.work(true)
		s.m.moved.Broadcast()
		return nil
	}
	s.wake = s.m.clock.AfterFunc(t.Sub(now), func() {
		s.m.mu.Lock()
		defer s.m.mu.Unlock()
		s.work(true)
		s.m.moved.Broadcast()
	})
	return nil
}

// SetReadDeadline implements net.Conn.
func (s *memoryStream) SetReadDeadline(t time.Time) error { return s.SetDeadline(t) }

// SetWriteDeadline does nothing: a write waits for nobody.
func (s *memoryStream) SetWriteDeadline(time.Time) error { return nil }

func (s *memoryStream) LocalAddr() net.Addr  { return net.TCPAddrFromAddrPort(s.local) }
func (s *memoryStream) RemoteAddr() net.Addr { return net.TCPAddrFromAddrPort(s.remote) }
