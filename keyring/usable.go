package keyring

import (
	"path/filepath"

	"fencepost/dnsname"
	"fencepost/roll"
	"fencepost/wholefile"
)

// usable are the files with which the keys of a zone were found to be usable.
type usable struct {
	zone       string // its key
	passphrase string // the file; empty: none
	marks      map[string]wholefile.Mark
	public     map[string]string // the public half of the key in a file
}

// unchanged reports whether all files are as they were.
func (u *usable) unchanged() bool {
	for path, was := range u.marks {
		if now, err := wholefile.MarkOf(path); err != nil || now != was {
			return false
		}
	}
	return len(u.marks) > 0
}

// needed picks the keys that sign now and those that are going to.
func needed(e *Entry) bool {
	return Signing(e) || e.Publish || e.State == roll.Generated
}

// Usable tells why the private keys of a zone that are needed now or next cannot be used, with the
// passphrase in a file if one is named: better now than when they are to sign. It looks at files again
// only where they have changed.
func (c *Cache) Usable(dir string, zone dnsname.Name, passphraseFile string) error {
	var known *usable
	if c != nil {
		c.mu.Lock()
		known = c.usable[dir]
		c.mu.Unlock()
		if known != nil && known.zone == zone.Key() && known.passphrase == passphraseFile && known.unchanged() {
			return nil
		}
	}
	u := &usable{zone: zone.Key(), passphrase: passphraseFile, marks: map[string]wholefile.Mark{}, public: map[string]string{}}
	fresh := false
	see := func(path string) {
		m, err := wholefile.MarkOf(path)
		fresh = fresh || err != nil || isFresh(m)
		u.marks[path] = m
	}
	index := filepath.Join(dir, IndexFile) // before it is read: a change meanwhile is seen
	if m, err := wholefile.MarkOf(index); err == nil && !isFresh(m) {
		u.marks[index] = m
	} else {
		u.marks[index] = wholefile.Mark{} // it is read again the next time
	}
	if passphraseFile != "" {
		see(passphraseFile)
	}
	ring, err := c.Open(dir, zone)
	if err != nil {
		return err
	}
	if known != nil && u.passphrase == known.passphrase && u.zone == known.zone && known.has(ring, u) {
		c.remember(dir, u, fresh)
		return nil // keyring.toml alone is another: rollovers write it often
	}
	ring.cache = nil // a key that was unlocked once tells nothing of the passphrase that there is now
	for _, e := range ring.Keys {
		if e.File != "" && needed(e) {
			see(ring.path(e))
			u.public[ring.path(e)] = string(e.Public.Data)
		}
	}
	passphrase, err := ReadPassphrase(passphraseFile)
	if err != nil {
		return err
	}
	if err := ring.Unlock(needed, passphrase); err != nil {
		return err
	}
	c.remember(dir, u, fresh)
	return nil
}

// remember notes with which files the keys in a folder were found to be usable, unless one of them was
// changed just now.
func (c *Cache) remember(dir string, u *usable, fresh bool) {
	if c == nil || fresh {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.usable == nil {
		c.usable = map[string]*usable{}
	}
	c.usable[dir] = u
}

// has reports whether the files that a ring needs, but for its index, are those with which the keys were
// found to be usable. Their marks go into now.
func (u *usable) has(ring *Ring, now *usable) bool {
	index := filepath.Join(ring.Dir, IndexFile)
	for _, e := range ring.Keys {
		if e.File == "" || !needed(e) {
			continue
		}
		path := ring.path(e)
		m, err := wholefile.MarkOf(path)
		if was, there := u.marks[path]; err != nil || !there || was != m || u.public[path] != string(e.Public.Data) {
			return false
		}
		now.marks[path], now.public[path] = m, u.public[path]
	}
	for path, m := range now.marks {
		if was, there := u.marks[path]; path != index && (!there || was != m) {
			return false
		}
	}
	return true
}
