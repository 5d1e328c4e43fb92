package store

import (
	"bytes"
	"strings"
)

// For is a store of its own in this one: zones of the same name are others there. It lasts as long as
// this one, and its limits are those of this one. The scope holds no octet 0; empty is this one.
func (s *Store) For(scope string) *Store {
	if scope == "" || s == nil {
		return s
	}
	s.scopes.Lock()
	defer s.scopes.Unlock()
	in := s.inner[scope]
	if in == nil {
		prefix := scopeMark + scope + "\x00"
		in = &Store{e: &scoped{s.e, []byte(prefix)}, large: s.large, root: s, scope: prefix}
		if s.inner == nil {
			s.inner = map[string]*Store{}
		}
		s.inner[scope] = in
	}
	return in
}

// scopeMark begins the keys of scopes: no name does, in wire form or as text.
const scopeMark = "\xff"

// splitScope parts a key of the whole store.
func splitScope(key string) (scope, rest string) {
	in, is := strings.CutPrefix(key, scopeMark)
	if !is {
		return "", key
	}
	scope, rest, _ = strings.Cut(in, "\x00")
	return scope, rest
}

// limit is what is kept.
func (s *Store) limit() Limits {
	if s.root != nil {
		return s.root.limit()
	}
	return *s.limits.Load()
}

// scoped is an engine whose keys begin with a prefix in another one.
type scoped struct {
	engine
	prefix []byte
}

func (e *scoped) view(f func(tx) error) error {
	return e.engine.view(func(t tx) error { return f(&scopedTx{t, e.prefix}) })
}

func (e *scoped) update(f func(tx) error) error {
	return e.engine.update(func(t tx) error { return f(&scopedTx{t, e.prefix}) })
}

func (e *scoped) close() error { return nil } // it belongs to the other one

type scopedTx struct {
	t      tx
	prefix []byte
}

func (t *scopedTx) key(key []byte) []byte { return append(bytes.Clone(t.prefix), key...) }

func (t *scopedTx) get(b bucket, key []byte) []byte       { return t.t.get(b, t.key(key)) }
func (t *scopedTx) put(b bucket, key, value []byte) error { return t.t.put(b, t.key(key), value) }
func (t *scopedTx) delete(b bucket, key []byte) error     { return t.t.delete(b, t.key(key)) }

func (t *scopedTx) served(zone []byte, serial, source uint32) {
	t.t.served(t.key(zone), serial, source)
}

func (t *scopedTx) each(b bucket, prefix, from []byte, backwards bool, f func(key, value []byte) bool) {
	t.t.each(b, t.key(prefix), t.key(from), backwards, func(key, value []byte) bool { return f(key[len(t.prefix):], value) })
}
