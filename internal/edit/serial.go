package edit

import (
	"fmt"
	"strings"
	"time"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zonefile"
)

// SerialOptions says what to do with a serial: show it, raise it with Next, set
// it with Set, show the way there with Plan.
type SerialOptions struct {
	Zone string
	Next bool
	Set  *uint32
	Plan bool
	// Served is the serial of a zone that was last put in service, if that is known and it is
	// the file's there; nil: nothing is known.
	Served func(zone dnsname.Name) (serial uint32, ok bool)
}

func (o *SerialOptions) served(zone dnsname.Name) (uint32, bool) {
	if o.Served == nil {
		return 0, false
	}
	return o.Served(zone)
}

// SerialResult is what `serial` says.
type SerialResult struct {
	Zone    dnsname.Name
	Path    string
	Style   string
	Serial  uint32 // as it is now
	Next    uint32 // what would follow
	Changed bool
	Edited  *Edited // where Changed: what was done to the file
	Plan    []SerialStep
	// Served is the serial that was last in service, where the file does not lie ahead
	// of it: what follows counts from there. 0 otherwise.
	Served uint32
	Notes  []string
}

// SerialStep is one step on the way to a serial. Each is forward by RFC 1982, so
// that secondaries follow; before the next every secondary must have it.
type SerialStep struct {
	Serial uint32    `json:"serial"`
	Wait   int       `json:"wait_seconds"` // at most, until secondaries have it by themselves
	After  time.Time `json:"not_before,omitzero"`
}

// Serial shows a zone's serial, raises or sets it, or plans how to get to one
// that lies behind.
func (a *Files) Serial(o SerialOptions) (*SerialResult, error) {
	b, e, err := a.edit(o.Zone)
	if err != nil {
		return nil, err
	}
	defer b.close()
	soa, err := rr.ParseSOA(e.file.SOA().Data)
	if err != nil {
		return nil, err
	}
	r := &SerialResult{Zone: e.file.Apex, Path: Shown(e.path), Style: string(e.rules.style), Serial: soa.Serial}
	base := soa
	if served, ok := o.served(e.file.Apex); ok && rr.CompareSerials(soa.Serial, served) != rr.SerialGreater && served != soa.Serial {
		r.Served, base.Serial = served, served
	}
	r.Next = zonefile.NextSerial(e.rules.style, base.Serial, a.Now())
	to := r.Next
	if o.Set != nil {
		to = *o.Set
		if to == base.Serial {
			return nil, &quiet{fmt.Sprintf("the serial of %s is %d already", e.file.Apex, to), ErrAlready}
		}
		r.Plan = serialPlan(base, to, a.Now())
		if o.Plan {
			return r, nil
		}
		if len(r.Plan) > 1 {
			return nil, Usage("%d is not after %d by serial arithmetic (RFC 1982), so secondaries would ignore it. It takes %d steps: set %d first, "+
				"wait until every secondary has it, then continue. See: fencepost serial %s --set %d --plan", to, base.Serial, len(r.Plan), r.Plan[0].Serial, o.Zone, to)
		}
	} else if !o.Next {
		r.noteFuture(r.Serial, a.Now())
		return r, nil
	}
	r.noteFuture(to, a.Now())
	e.serial = &to
	if r.Edited, err = b.finish(false); err != nil {
		return nil, err
	}
	r.Serial, r.Changed = to, true
	r.Next = zonefile.NextSerial(e.rules.style, to, a.Now())
	return r, nil
}

// noteFuture notes a serial that reads as a date to come.
func (r *SerialResult) noteFuture(serial uint32, now time.Time) {
	day := serial / 100
	t, err := time.Parse("20060102", fmt.Sprint(day))
	if err != nil || t.Before(now.AddDate(0, 0, 2)) {
		return
	}
	today := uint32(now.UTC().Year()*1000000 + int(now.UTC().Month())*10000 + now.UTC().Day()*100)
	r.Notes = append(r.Notes, fmt.Sprintf("%d reads as %s, which is still to come: until then no serial by date follows it. The way back: fencepost serial %s --set %d --plan",
		serial, t.Format("2 January 2006"), strings.TrimSuffix(r.Zone.String(), "."), today))
}

// serialPlan is the way from the present serial to another: one step if it lies
// ahead, else round the circle of serials in steps of at most 2^31-1 (RFC 1982
// §7). A secondary that hears no NOTIFY looks again after refresh, and after
// retry if that fails.
func serialPlan(soa rr.SOA, to uint32, now time.Time) (out []SerialStep) {
	const most = 1<<31 - 1
	wait := int(soa.Refresh) + int(soa.Retry)
	at := soa.Serial
	for i := 0; at != to; i++ {
		step := min(to-at, most)
		if at+step == 0 && at+step != to { // some software takes 0 for "none"
			step--
		}
		at += step
		out = append(out, SerialStep{Serial: at, Wait: wait, After: now.Add(time.Duration(i*wait) * time.Second).UTC()})
	}
	return out
}
