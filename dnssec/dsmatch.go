package dnssec

import (
	"bytes"
	"encoding/binary"
	"fmt"

	"fencepost/dnsname"
)

// DSMatch compares a DS with the DNSKEY records of its zone. leads tells that one of them is what it
// names (RFC 4034 §5.1.4); else near says, of a DS that was typed wrong, which of its fields fit which
// key and which one does not; empty where no key is near it. Both are data in wire form.
func DSMatch(zone dnsname.Name, ds []byte, keys [][]byte) (leads bool, near string) {
	const fixed = 4 // octets before the digest
	if len(ds) <= fixed {
		return false, ""
	}
	for _, k := range keys {
		if len(k) < 4 {
			continue
		}
		want := DS(zone, k, ds[3])
		tag := KeyTag(k)
		sameTag, sameAlgorithm := binary.BigEndian.Uint16(ds) == tag, ds[2] == k[3]
		switch digest := want != nil && bytes.Equal(want[fixed:], ds[fixed:]); {
		case digest && sameTag && sameAlgorithm:
			return true, ""
		case digest && sameTag:
			near = fmt.Sprintf("tag and digest fit key %d, the algorithm does not", tag)
		case digest && sameAlgorithm:
			near = fmt.Sprintf("algorithm and digest fit key %d, the tag does not", tag)
		case digest:
			near = fmt.Sprintf("the digest fits key %d, tag and algorithm do not", tag)
		case sameTag && sameAlgorithm && want != nil && near == "":
			near = fmt.Sprintf("tag and algorithm fit key %d, the digest does not", tag)
		}
	}
	return false, near
}
