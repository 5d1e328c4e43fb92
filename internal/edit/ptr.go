package edit

import (
	"bytes"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/workspace"
	"fencepost/zonefile"
)

// holder finds the zone file of the workspace that holds a name: that of the
// nearest zone at or above it. ok is false if there is none.
func (b *Transaction) holder(name dnsname.Name) (e *ZoneEdit, ok bool, err error) {
	dir, err := b.a.Dir()
	if err != nil {
		return nil, false, fmt.Errorf("the reverse zones are those of a workspace, and %w", err)
	}
	for n := name; ; n = n.Parent() {
		path := filepath.Join(dir, workspace.ZonesDir, workspace.FileName(n))
		if _, err := os.Stat(path); err == nil {
			e, err = b.openFile(path, n)
			return e, err == nil, err
		}
		if n == dnsname.Root {
			return nil, false, nil
		}
	}
}

// ptrPlace finds where the PTR of an address belongs: the zone, and the name in
// it, which is another one where the address lies in a slice that is delegated by
// aliases (RFC 2317).
func (b *Transaction) ptrPlace(a netip.Addr) (e *ZoneEdit, name dnsname.Name, err error) {
	name = dnsname.Reverse(a)
	for range 3 {
		e, ok, err := b.holder(name)
		if err != nil {
			return nil, name, err
		}
		if !ok {
			return nil, name, fmt.Errorf("no reverse zone of the workspace holds %s; make one with: fencepost reverse NETWORK", a)
		}
		alias := e.file.Records(name, rr.TypeCNAME)
		if len(alias) == 0 {
			return e, name, nil
		}
		if name, err = dnsname.FromWire(alias[0].Data); err != nil {
			return nil, name, err
		}
	}
	return nil, name, fmt.Errorf("the reverse name of %s is an alias of an alias of an alias", a)
}

// addPTR writes the PTR of an address that a record adds.
func (b *Transaction) addPTR(s *RecordSpec) error {
	a, ok := AddressOf(s.t, s.wire)
	if !ok {
		return Usage("--ptr is for A and AAAA records, not for %s", s.t)
	}
	if s.owner.IsWildcard() {
		return Usage("--ptr: %s is a wildcard, and an address points back to one host", s.owner)
	}
	rev, name, err := b.ptrPlace(a)
	if err != nil {
		return err
	}
	for _, r := range rev.file.Records(name, rr.TypePTR) {
		if rev.ed.Removed(r) {
			continue
		}
		if dnsname.EqualWire(r.Data, s.owner.Wire()) {
			return nil // it is there already
		}
		host, _ := dnsname.FromWire(r.Data)
		return fmt.Errorf("%s points back to %s already, at %s; remove that first, or leave --ptr out", a, host, rev.src.Position(r.Span.Start))
	}
	text := s.owner.String()
	if s.owner.AtOrBelow(rev.file.Apex) {
		text = s.owner.Relative(rev.file.Apex)
	}
	return rev.add(&RecordSpec{owner: name, t: rr.TypePTR, text: text, wire: []byte(s.owner.Wire())})
}

// removePTR takes out the PTR of an address whose record goes, if it points to
// the record's owner.
func (b *Transaction) removePTR(owner dnsname.Name, r *zonefile.Entry) error {
	a, ok := AddressOf(r.Type, r.Data)
	if !ok {
		return nil
	}
	rev, name, err := b.ptrPlace(a)
	if err != nil {
		return err
	}
	for _, p := range rev.file.Records(name, rr.TypePTR) {
		if bytes.EqualFold(p.Data, []byte(owner.Wire())) && !rev.ed.Removed(p) {
			rev.ed.Remove(p)
			rev.expect(name, rr.TypePTR, p.Data, -1)
			return nil
		}
	}
	b.note("%s had no PTR to %s", a, strings.TrimSuffix(owner.String(), "."))
	return nil
}

// movePTR changes the PTRs of a record that gets another address.
func (b *Transaction) movePTR(s *RecordSpec, old []byte) error {
	if err := b.removePTR(s.owner, &zonefile.Entry{Type: s.t, Data: old}); err != nil {
		return err
	}
	return b.addPTR(s)
}
