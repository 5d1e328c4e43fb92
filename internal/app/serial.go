package app

import (
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zonefile"
)

// SerialResult is what `serial` says.
type SerialResult struct {
	Zone    dnsname.Name
	Path    string
	Style   string
	Serial  uint32 // as it is now
	Next    uint32 // what would follow
	Changed bool
}

// Serial shows a zone's serial, and with next or set changes it.
func (a *App) Serial(operand string, next bool, set *uint32) (*SerialResult, error) {
	b, err := a.newBatch(operand)
	if err != nil {
		return nil, err
	}
	defer b.close()
	e, err := b.open(operand)
	if err != nil {
		return nil, err
	}
	soa, err := rr.ParseSOA(e.file.SOA().Data)
	if err != nil {
		return nil, err
	}
	r := &SerialResult{Zone: e.file.Apex, Path: Shown(e.path), Style: string(e.style), Serial: soa.Serial,
		Next: zonefile.NextSerial(e.style, soa.Serial, a.Now())}
	to := r.Next
	switch {
	case set != nil:
		to = *set
		if !rr.NewerSerial(to, soa.Serial) {
			return nil, serialBackwards(e.file.Apex, soa.Serial, to)
		}
	case !next:
		return r, nil
	}
	e.serial = &to
	if _, err := b.finish(false); err != nil {
		return nil, err
	}
	r.Serial, r.Changed = to, true
	r.Next = zonefile.NextSerial(e.style, to, a.Now())
	return r, nil
}

// serialBackwards says why a serial cannot be set, and the way round: two steps
// forward through the circle of serials (RFC 1982 §7).
func serialBackwards(zone dnsname.Name, now, to uint32) error {
	if now == to {
		return usage("the serial of %s is %d already", zone, now)
	}
	step := now + (1<<31 - 1)
	return usage("%d is not after %d by serial arithmetic (RFC 1982), so secondaries would ignore it. "+
		"It can be reached in two steps: set %d, wait until every secondary has it, then set %d", to, now, step, to)
}
