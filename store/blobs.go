package store

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"

	"fencepost/wholefile"
)

// blobs keep large things under names, in pieces, outside of transactions: the bases of
// large zones. So what a transaction writes does not depend on how large zones are.
type blobs interface {
	// write keeps what f puts. When it returns it is on stable storage.
	write(name string, f func(put func([]byte) error) error) error
	// read hands out the pieces; each is valid until the next.
	read(name string, f func([]byte) error) error
	remove(name string) error
	list() ([]string, error)
}

// folder keeps each in a file: for each piece its length and CRC-32 as uint32, and the
// octets.
type folder string

func (d folder) path(name string) string { return filepath.Join(string(d), name) }

func (d folder) write(name string, f func(func([]byte) error) error) (err error) {
	if err := wholefile.MkdirAll(string(d), 0o700); err != nil {
		return err
	}
	out, err := os.OpenFile(d.path(name), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer func() {
		if err = errors.Join(err, out.Close()); err == nil {
			err = syncFolder(string(d))
		}
		if err != nil {
			_ = os.Remove(d.path(name))
		}
	}()
	w := newPieces(out)
	if err := errors.Join(f(w.put), w.close()); err != nil {
		return err
	}
	return out.Sync()
}

// pieces writes pieces while the next are made.
type pieces struct {
	full, free chan []byte
	done       chan struct{}
	err        error // of writing; read after done, or where failed is closed
	failed     chan struct{}
}

func newPieces(out *os.File) *pieces {
	const ahead = 3
	w := &pieces{full: make(chan []byte, ahead), free: make(chan []byte, ahead), done: make(chan struct{}), failed: make(chan struct{})}
	for range ahead {
		w.free <- nil
	}
	some := make(chan struct{}, 1)
	go func() { // so that the disk begins to write at once, and there is little left at the end
		for range some {
			_ = out.Sync()
		}
	}()
	go func() {
		defer close(w.done)
		defer close(some)
		for p := range w.full {
			if w.err == nil {
				if w.err = writePiece(out, p); w.err != nil {
					close(w.failed)
				}
				select {
				case some <- struct{}{}:
				default:
				}
			}
			w.free <- p
		}
	}()
	return w
}

func writePiece(out io.Writer, piece []byte) error {
	head := binary.BigEndian.AppendUint32(nil, uint32(len(piece)))
	if _, err := out.Write(binary.BigEndian.AppendUint32(head, crc32.ChecksumIEEE(piece))); err != nil {
		return err
	}
	_, err := out.Write(piece)
	return err
}

// put takes a copy of a piece. The error is one of writing any so far.
func (w *pieces) put(piece []byte) error {
	select {
	case <-w.failed:
		return w.err
	default:
	}
	w.full <- append((<-w.free)[:0], piece...)
	return nil
}

// close waits until all is written.
func (w *pieces) close() error {
	close(w.full)
	<-w.done
	return w.err
}

func syncFolder(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

func (d folder) read(name string, f func([]byte) error) error {
	file, err := os.Open(d.path(name))
	if err != nil {
		return err
	}
	defer file.Close()
	in := bufio.NewReaderSize(file, chunkSize)
	var head [8]byte
	var piece []byte
	for {
		if _, err := io.ReadFull(in, head[:]); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return err
		}
		n := binary.BigEndian.Uint32(head[:])
		if n > maxChunk {
			return fmt.Errorf("%s: a piece of %d octets was never written", name, n)
		}
		if uint32(cap(piece)) < n {
			piece = make([]byte, n)
		}
		piece = piece[:n]
		if _, err := io.ReadFull(in, piece); err != nil {
			return fmt.Errorf("%s: a piece is cut off: %w", name, err)
		}
		if crc32.ChecksumIEEE(piece) != binary.BigEndian.Uint32(head[4:]) {
			return fmt.Errorf("%s: a stored piece is damaged", name)
		}
		if err := f(piece); err != nil {
			return err
		}
	}
}

func (d folder) remove(name string) error { return os.Remove(d.path(name)) }

func (d folder) list() (names []string, err error) {
	entries, err := os.ReadDir(string(d))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, e := range entries {
		names = append(names, e.Name())
	}
	return names, err
}

// heap keeps them as long as the program lasts.
type heap struct {
	mu   sync.Mutex
	kept map[string][][]byte
}

func (h *heap) write(name string, f func(func([]byte) error) error) error {
	var pieces [][]byte
	err := f(func(piece []byte) error {
		pieces = append(pieces, append([]byte(nil), piece...))
		return nil
	})
	h.mu.Lock()
	defer h.mu.Unlock()
	h.kept[name] = pieces
	return err
}

func (h *heap) read(name string, f func([]byte) error) error {
	h.mu.Lock()
	pieces, found := h.kept[name]
	h.mu.Unlock()
	if !found {
		return fs.ErrNotExist
	}
	for _, p := range pieces {
		if err := f(p); err != nil {
			return err
		}
	}
	return nil
}

func (h *heap) remove(name string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.kept, name)
	return nil
}

func (h *heap) list() (names []string, err error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for n := range h.kept {
		names = append(names, n)
	}
	return names, nil
}
