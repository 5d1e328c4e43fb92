package edit

import (
	"errors"
	"fmt"
	"slices"

	"fencepost/childsync"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zonefile"
)

// Delegation is a child as the file of a zone has it.
func (a *Files) Delegation(zone, child string) (*childsync.Child, error) {
	b, e, err := a.edit(zone)
	if err != nil {
		return nil, err
	}
	defer b.close()
	name, err := e.childName(child)
	if err != nil {
		return nil, err
	}
	c := e.delegation(name)
	if len(c.Servers) == 0 {
		return nil, fmt.Errorf("%s is not delegated in %s", name, e.file.Apex.Plain())
	}
	return c, nil
}

// ChangeChild makes a delegation what its child wants. was is what the child was asked about: where the
// file has another by now, nothing is written.
func (a *Files) ChangeChild(zone string, was *childsync.Child, w *childsync.Wants, dry bool) (*Edited, error) {
	b, e, err := a.edit(zone)
	if err != nil {
		return nil, err
	}
	defer b.close()
	name, now := was.Name, e.delegation(was.Name)
	if !now.Same(was) {
		return nil, fmt.Errorf("the delegation of %s was changed while its servers were asked; try again", name.Plain())
	}
	for _, why := range w.Refused {
		b.note("not followed: %v", why)
	}
	if w.ChangeDS {
		if err := e.replace(name, rr.TypeDS, w.DS); err != nil {
			return nil, err
		}
		if len(w.DS) == 0 {
			b.note("%s asked to have no DS any more: it is on its way to being unsigned", name.Plain())
		}
	}
	if w.ChangeServers {
		if err := e.takeServers(now, w.Servers); err != nil {
			return nil, err
		}
	}
	return b.finish(dry)
}

// delegation is a child as the zone's file has it.
func (e *ZoneEdit) delegation(name dnsname.Name) *childsync.Child {
	c := &childsync.Child{Name: name, Glue: map[string][][]byte{}}
	for _, r := range e.file.Records(name, rr.TypeDS) {
		c.DS = append(c.DS, r.Data)
	}
	for _, r := range e.file.Records(name, rr.TypeNS) {
		host, err := dnsname.FromWire(r.Data)
		if err != nil {
			continue
		}
		c.Servers = append(c.Servers, host)
		for _, t := range []rr.Type{rr.TypeA, rr.TypeAAAA} {
			for _, a := range e.file.Records(host, t) {
				c.Glue[host.Key()] = append(c.Glue[host.Key()], a.Data)
			}
		}
	}
	return c
}

// replace puts records in place of all of their type at a name; those that stay are
// not touched.
func (e *ZoneEdit) replace(owner dnsname.Name, t rr.Type, want [][]byte) error {
	var have [][]byte
	var gone []*zonefile.Entry
	for _, r := range e.file.Records(owner, t) {
		if slices.ContainsFunc(want, func(d []byte) bool { return string(d) == string(r.Data) }) {
			have = append(have, r.Data)
			continue
		}
		gone = append(gone, r)
	}
	for _, d := range want {
		if slices.ContainsFunc(have, func(h []byte) bool { return string(h) == string(d) }) {
			continue
		}
		if err := e.addWire(owner, t, d); err != nil {
			return err
		}
	}
	for _, r := range gone {
		e.ed.Remove(r)
		e.expect(owner, t, r.Data, -1)
	}
	return nil
}

// takeServers takes over name servers and their glue; glue that nothing needs any
// more goes.
func (e *ZoneEdit) takeServers(was, want *childsync.Child) error {
	var ns [][]byte
	for _, host := range want.Servers {
		ns = append(ns, []byte(host.Wire()))
	}
	if err := e.replace(want.Name, rr.TypeNS, ns); err != nil {
		return err
	}
	hosts := map[string]dnsname.Name{}
	for _, host := range slices.Concat(was.Servers, want.Servers) {
		if host.AtOrBelow(want.Name) {
			hosts[host.Key()] = host
		}
	}
	for key, host := range hosts {
		var v4, v6 [][]byte
		for _, addr := range want.Glue[key] {
			if len(addr) == 4 {
				v4 = append(v4, addr)
			} else {
				v6 = append(v6, addr)
			}
		}
		if err := errors.Join(e.replace(host, rr.TypeA, v4), e.replace(host, rr.TypeAAAA, v6)); err != nil {
			return err
		}
	}
	return nil
}
