package store

import (
	"encoding/json"
	"time"

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

// Publish keeps what is in service now, all in one step.
func (s *Store) Publish(list []Published) error {
	if len(list) == 0 {
		return nil
	}
	return s.e.update(func(t tx) error {
		for _, p := range list {
			text, err := json.Marshal(p)
			if err != nil {
				return err
			}
			if err := t.put(bucketPublished, []byte(p.Zone), text); err != nil {
				return err
			}
		}
		return nil
	})
}

// LastPublished is what Publish kept of a zone; found is false if it was never in
// service.
func (s *Store) LastPublished(zone dnsname.Name) (p Published, found bool, err error) {
	err = s.e.view(func(t tx) error {
		text := t.get(bucketPublished, []byte(zone.Lower().String()))
		if found = text != nil; found {
			return json.Unmarshal(text, &p)
		}
		return nil
	})
	return p, found, err
}

// ReadPublished reads all of it from a store that no server has open: ErrInUse
// otherwise. A store that is not there holds nothing.
func ReadPublished(path string) ([]Published, error) {
	s, err := OpenToRead(path)
	if err != nil {
		return nil, err
	}
	defer func() { _ = s.Close() }()
	return s.AllPublished()
}

// AllPublished is what Publish kept, of every zone.
func (s *Store) AllPublished() (out []Published, err error) {
	err = s.e.view(func(t tx) (err error) {
		t.each(bucketPublished, nil, nil, false, func(key, text []byte) bool {
			if scope, _ := splitScope(string(key)); scope != "" {
				return true
			}
			var p Published
			if err = json.Unmarshal(text, &p); err == nil {
				out = append(out, p)
			}
			return err == nil
		})
		return err
	})
	return out, err
}
