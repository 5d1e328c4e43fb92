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
	if c != nil {
		c.mu.Lock()
		known := c.usable[dir]
		c.mu.Unlock()
		if known != nil && known.zone == zone.Key() && known.passphrase == passphraseFile && known.unchanged() {
			return nil
		}
	}
	u := &usable{zone: zone.Key(), passphrase: passphraseFile, marks: map[string]wholefile.Mark{}}
	fresh := false
	see := func(path string) {
		m, err := wholefile.MarkOf(path)
		fresh = fresh || err != nil || isFresh(m)
		u.marks[path] = m
	}
	see(filepath.Join(dir, IndexFile)) // before they are read: a change meanwhile is seen
	if passphraseFile != "" {
		see(passphraseFile)
	}
	ring, err := c.Open(dir, zone)
	if err != nil {
		return err
	}
	ring.cache = nil // a key that was unlocked once tells nothing of the passphrase that there is now
	for _, e := range ring.Keys {
		if e.File != "" && needed(e) {
			see(ring.path(e))
		}
	}
	passphrase, err := ReadPassphrase(passphraseFile)
	if err != nil {
		return err
	}
	if err := ring.Unlock(needed, passphrase); err != nil || fresh || c == nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.usable == nil {
		c.usable = map[string]*usable{}
	}
	c.usable[dir] = u
	return nil
}
