package edit

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strings"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zonefile"
)

// Timers are the times of a SOA as a person gives them, such as 5d; empty ones are
// left as they are, or have their defaults in a new zone.
type Timers struct{ Refresh, Retry, Expire, Minimum string }

func (t Timers) given() bool { return t != Timers{} }

// soaTimer is one of the four times: the field of the SOA, and what is said of it in
// a new zone.
type soaTimer struct {
	field  int // word of the data
	name   string
	preset uint32 // seconds, in a new zone
	remark string
}

// soaTimers are in the order of the SOA. The presets: secondaries hear of changes by
// NOTIFY, so refresh is for those that missed it, and 90 minutes is soon enough for
// nobody to wait for a second working day; retry lets three attempts fall into one
// refresh and more; a secondary that lost its primary goes on for two weeks, over
// holidays, and stops before signatures end that were fresh when it last heard of
// them (they last for 15 days at least: see signer.Default); a name that was asked
// for too early is found ten minutes later.
var soaTimers = [4]soaTimer{
	{3, "refresh", 5400, "refresh: secondaries look for a new version every %s"},
	{4, "retry", 1200, "retry: and every %s while the primary does not answer"},
	{5, "expire", 1209600, "expire: after %s without the primary they stop answering"},
	{6, "minimum", 600, "minimum: a name that is missing is remembered as missing for %s"},
}

// of is what was given for each timer, in the order of soaTimers.
func (t Timers) of() [4]string { return [4]string{t.Refresh, t.Retry, t.Expire, t.Minimum} }

// values are the seconds of the timers; where none is given, that of def.
func (t Timers) values(def [4]uint32) (out [4]uint32, err error) {
	for i, text := range t.of() {
		out[i] = def[i]
		if text == "" {
			continue
		}
		n, _, ok := rr.ParseTTL([]byte(text))
		if !ok {
			return out, Usage("--%s %s is not a time: write seconds, or such as 90m, 5h, 14d, 2w", soaTimers[i].name, text)
		}
		out[i] = n
	}
	return out, nil
}

// presets are the timers of a new zone.
func presets() (out [4]uint32) {
	for i, t := range soaTimers {
		out[i] = t.preset
	}
	return out
}

// says is the remark on a timer with a value.
func (t soaTimer) says(seconds uint32) string {
	return strings.ReplaceAll(fmt.Sprintf(t.remark, spanWords(seconds)), "every 1 ", "every ")
}

// spanWords is a number of seconds in the largest unit that it is a multiple of.
func spanWords(seconds uint32) string {
	for _, u := range []struct {
		n    uint32
		word string
	}{{604800, "week"}, {86400, "day"}, {3600, "hour"}, {60, "minute"}} {
		if seconds >= u.n && seconds%u.n == 0 {
			return plural(seconds/u.n, u.word)
		}
	}
	return plural(seconds, "second")
}

func plural(n uint32, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// changeSOA gives the SOA other timers, another primary or another contact: those
// that are given, or those of data that are given whole. The serial is raised as with
// every edit, or set to that of the data.
func (e *ZoneEdit) changeSOA(s *RecordSpec, t Timers) error {
	r := e.file.SOA()
	if !dnsname.EqualWire(r.Owner, s.owner.Wire()) {
		return e.none(s.owner, rr.TypeSOA)
	}
	old, err := rr.ParseSOA(r.Data)
	if err != nil {
		return err
	}
	if len(r.Tokens)-r.TypeTok-1 != 7 {
		return fmt.Errorf("the SOA in %s is not written field by field; edit it by hand", Shown(e.path))
	}
	want := bytes.Clone(r.Data)
	if s.wire != nil {
		want = s.wire
		if soa, _ := rr.ParseSOA(want); soa.Serial != old.Serial {
			e.serial = &soa.Serial
		}
	}
	values, err := t.values(timersOf(want))
	if err != nil {
		return err
	}
	for i, v := range values {
		binary.BigEndian.PutUint32(want[len(want)-16+4*i:], v)
	}
	if same := bytes.Equal(rr.SetSerial(want, old.Serial), r.Data); same && e.serial == nil && !s.hasTTL && !s.dropTTL {
		return &quiet{fmt.Sprintf("the SOA of %s is so already, at %s", s.owner, e.src.Position(r.Span.Start)), ErrAlready}
	}
	if err := e.retime(r, s); err != nil {
		return err
	}
	words := strings.Fields(rr.DataText(rr.TypeSOA, want))
	oldWords := strings.Fields(rr.DataText(rr.TypeSOA, r.Data))
	for i, w := range words {
		if w == oldWords[i] || i == zonefile.SOASerialField {
			continue
		}
		if i < zonefile.SOASerialField { // primary and contact, relative where they were
			n := dnsname.MustParse(w)
			if origin, err := dnsname.FromWire(r.Origin); err == nil && n.AtOrBelow(origin) {
				w = n.Relative(origin)
			}
		}
		e.ed.SetField(r, i, w)
	}
	for i, was := range timersOf(r.Data) {
		if values[i] != was {
			e.ed.ReplaceRemark(r, soaTimers[i].field, soaTimers[i].says(was), soaTimers[i].says(values[i]))
		}
	}
	e.soa = want
	return nil
}

// timersOf are the four times in the data of a SOA.
func timersOf(data []byte) (out [4]uint32) {
	for i := range out {
		out[i] = binary.BigEndian.Uint32(data[len(data)-16+4*i:])
	}
	return out
}
