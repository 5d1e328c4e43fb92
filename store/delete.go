package store

import (
	"fencepost/dnsname"
)

// Delete forgets a zone: its versions, and what is kept beside them.
func (s *Store) Delete(name dnsname.Name) error {
	zone, blob := name.Key(), ""
	err := s.e.update(func(t tx) error {
		m, found, err := readMeta(t, zone)
		if !found {
			return nil
		}
		if err != nil {
			m = Meta{} // what cannot be read has no pieces that are known of
		}
		blob = m.Line.Blob
		if err := forget(t, zone); err != nil {
			return err
		}
		for i := range m.Line.Chunks {
			if err := t.delete(bucketData, chunkKey(zone, i)); err != nil {
				return err
			}
		}
		var keys [][]byte
		t.each(bucketPending, []byte(zone), nil, false, func(k, _ []byte) bool {
			keys = append(keys, append([]byte(nil), k...))
			return true
		})
		for _, k := range keys {
			if err := t.delete(bucketPending, k); err != nil {
				return err
			}
		}
		if err := t.delete(bucketPublished, []byte(name.Lower().String())); err != nil {
			return err
		}
		return t.delete(bucketMeta, []byte(zone))
	})
	if err == nil && blob != "" {
		_ = s.large.remove(blob) // what is left is removed when the store is opened
	}
	return err
}
