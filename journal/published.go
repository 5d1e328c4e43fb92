package journal

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"time"

	"go.etcd.io/bbolt"
	bolterrors "go.etcd.io/bbolt/errors"

	"fencepost/dnsname"
)

// Published is what was last put in service of a zone that comes from a file and
// is not signed: enough to see later that the content changed and the serial did
// not.
type Published struct {
	Zone   string    `json:"zone"` // dnsname.Name.String
	Serial uint32    `json:"serial"`
	Digest string    `json:"digest"` // of the whole content
	At     time.Time `json:"at"`
}

var bucketPublished = []byte("published-1")

// Publish keeps what is in service now, all in one step.
func (s *Store) Publish(list []Published) error {
	if len(list) == 0 {
		return nil
	}
	return s.update(func(tx *bbolt.Tx) error {
		b, err := tx.CreateBucketIfNotExists(bucketPublished)
		if err != nil {
			return err
		}
		for _, p := range list {
			text, err := json.Marshal(p)
			if err != nil {
				return err
			}
			if err := b.Put([]byte(p.Zone), text); err != nil {
				return err
			}
		}
		return nil
	})
}

// LastPublished is what Publish kept of a zone; found is false if it was never in
// service.
func (s *Store) LastPublished(zone dnsname.Name) (p Published, found bool, err error) {
	err = s.view(func(tx *bbolt.Tx) error {
		b := tx.Bucket(bucketPublished)
		if b == nil {
			return nil
		}
		text := b.Get([]byte(zone.Lower().String()))
		if found = text != nil; found {
			return json.Unmarshal(text, &p)
		}
		return nil
	})
	return p, found, err
}

// ReadPublished reads all of it from a store that no server has open: ErrInUse
// otherwise. A store that is not there holds nothing.
func ReadPublished(path string) (out []Published, err error) {
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	s := &Store{}
	err = guard(func() (err error) {
		s.db, err = bbolt.Open(path, 0o600, &bbolt.Options{Timeout: 100 * time.Millisecond, ReadOnly: true})
		return err
	})
	if errors.Is(err, bolterrors.ErrTimeout) {
		return nil, ErrInUse
	}
	if err != nil {
		return nil, err
	}
	defer func() { _ = s.Close() }()
	return s.AllPublished()
}

// AllPublished is what Publish kept, of every zone.
func (s *Store) AllPublished() (out []Published, err error) {
	err = s.view(func(tx *bbolt.Tx) error {
		b := tx.Bucket(bucketPublished)
		if b == nil {
			return nil
		}
		return b.ForEach(func(_, text []byte) error {
			var p Published
			if err := json.Unmarshal(text, &p); err != nil {
				return err
			}
			out = append(out, p)
			return nil
		})
	})
	return out, err
}
