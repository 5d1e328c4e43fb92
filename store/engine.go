package store

import (
	"bytes"
	"slices"
	"sort"
	"sync"

	"go.etcd.io/bbolt"
)

// engine keeps octets under keys, in buckets, in transactions: all of an update is kept
// or nothing, and when it returns it is on stable storage, as far as the engine has any.
type engine interface {
	view(f func(tx) error) error
	update(f func(tx) error) error
	close() error
}

// tx is one transaction. What it hands out is valid until its end, and not to be changed.
type tx interface {
	// get is the value under a key; nil where there is none.
	get(b bucket, key []byte) []byte
	put(b bucket, key, value []byte) error
	delete(b bucket, key []byte) error
	// served notes with which serials a zone is served, for a copy that survives the store.
	served(zone []byte, serial, source uint32)
	// each walks over the keys that begin with prefix and are not less than from, in
	// their order or backwards from the last, until f returns false.
	each(b bucket, prefix, from []byte, backwards bool, f func(key, value []byte) bool)
}

// bucket is the name of a map; the number in it is the version of what is in it.
type bucket string

const (
	bucketMeta      bucket = "meta-1"      // zone → Meta as JSON
	bucketData      bucket = "data-1"      // zone, number → a piece of a whole version
	bucketSteps     bucket = "steps-1"     // zone, number → a step
	bucketPublished bucket = "published-2" // zone → Published as JSON
	bucketPending   bucket = "pending-1"   // zone, key → checksum and what is kept beside the versions
	bucketFloor     bucket = "serials-1"   // zone → serials of versions that were lost
)

var buckets = []bucket{bucketMeta, bucketData, bucketSteps, bucketPublished, bucketPending, bucketFloor}

// boltTx is a transaction of the engine on disk. What goes into the copy, see second, is noted.
type boltTx struct {
	*bbolt.Tx
	copied *[]byte // nil: nothing is noted
}

func (t boltTx) get(b bucket, key []byte) []byte {
	if in := t.Bucket([]byte(b)); in != nil {
		return in.Get(key)
	}
	return nil
}

func (t boltTx) put(b bucket, key, value []byte) error {
	if b == bucketPending && t.copied != nil {
		*t.copied = appendRecord(*t.copied, recordPending, key, value)
	}
	return t.Bucket([]byte(b)).Put(key, value)
}

func (t boltTx) delete(b bucket, key []byte) error {
	if b == bucketPending && t.copied != nil {
		*t.copied = appendRecord(*t.copied, recordGone, key, nil)
	}
	return t.Bucket([]byte(b)).Delete(key)
}

func (t boltTx) served(zone []byte, serial, source uint32) {
	if t.copied != nil {
		*t.copied = appendRecord(*t.copied, recordSerial, zone, appendSerials(nil, serial, source))
	}
}

func (t boltTx) each(b bucket, prefix, from []byte, backwards bool, f func(key, value []byte) bool) {
	in := t.Bucket([]byte(b))
	if in == nil { // a file of before, opened for reading
		return
	}
	c := in.Cursor()
	if !backwards {
		for k, v := c.Seek(later(prefix, from)); k != nil && bytes.HasPrefix(k, prefix) && f(k, v); k, v = c.Next() {
		}
		return
	}
	var behind []byte
	if end := after(prefix); end != nil {
		behind, _ = c.Seek(end)
	}
	k, v := c.Prev()
	if behind == nil {
		k, v = c.Last()
	}
	for ; k != nil && bytes.HasPrefix(k, prefix) && bytes.Compare(k, from) >= 0 && f(k, v); k, v = c.Prev() {
	}
}

func later(a, b []byte) []byte {
	if bytes.Compare(a, b) < 0 {
		return b
	}
	return a
}

// after is the least key that is greater than all with a prefix; nil if there is none.
func after(prefix []byte) []byte {
	end := bytes.Clone(prefix)
	for i := len(end) - 1; i >= 0; i-- {
		if end[i]++; end[i] != 0 {
			return end[:i+1]
		}
	}
	return nil
}

// memory is an engine that keeps nothing when the program ends.
type memory struct {
	mu   sync.RWMutex
	maps map[bucket]*sortedMap
}

type sortedMap struct {
	keys   []string // in order
	values map[string][]byte
}

func newMemory() *memory {
	m := &memory{maps: map[bucket]*sortedMap{}}
	for _, b := range buckets {
		m.maps[b] = &sortedMap{values: map[string][]byte{}}
	}
	return m
}

func (m *memory) close() error { return nil }

func (m *memory) view(f func(tx) error) error {
	m.mu.RLock()
	defer m.mu.RUnlock()
	return f(&memoryTx{m: m})
}

func (m *memory) update(f func(tx) error) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	t := &memoryTx{m: m}
	err := f(t)
	if err != nil {
		for _, undo := range slices.Backward(t.undo) {
			undo()
		}
	}
	return err
}

type memoryTx struct {
	m    *memory
	undo []func()
}

func (t *memoryTx) get(b bucket, key []byte) []byte { return t.m.maps[b].values[string(key)] }

func (t *memoryTx) put(b bucket, key, value []byte) error {
	t.set(b, string(key), bytes.Clone(value), true)
	return nil
}

func (t *memoryTx) delete(b bucket, key []byte) error {
	t.set(b, string(key), nil, false)
	return nil
}

func (t *memoryTx) served([]byte, uint32, uint32) {}

// set puts or deletes, and notes how to go back.
func (t *memoryTx) set(b bucket, key string, value []byte, keep bool) {
	m := t.m.maps[b]
	old, had := m.values[key]
	t.undo = append(t.undo, func() { m.set(key, old, had) })
	m.set(key, value, keep)
}

func (m *sortedMap) set(key string, value []byte, keep bool) {
	i, found := slices.BinarySearch(m.keys, key)
	switch {
	case keep && !found:
		m.keys = slices.Insert(m.keys, i, key)
	case !keep && found:
		m.keys = slices.Delete(m.keys, i, i+1)
	}
	if delete(m.values, key); keep {
		m.values[key] = value
	}
}

func (t *memoryTx) each(b bucket, prefix, from []byte, backwards bool, f func(key, value []byte) bool) {
	m := t.m.maps[b]
	first := sort.SearchStrings(m.keys, string(later(prefix, from)))
	end := len(m.keys)
	if limit := after(prefix); limit != nil {
		end = sort.SearchStrings(m.keys, string(limit))
	}
	keys := slices.Clone(m.keys[first:max(first, end)])
	if backwards {
		slices.Reverse(keys)
	}
	for _, k := range keys {
		if !f([]byte(k), m.values[k]) {
			return
		}
	}
}
