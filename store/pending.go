package store

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"

	"fencepost/dnsname"
)

// Pending is what becomes of what is kept beside the versions of a zone: values by keys, of whoever
// puts them there; nil takes one away.
type Pending map[string][]byte

func (p Pending) write(t tx, zone string) error {
	for key, value := range p {
		at := []byte(zone + key)
		if value == nil {
			if err := t.delete(bucketPending, at); err != nil {
				return err
			}
			continue
		}
		if err := t.put(bucketPending, at, append(binary.BigEndian.AppendUint32(nil, crc32.ChecksumIEEE(value)), value...)); err != nil {
			return err
		}
	}
	return nil
}

// PutPending changes what is kept beside the versions of a zone, without a new one.
func (s *Store) PutPending(name dnsname.Name, p Pending) error {
	if len(p) == 0 {
		return nil
	}
	return s.e.update(func(t tx) error { return p.write(t, name.Key()) })
}

// Pending is what is kept beside the versions of a zone, by its keys. The error wraps ErrDamaged where
// some of it is not what was put there; the rest comes with it.
func (s *Store) Pending(name dnsname.Name) (out Pending, err error) {
	damaged := 0
	err = s.e.view(func(t tx) error {
		out, damaged = Pending{}, 0
		zone := name.Key()
		t.each(bucketPending, []byte(zone), nil, false, func(key, b []byte) bool {
			if len(b) < 4 || crc32.ChecksumIEEE(b[4:]) != binary.BigEndian.Uint32(b) {
				damaged++
				return true
			}
			out[string(key[len(zone):])] = append([]byte(nil), b[4:]...)
			return true
		})
		return nil
	})
	if damaged > 0 {
		err = errors.Join(err, fmt.Errorf("%s: %w: %d pending changes cannot be read", name, ErrDamaged, damaged))
	}
	return out, err
}

// HasPending reports whether anything is kept beside the versions of a zone.
func (s *Store) HasPending(name dnsname.Name) (has bool, err error) {
	err = s.e.view(func(t tx) error {
		t.each(bucketPending, []byte(name.Key()), nil, false, func(_, _ []byte) bool {
			has = true
			return false
		})
		return nil
	})
	return has, err
}
