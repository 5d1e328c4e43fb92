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
	lines   chan line
	octets  int
	dropped int
	closed  bool
	done    chan struct{}
}

// line is a line, or a question whether those before it are written.
type line struct {
	text []byte
	seen chan<- struct{}
}

// New makes a Writer. drops is the line that tells how many were dropped.
func New(to io.Writer, drops func(n int) []byte) *Writer {
	w := &Writer{to: to, dropsf: drops, lines: make(chan line, queueLines), done: make(chan struct{})}
	go w.run()
	return w
}

// Text is the line about dropped lines for a log that people read.
func Text(n int) []byte {
	return fmt.Appendf(nil, "%d lines of the log were dropped: its reader is too slow\n", n)
}

// JSON is the same for a program.
func JSON(n int) []byte {
	return fmt.Appendf(nil, "{\"level\":\"WARN\",\"msg\":\"lines of the log were dropped: its reader is too slow\",\"lines\":%d}\n", n)
}

// Write implements io.Writer; it never waits and never fails.
func (w *Writer) Write(text []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.closed {
		return len(text), nil
	}
	if w.octets+len(text) > queueOctets || len(w.lines) == cap(w.lines) {
		w.dropped++
		return len(text), nil
	}
	w.octets += len(text)
	w.lines <- line{text: append([]byte(nil), text...)} // there is room: it is filled under the lock
	return len(text), nil
}

// Flush waits until all that was written so far is handed on, for at most so long.
func (w *Writer) Flush(patience time.Duration) {
	seen := make(chan struct{})
	w.mu.Lock()
	room := !w.closed && len(w.lines) < cap(w.lines)
	if room {
		w.lines <- line{seen: seen}
	}
	w.mu.Unlock()
	if !room {
		return
	}
	select {
	case <-seen:
	case <-time.After(patience):
	}
}

func (w *Writer) run() {
	defer close(w.done)
	for line := range w.lines {
		if line.seen != nil {
			close(line.seen)
			continue
		}
		_, err := w.to.Write(line.text)
		w.mu.Lock()
		w.octets -= len(line.text)
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
