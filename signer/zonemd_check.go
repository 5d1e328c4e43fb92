package signer

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"

	"fencepost/rr"
	"fencepost/zone"
)

// Errors of CheckZonemd.
var (
	ErrNoZonemd  = errors.New("the zone has no ZONEMD record that we know how to check (RFC 8976 §4)")
	ErrBadZonemd = errors.New("the zone's ZONEMD record does not fit its content: it was changed or damaged on the way (RFC 8976 §4)")
)

// CheckZonemd proves that a zone is what was digested: one of its ZONEMD records has to
// fit (RFC 8976 §4). Records of other schemes and hash algorithms are passed over, and so
// are several of one kind.
func CheckZonemd(z *zone.Snapshot) error {
	var apex zone.Node
	z.ApexNode(&apex)
	set, _ := apex.Find(rr.TypeZONEMD)
	byAlg := map[uint8][][]byte{}
	for data := range set.Data {
		if len(data) >= 6 && data[4] == zonemdSimple && zonemdHashes[data[5]] != nil {
			byAlg[data[5]] = append(byAlg[data[5]], data)
		}
	}
	tried := ErrNoZonemd
	for alg, list := range byAlg {
		if len(list) > 1 { // MUST NOT be used (§2)
			continue
		}
		tried = ErrBadZonemd
		if serial := binary.BigEndian.Uint32(list[0]); serial != z.Serial() {
			tried = fmt.Errorf("%w: it is of serial %d, and the zone has %d", ErrBadZonemd, serial, z.Serial())
			continue
		}
		digests, err := Zonemd(z, []uint8{alg})
		if err != nil {
			return err
		}
		if bytes.Equal(list[0][6:], digests[alg]) {
			return nil
		}
	}
	return tried
}
