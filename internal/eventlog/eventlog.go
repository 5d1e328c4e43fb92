// Package eventlog lets a server write a log without ever waiting for whoever
// reads it: a reader that stalls, or is gone, must not hold up answers.
package eventlog

import (
	"fmt"
	"io"
	"sync"
	"time"
)

// queueLines and queueOctets are how much waits for a slow reader.
const (
	queueLines  = 4096
	queueOctets = 4 << 20
)

// Writer takes lines, one a Write, and hands them on in the background. What finds
// the queue full is dropped and counted; the count is told as soon as there is room.
type Writer struct {
	to     io.Writer
	dropsf func(n int) []byte

	mu      sync.Mutex
	lines   chan []byte
	octets  int
	dropped int
	closed  bool
	done    chan struct{}
}

// New makes a Writer. drops is the line that tells how many were dropped.
func New(to io.Writer, drops func(n int) []byte) *Writer {
	w := &Writer{to: to, dropsf: drops, lines: make(chan []byte, queueLines), done: make(chan struct{})}
	go w.run()
	return w
}

// Text is the line about dropped lines for a log that people read.
func Text(n int) []byte {
	return fmt.Appendf(nil, "%d lines of the log were dropped: whoever reads it does not keep up\n", n)
}

// JSON is the same for a program.
func JSON(n int) []byte {
	return fmt.Appendf(nil, "{\"level\":\"WARN\",\"msg\":\"lines of the log were dropped: whoever reads it does not keep up\",\"lines\":%d}\n", n)
}

// Write implements io.Writer; it never waits and never fails.
func (w *Writer) Write(line []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.closed {
		return len(line), nil
	}
	if w.octets+len(line) > queueOctets || len(w.lines) == cap(w.lines) {
		w.dropped++
		return len(line), nil
	}
	w.octets += len(line)
	w.lines <- append([]byte(nil), line...) // there is room: only this function fills it
	return len(line), nil
}

func (w *Writer) run() {
	defer close(w.done)
	for line := range w.lines {
		_, err := w.to.Write(line)
		w.mu.Lock()
		w.octets -= len(line)
		if err != nil {
			w.dropped++ // told should a reader come back
		}
		n := w.dropped
		if err == nil {
			w.dropped = 0
		}
		w.mu.Unlock()
		if err == nil && n > 0 {
			_, _ = w.to.Write(w.dropsf(n))
		}
	}
}

// Close hands on what is left, for at most so long.
func (w *Writer) Close(patience time.Duration) {
	w.mu.Lock()
	if !w.closed {
		w.closed = true
		close(w.lines)
	}
	w.mu.Unlock()
	select {
	case <-w.done:
	case <-time.After(patience):
	}
}
