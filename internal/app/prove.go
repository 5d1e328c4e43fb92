package app

import (
	"fmt"
	"sort"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zonefile"
)

// key is a record as text that does not depend on how it is written.
func key(owner []byte, t rr.Type, ttl uint32, data []byte) string {
	r := rr.Record{Type: t, TTL: ttl, Class: rr.ClassIN, Data: data}
	r.Name, _ = dnsname.FromWire(owner)
	return r.String()
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

// newErrors is the errors of after that before did not have.
func newErrors(before, after *diag.List) *diag.List {
	had := map[string]int{}
	for _, d := range before.All {
		had[d.Rule.Code+d.Message]++
	}
	out := &diag.List{}
	for _, d := range after.All {
		if k := d.Rule.Code + d.Message; d.Severity == diag.Error {
			if had[k]--; had[k] < 0 {
				out.Add(d)
			}
		}
	}
	return out
}

// prove compares the records before and after with what was asked for. An edit
// that would change another record, such as one that takes its TTL from a line
// that goes, is refused.
func (e *editing) prove(after *zonefile.File) error {
	diff := map[string]int{}
	book := func(f *zonefile.File, by int) {
		for _, r := range f.All {
			if r.Kind == zonefile.Record && r.Type != rr.TypeSOA {
				diff[key(r.Owner, r.Type, 0, r.Data)] += by
			}
		}
	}
	book(e.file, -1)
	book(after, +1)
	for k, n := range e.expected {
		diff[k] -= n
	}
	var wrong []string
	for k, n := range diff {
		if n != 0 {
			wrong = append(wrong, k)
		}
	}
	if len(wrong) == 0 {
		return e.proveTTLs(after)
	}
	sort.Strings(wrong)
	return fmt.Errorf("%s is laid out so that this edit would also change: %s; edit it by hand", Shown(e.path), strings.ReplaceAll(wrong[0], "\t", " "))
}

// proveTTLs looks whether records that stay have kept their TTL.
func (e *editing) proveTTLs(after *zonefile.File) error {
	ttls := map[string]uint32{}
	for _, r := range e.file.All {
		if r.Kind == zonefile.Record {
			ttls[key(r.Owner, r.Type, 0, r.Data)] = r.TTL
		}
	}
	for _, r := range after.All {
		if r.Kind != zonefile.Record || r.TTLTok >= 0 {
			continue
		}
		k := key(r.Owner, r.Type, 0, r.Data)
		if was, ok := ttls[k]; ok && was != r.TTL && e.expected[k] == 0 {
			return fmt.Errorf("%s has no $TTL, so this edit would also change the TTL of: %s; write $TTL at its head first",
				Shown(e.path), strings.ReplaceAll(k, "\t", " "))
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
