package zonefile

import (
	"bufio"
	"strconv"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

// Write writes a zone as a master file: the SOA first, then all names in
// canonical order, one record a line with every field stated, owners relative
// to the apex. It reads back as the same zone.
func Write(w *bufio.Writer, z *zone.Snapshot) error {
	line := append([]byte("$ORIGIN "), z.Apex().String()...)
	line = append(line, '\n')
	var apex zone.Node
	if z.ApexNode(&apex) {
		if soa, ok := apex.Find(rr.TypeSOA); ok {
			line = appendSet(line, []byte("@"), soa)
		}
	}
	if _, err := w.Write(line); err != nil {
		return err
	}
	var wire, owner []byte
	for n := range z.AllNodes {
		wire = append(n.AppendRelative(wire[:0]), 0)
		if n.IsApex() {
			owner = append(owner[:0], '@')
		} else {
			owner = dnsname.AppendText(owner[:0], wire)
			owner = owner[:len(owner)-1]
		}
		line = line[:0]
		for set := range n.RRsets {
			if set.Type == rr.TypeSOA && n.IsApex() {
				continue
			}
			line = appendSet(line, owner, set)
		}
		if _, err := w.Write(line); err != nil {
			return err
		}
	}
	return nil
}

func appendSet(b, owner []byte, set zone.RRset) []byte {
	t, ttl := set.Type, set.TTL
	var data []byte
	for set.N > 0 {
		data, set = set.Cut()
		b = append(b, owner...)
		b = append(b, '\t')
		b = strconv.AppendUint(b, uint64(ttl), 10)
		b = append(b, "\tIN\t"...)
		b = append(b, t.String()...)
		b = append(b, '\t')
		b = rr.AppendData(b, t, data)
		b = append(b, '\n')
	}
	return b
}
