package edit

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"slices"
	"sort"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zone"
	"fencepost/zonefile"
	"fencepost/zoneload"
)

// key tells records apart, however they are written: by owner, type, TTL and data,
// names without case.
func key(owner []byte, t rr.Type, ttl uint32, data []byte) string {
	var buf [1024]byte
	b := dnsname.AppendLower(buf[:0], owner)
	b = binary.BigEndian.AppendUint16(b, uint16(t))
	b = binary.BigEndian.AppendUint32(b, ttl)
	return string(rr.AppendFolded(b, t, data))
}

// keyText is a key for people.
func keyText(key string) string {
	r, ok := keyRecord(key)
	if !ok {
		return ""
	}
	return strings.ReplaceAll(r.String(), "\t", " ")
}

// keyRecord is the record of a key.
func keyRecord(key string) (r rr.Record, ok bool) {
	b := []byte(key)
	n, err := dnsname.WireLen(b)
	if err != nil || len(b) < n+6 {
		return r, false
	}
	r = rr.Record{Type: rr.Type(binary.BigEndian.Uint16(b[n:])), TTL: binary.BigEndian.Uint32(b[n+2:]), Class: rr.ClassIN, Data: b[n+6:]}
	r.Name, err = dnsname.FromWire(b[:n])
	return r, err == nil
}

// RejectedError says that an edit would have put errors into the file. Nothing
// was written.
type RejectedError struct {
	Source *source.Set
	Diags  *diag.List // the new errors
}

func (e *RejectedError) Error() string { return "nothing was changed: the zone would have errors" }

// Unwrap makes it a finding.
func (e *RejectedError) Unwrap() error { return ErrFindings }

// newFindings is what after says and before did not.
func newFindings(before, after *diag.List) *diag.List {
	had := map[string]int{}
	for _, d := range before.All {
		had[d.Rule.Code+d.Message]++
	}
	out := &diag.List{}
	for _, d := range after.All {
		k := d.Rule.Code + d.Message
		if had[k]--; had[k] < 0 {
			out.Add(d)
		}
	}
	return out
}

// prove compares what differs with what was asked for. An edit that would change another
// record, such as one that takes its TTL from a line that goes, is refused.
func (e *ZoneEdit) prove(after *zonefile.Loaded, text zoneload.Text) error {
	if e.asExpected(zone.Diff(e.before.Snapshot, after.Snapshot)) {
		return nil
	}
	// What differs is more, or has to be looked at as it is written.
	return e.proveText(zonefile.Parse(text.Main, text.Options, &diag.List{}))
}

// asExpected reports whether two versions differ by nothing but what the edit is to do. It
// may say no where a look at the text says yes: a record that is there twice is once in a
// zone, and its TTL is that of its set.
func (e *ZoneEdit) asExpected(d *zone.Delta) bool {
	todo := map[string]int{} // what is to come or to go
	for k, n := range e.expected {
		if n == 0 {
			continue
		}
		had := e.written(k)
		if had < 0 || had > 1 || had+n < 0 || had+n > 1 {
			return false
		}
		todo[k] = n
	}
	wantSOA := e.file.SOA().Data
	if e.soa != nil {
		wantSOA = e.soa
	}
	wantSOA = rr.SetSerial(bytes.Clone(wantSOA), e.becomes)
	for i := range d.Sets {
		c := &d.Sets[i]
		switch {
		case c.Respelled || c.Removed.N > 0 && c.Added.N > 0 && c.Removed.TTL != c.Added.TTL && c.Type() != rr.TypeSOA:
			return false
		case c.Type() == rr.TypeSOA:
			if c.Added.N != 1 || c.Removed.N != 1 || c.Removed.TTL != c.Added.TTL || !rr.SameData(rr.TypeSOA, wantSOA, c.Added.First()) {
				return false
			}
			wantSOA = nil
			continue
		}
		for _, part := range []struct {
			set zone.RRset
			by  int
		}{{c.Removed, -1}, {c.Added, +1}} {
			for data := range part.set.Data {
				k := key([]byte(c.Owner.Wire()), part.set.Type, 0, data)
				if todo[k] != part.by {
					return false
				}
				delete(todo, k)
			}
		}
	}
	return len(todo) == 0 && (wantSOA == nil || rr.SameData(rr.TypeSOA, wantSOA, e.file.SOA().Data))
}

// written is how often the file has a record, by its key; negative where that cannot be
// told.
func (e *ZoneEdit) written(k string) (n int) {
	b := []byte(k)
	w, err := dnsname.WireLen(b)
	if err != nil || len(b) < w+6 {
		return -1
	}
	owner, err := dnsname.FromWire(b[:w])
	if err != nil {
		return -1
	}
	for _, r := range e.file.Records(owner, rr.Type(binary.BigEndian.Uint16(b[w:]))) {
		if key(r.Owner, r.Type, 0, r.Data) == k {
			n++
		}
	}
	return n
}

// proveText is prove by the records as they are written.
func (e *ZoneEdit) proveText(after *zonefile.File) error {
	was, is := differing(e.file.All, after.All)
	diff := map[string]int{}
	for _, r := range was {
		diff[key(r.Owner, r.Type, 0, r.Data)]--
	}
	for _, r := range is {
		diff[key(r.Owner, r.Type, 0, r.Data)]++
	}
	for k, n := range e.expected {
		diff[k] -= n
	}
	var wrong []string
	for k, n := range diff {
		if n != 0 {
			wrong = append(wrong, keyText(k))
		}
	}
	if len(wrong) > 0 {
		sort.Strings(wrong)
		return &LayoutError{what: fmt.Sprintf("the layout of %s does not allow this edit: it would also change %s; edit it by hand", Shown(e.path), wrong[0])}
	}
	if err := e.proveSOA(after); err != nil {
		return err
	}
	return e.proveTTLs(was, is)
}

// differing are the records of two texts without those that both begin and end with:
// an edit touches little, and what it does not touch need not be looked at twice. The
// SOA is left out.
func differing(a, b []*zonefile.Entry) (was, is []*zonefile.Entry) {
	plain := func(all []*zonefile.Entry) (out []*zonefile.Entry) {
		for _, r := range all {
			if r.Kind == zonefile.Record && r.Type != rr.TypeSOA {
				out = append(out, r)
			}
		}
		return out
	}
	was, is = plain(a), plain(b)
	same := func(x, y *zonefile.Entry) bool {
		return x.Type == y.Type && x.TTL == y.TTL && bytes.Equal(x.Owner, y.Owner) && bytes.Equal(x.Data, y.Data)
	}
	for len(was) > 0 && len(is) > 0 && same(was[0], is[0]) {
		was, is = was[1:], is[1:]
	}
	for len(was) > 0 && len(is) > 0 && same(was[len(was)-1], is[len(is)-1]) {
		was, is = was[:len(was)-1], is[:len(is)-1]
	}
	return was, is
}

// proveSOA looks whether the SOA says what it is to say.
func (e *ZoneEdit) proveSOA(after *zonefile.File) error {
	want, soa := e.file.SOA().Data, after.SOA()
	if e.soa != nil {
		want = e.soa
	}
	if soa == nil || !rr.SameData(rr.TypeSOA, rr.SetSerial(bytes.Clone(want), e.becomes), soa.Data) {
		return &LayoutError{what: fmt.Sprintf("the layout of %s does not allow this edit: the SOA would not be as requested; edit it by hand", Shown(e.path))}
	}
	return nil
}

// proveTTLs looks whether records that stay have kept their TTL.
func (e *ZoneEdit) proveTTLs(was, is []*zonefile.Entry) error {
	ttls := map[string][]uint32{} // a record may be there twice
	for _, r := range was {
		k := key(r.Owner, r.Type, 0, r.Data)
		ttls[k] = append(ttls[k], r.TTL)
	}
	for _, r := range is {
		if r.TTLTok >= 0 {
			continue
		}
		k := key(r.Owner, r.Type, 0, r.Data)
		if was, ok := ttls[k]; ok && !slices.Contains(was, r.TTL) && e.expected[k] == 0 && !e.retimed[k] {
			return fmt.Errorf("%s has no $TTL, so this edit would also change the TTL of: %s; write $TTL at its head first", Shown(e.path), keyText(k))
		}
	}
	return nil
}

// resync is how many lines are looked through, on both sides together, for the place
// where two texts agree again.
const resync = 64

// lineChanges compares two texts line by line: the lines that went and that came. A
// line that only moved is in neither.
func lineChanges(a, b []byte) (removed, added []string) {
	for len(a) > 0 && len(b) > 0 {
		x, y := firstLine(a), firstLine(b)
		if bytes.Equal(x, y) {
			a, b = a[len(x):], b[len(y):]
			continue
		}
		m, n, ok := agreeAgain(a, b)
		if !ok {
			break
		}
		removed, a = takeLines(removed, a, m)
		added, b = takeLines(added, b, n)
	}
	removed, _ = takeLines(removed, a, -1)
	added, _ = takeLines(added, b, -1)
	return without(removed, added), without(added, removed)
}

// firstLine is the first line of a text, its end included.
func firstLine(text []byte) []byte {
	if i := bytes.IndexByte(text, '\n'); i >= 0 {
		return text[:i+1]
	}
	return text
}

// takeLines moves n lines, all for -1, from a text to a list.
func takeLines(to []string, text []byte, n int) ([]string, []byte) {
	for ; n != 0 && len(text) > 0; n-- {
		l := firstLine(text)
		to, text = append(to, strings.TrimSuffix(strings.TrimSuffix(string(l), "\n"), "\r")), text[len(l):]
	}
	return to, text
}

// agreeAgain finds the fewest lines of both texts to pass over so that they go on
// alike.
func agreeAgain(a, b []byte) (m, n int, ok bool) {
	var x, y [][]byte
	for range resync + 1 {
		if l := firstLine(a); len(l) > 0 {
			x, a = append(x, l), a[len(l):]
		}
		if l := firstLine(b); len(l) > 0 {
			y, b = append(y, l), b[len(l):]
		}
	}
	for sum := 1; sum <= resync; sum++ {
		for m := 0; m <= sum; m++ {
			if n := sum - m; m < len(x) && n < len(y) && bytes.Equal(x[m], y[n]) {
				return m, n, true
			}
		}
	}
	return 0, 0, false
}

// without is the lines of a that b does not have, as often as they are more.
func without(a, b []string) (out []string) {
	if len(b) == 0 {
		return a
	}
	count := map[string]int{}
	for _, l := range b {
		count[l]++
	}
	for _, l := range a {
		if count[l]--; count[l] < 0 {
			out = append(out, l)
		}
	}
	return out
}
