package app

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"sort"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zonefile"
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
	b := []byte(key)
	n, err := dnsname.WireLen(b)
	if err != nil || len(b) < n+6 {
		return ""
	}
	r := rr.Record{Type: rr.Type(binary.BigEndian.Uint16(b[n:])), TTL: binary.BigEndian.Uint32(b[n+2:]), Class: rr.ClassIN, Data: b[n+6:]}
	r.Name, _ = dnsname.FromWire(b[:n])
	return strings.ReplaceAll(r.String(), "\t", " ")
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

// prove compares the records before and after with what was asked for. An edit
// that would change another record, such as one that takes its TTL from a line
// that goes, is refused.
func (e *editing) prove(after *zonefile.File) error {
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
		return fmt.Errorf("%s is laid out so that this edit would also change: %s; edit it by hand", Shown(e.path), wrong[0])
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
func (e *editing) proveSOA(after *zonefile.File) error {
	want, soa := e.file.SOA().Data, after.SOA()
	if e.soa != nil {
		want = e.soa
	}
	if soa == nil || !sameData(rr.TypeSOA, rr.SetSerial(bytes.Clone(want), e.becomes), soa.Data) {
		return fmt.Errorf("%s is laid out so that this edit would not give the SOA that was asked for; edit it by hand", Shown(e.path))
	}
	return nil
}

// proveTTLs looks whether records that stay have kept their TTL.
func (e *editing) proveTTLs(was, is []*zonefile.Entry) error {
	ttls := map[string]uint32{}
	for _, r := range was {
		ttls[key(r.Owner, r.Type, 0, r.Data)] = r.TTL
	}
	for _, r := range is {
		if r.TTLTok >= 0 {
			continue
		}
		k := key(r.Owner, r.Type, 0, r.Data)
		if was, ok := ttls[k]; ok && was != r.TTL && e.expected[k] == 0 && !e.retimed[k] {
			return fmt.Errorf("%s has no $TTL, so this edit would also change the TTL of: %s; write $TTL at its head first", Shown(e.path), keyText(k))
		}
	}
	return nil
}

// lineChanges compares two texts line by line.
func lineChanges(a, b []byte) (removed, added []string) {
	split := func(t []byte) []string { return strings.Split(strings.TrimSuffix(string(t), "\n"), "\n") }
	x, y := split(a), split(b)
	// Common head and tail are by far the most; what is between is small.
	i := 0
	for i < len(x) && i < len(y) && x[i] == y[i] {
		i++
	}
	j := 0
	for j < len(x)-i && j < len(y)-i && x[len(x)-1-j] == y[len(y)-1-j] {
		j++
	}
	x, y = x[i:len(x)-j], y[i:len(y)-j]
	return without(x, y), without(y, x)
}

// without is the lines of a that b does not have, as often as they are more.
func without(a, b []string) (out []string) {
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
