package store

import (
	"encoding/binary"
	"errors"
	"io/fs"
	"os"
	"slices"
	"sync"
	"time"

	"fencepost/wholefile"
)

// Answered is a request to change a zone that was answered, and how.
type Answered struct {
	Digest [16]byte
	At     time.Time // to the second
	Code   uint16
}

// answeredLen is how many octets one takes in the file: digest, seconds since 1970, code.
const answeredLen = 16 + 8 + 2

// maxAnswered is how many are kept at least; twice as many are never in the file.
const maxAnswered = 65536

// answered are the requests that were answered, in a file beside the store to which each is appended,
// so that a server that was killed knows them again. It is not waited for: after a power cut the last
// moments may be missing.
type answered struct {
	mu   sync.Mutex
	path string // empty: nothing is kept
	f    *os.File
	n    int // in the file
}

// answeredPath is where those of a store are.
func answeredPath(path string) string { return path + ".answered" }

// NoteAnswered keeps that a request was answered.
func (s *Store) NoteAnswered(r Answered) error {
	a := &s.top().requests
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.path == "" {
		return nil
	}
	if a.f == nil || a.n >= 2*maxAnswered {
		if err := a.begin(); err != nil {
			return err
		}
	}
	if _, err := a.f.Write(r.append(nil)); err != nil {
		return err
	}
	a.n++
	return nil
}

// AnsweredSince are the requests that were answered at a time or later, oldest first. Others are
// forgotten.
func (s *Store) AnsweredSince(t time.Time) ([]Answered, error) {
	a := &s.top().requests
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.path == "" {
		return nil, nil
	}
	return a.read(t)
}

// begin writes the file anew, without what is too much.
func (a *answered) begin() error {
	list, err := a.read(time.Time{})
	if err != nil {
		return err
	}
	list = list[max(0, len(list)-maxAnswered):]
	text := make([]byte, 0, len(list)*answeredLen)
	for i := range list {
		text = list[i].append(text)
	}
	if err := wholefile.Write(a.path, text, 0o600); err != nil {
		return err
	}
	a.close()
	a.f, err = os.OpenFile(a.path, os.O_WRONLY|os.O_APPEND, 0)
	a.n = len(list)
	return err
}

// read are those in the file from a time on. An end that was not written whole is left out.
func (a *answered) read(since time.Time) (out []Answered, err error) {
	text, err := wholefile.Read(a.path, 4*maxAnswered*answeredLen)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for entry := range slices.Chunk(text, answeredLen) {
		if len(entry) < answeredLen {
			break
		}
		r := Answered{At: time.Unix(int64(binary.BigEndian.Uint64(entry[16:])), 0), Code: binary.BigEndian.Uint16(entry[24:])}
		if copy(r.Digest[:], entry); !r.At.Before(since) {
			out = append(out, r)
		}
	}
	return out, nil
}

func (r *Answered) append(b []byte) []byte {
	b = append(b, r.Digest[:]...)
	b = binary.BigEndian.AppendUint64(b, uint64(r.At.Unix()))
	return binary.BigEndian.AppendUint16(b, r.Code)
}

func (a *answered) closeAll() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.path = ""
	a.close()
}

func (a *answered) close() {
	if a.f != nil {
		_ = a.f.Close()
		a.f = nil
	}
}
