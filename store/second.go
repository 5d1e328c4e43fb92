package store

import (
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
	"io/fs"
	"os"

	"fencepost/wholefile"
)

// second is a copy of what nothing but the store has: what is kept beside versions, which for a zone
// that is kept in the store is all of it, and the serials that zones were served with. It is a file
// beside the store to which every change is appended, so that it survives what damages the other one.
// It is not waited for: the store itself has what the last moments before a power cut wrote.
//
// A record is the length of what follows its head and a checksum of that, 4 octets each, and then a
// kind, the length of a key in 4 octets, the key, and a value.
type second struct {
	path string
	f    *os.File
	base int64 // its size when it was written whole
	size int64
	err  error // why it is not whole; it is written whole at the next start
}

// Kinds of records.
const (
	recordBase    = 'b' // the first: nothing
	recordPending = 'p' // a value of bucketPending, as it is there
	recordGone    = 'd' // the key is not in bucketPending any more
	recordSerial  = 's' // serials of a zone: as it is in bucketFloor
)

// mayGrow is how much longer than it was when it was written whole a copy may be, besides twice that.
const mayGrow = 1 << 20

const recordHead = 8

func appendRecord(b []byte, kind byte, key, value []byte) []byte {
	at := len(b)
	b = append(b, make([]byte, recordHead)...)
	b = append(b, kind)
	b = binary.BigEndian.AppendUint32(b, uint32(len(key)))
	b = append(append(b, key...), value...)
	binary.BigEndian.PutUint32(b[at:], uint32(len(b)-at-recordHead))
	binary.BigEndian.PutUint32(b[at+4:], crc32.ChecksumIEEE(b[at+recordHead:]))
	return b
}

// appendSerials is the value of bucketFloor.
func appendSerials(b []byte, serial, source uint32) []byte {
	return binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(b, serial), source)
}

// secondPath is where the copy of a store is.
func secondPath(path string) string { return path + ".second" }

// keepSecond begins to keep the copy of a store that is whole.
func (b *bolt) keepSecond(path string) error {
	s := &second{path: secondPath(path)}
	f, err := os.OpenFile(s.path, os.O_RDWR, 0)
	if err == nil {
		if s.base, s.size, err = sizes(f); err == nil && s.base > 0 && s.size <= 2*s.base+mayGrow {
			s.f = f
			b.second = s
			return nil
		}
		f.Close()
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	var whole []byte
	if err := b.view(func(t tx) error {
		whole = wholeSecond(t)
		return nil
	}); err != nil {
		return err
	}
	if err := wholefile.Write(s.path, whole, 0o600); err != nil {
		return err
	}
	s.base, s.size = int64(len(whole)), int64(len(whole))
	if s.f, err = os.OpenFile(s.path, os.O_RDWR, 0); err != nil {
		return err
	}
	b.second = s
	return nil
}

// sizes are how long a copy was when it was written whole, 0 where its beginning is damaged, and is.
func sizes(f *os.File) (base, size int64, err error) {
	info, err := f.Stat()
	if err != nil {
		return 0, 0, err
	}
	head := make([]byte, recordHead+5+8)
	if _, err := f.ReadAt(head, 0); err != nil || head[recordHead] != recordBase || crc32.ChecksumIEEE(head[recordHead:]) != binary.BigEndian.Uint32(head[4:]) {
		return 0, info.Size(), nil
	}
	return int64(binary.BigEndian.Uint64(head[recordHead+5:])), info.Size(), nil
}

// wholeSecond is the copy of all that a store has.
func wholeSecond(t tx) []byte {
	out := appendRecord(nil, recordBase, nil, make([]byte, 8))
	t.each(bucketPending, nil, nil, false, func(key, value []byte) bool {
		out = appendRecord(out, recordPending, key, value)
		return true
	})
	t.each(bucketFloor, nil, nil, false, func(key, value []byte) bool {
		out = appendRecord(out, recordSerial, key, value)
		return true
	})
	t.each(bucketMeta, nil, nil, false, func(key, _ []byte) bool {
		if m, found, err := readMeta(t, string(key)); err == nil && found {
			out = appendRecord(out, recordSerial, key, appendSerials(nil, m.Serial, m.SourceSerial))
		}
		return true
	})
	value := out[recordHead+5 : recordHead+5+8]
	binary.BigEndian.PutUint64(value, uint64(len(out)))
	binary.BigEndian.PutUint32(out[4:], crc32.ChecksumIEEE(out[recordHead:recordHead+5+8]))
	return out
}

// add appends what was committed. One that could not be written is written whole at the next start.
func (s *second) add(records []byte) {
	if s == nil || s.err != nil || len(records) == 0 {
		return
	}
	n, err := s.f.WriteAt(records, s.size)
	if err != nil {
		s.err = errors.Join(err, s.f.Truncate(0))
		return
	}
	s.size += int64(n)
}

func (s *second) close() {
	if s != nil {
		_ = s.f.Close()
	}
}

// readSecond calls f for each record of a copy, as far as it is whole.
func readSecond(path string, f func(kind byte, key, value []byte) error) error {
	in, err := os.Open(path)
	if err != nil {
		return err
	}
	defer in.Close()
	text, err := io.ReadAll(in)
	if err != nil {
		return err
	}
	for len(text) >= recordHead {
		n := int64(binary.BigEndian.Uint32(text))
		if n < 5 || n > int64(len(text)-recordHead) {
			return nil
		}
		record := text[recordHead : recordHead+n]
		if crc32.ChecksumIEEE(record) != binary.BigEndian.Uint32(text[4:]) {
			return nil
		}
		keyLen := int64(binary.BigEndian.Uint32(record[1:]))
		if keyLen > n-5 {
			return nil
		}
		if err := f(record[0], record[5:5+keyLen], record[5+keyLen:]); err != nil {
			return err
		}
		text = text[recordHead+n:]
	}
	return nil
}

// takeSecond puts into a store that lost it what its copy has.
func (b *bolt) takeSecond(path string) (taken int, err error) {
	err = b.update(func(t tx) error {
		taken = 0
		return readSecond(path, func(kind byte, key, value []byte) error {
			taken++
			switch kind {
			case recordPending:
				return t.put(bucketPending, key, value)
			case recordGone:
				return t.delete(bucketPending, key)
			case recordSerial:
				return t.put(bucketFloor, key, value)
			}
			taken--
			return nil
		})
	})
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	return taken, err
}
