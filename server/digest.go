package server

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"

	"fencepost/zone"
)

// sourceDigest tells apart what a signed version was made of: the content of
// the unsigned zone, and the keys and policy.
func sourceDigest(z *zone.Snapshot, signedWith string) string {
	h := sha256.New()
	var buf []byte
	for n := range z.AllNodes {
		buf = n.AppendKey(buf[:0])
		buf = append(buf, 0, 0)
		for set := range n.RRsets {
			buf = binary.BigEndian.AppendUint16(buf, uint16(set.Type))
			buf = binary.BigEndian.AppendUint32(buf, set.TTL)
			for data := range set.Data {
				buf = binary.BigEndian.AppendUint16(buf, uint16(len(data)))
				buf = append(buf, data...)
			}
		}
		h.Write(buf)
	}
	h.Write([]byte(signedWith))
	return hex.EncodeToString(h.Sum(nil))
}
