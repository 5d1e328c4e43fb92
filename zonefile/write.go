package zonefile

import (
	"bufio"
	"runtime"
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
	for text := range texts(z) {
		if _, err := w.Write(<-text); err != nil {
			return err
		}
	}
	return nil
}

// batchNames is how many names are turned into text at once.
const batchNames = 1024

// texts turns the names of a zone into text, batch by batch in order, several at a
// time: each comes as a channel that will hold it. The walk may end early.
func texts(z *zone.Snapshot) func(yield func(<-chan []byte) bool) {
	return func(yield func(<-chan []byte) bool) {
		var waiting []chan []byte
		begin := func(batch []zone.Node) {
			text := make(chan []byte, 1)
			waiting = append(waiting, text)
			go func() { text <- appendNodes(nil, batch) }()
		}
		var batch []zone.Node
		for n := range z.AllNodes {
			if batch = append(batch, *n); len(batch) < batchNames {
				continue
			}
			begin(batch)
			batch = nil
			if len(waiting) > 2*runtime.GOMAXPROCS(0) {
				if !yield(waiting[0]) {
					return
				}
				waiting = waiting[1:]
			}
		}
		begin(batch)
		for _, text := range waiting {
			if !yield(text) {
				return
			}
		}
	}
}

// appendNodes appends the records of names, one a line.
func appendNodes(text []byte, batch []zone.Node) []byte {
	var wire, owner []byte
	for i := range batch {
		n := &batch[i]
		wire = append(n.AppendRelative(wire[:0]), 0)
		if n.IsApex() {
			owner = append(owner[:0], '@')
		} else {
			owner = dnsname.AppendText(owner[:0], wire)
			owner = owner[:len(owner)-1]
		}
		for set := range n.RRsets {
			if set.Type == rr.TypeSOA && n.IsApex() {
				continue
			}
			text = appendSet(text, owner, set)
		}
	}
	return text
}

func appendSet(b, owner []byte, set zone.RRset) []byte {
	t, ttl := set.Type, set.TTL
	var data []byte
	for set.N > 0 {
		data, set = set.Next()
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
