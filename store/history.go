package store

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"time"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

// Info says how a version came about.
type Info struct {
	From   uint32    `json:"from"` // serial of the version before
	Serial uint32    `json:"serial"`
	Source uint32    `json:"source_serial,omitempty"` // where we sign: that of the unsigned zone
	At     time.Time `json:"at"`
	By     string    `json:"by,omitempty"` // who made it, in words; empty: nobody knows
	Way    Way       `json:"way"`
	// Removed and Added count records; a serial that moved is none of them.
	Removed int `json:"removed"`
	Added   int `json:"added"`
	DNSSEC  int `json:"dnssec,omitempty"` // those of DNSSEC that came or went
}

// Way is how a version came into service.
type Way string

// The ways.
const (
	FromFile     Way = "file"       // the zone file was changed
	FromStore    Way = "store"      // the store was damaged: it is what was in service
	FromTransfer Way = "transfer"   // a primary had it
	Signing      Way = "signatures" // signatures were renewed, or keys changed
	FromUpdate   Way = "update"     // somebody asked for it by a message (RFC 2136)
)

func stepKey(zone string, n uint64) []byte {
	return binary.BigEndian.AppendUint64([]byte(zone), n)
}

// A step is its checksum (CRC-32 of what follows), the length of its Info as JSON, that,
// and the delta.
const stepHead = 8

func makeStep(v *Version, m *Meta, delta *zone.Delta) ([]byte, error) {
	info := v.Info
	info.From, info.Serial, info.Source, info.At = delta.From, delta.To, m.SourceSerial, m.Stored
	info.count(delta)
	text, err := json.Marshal(info)
	if err != nil {
		return nil, err
	}
	b := binary.BigEndian.AppendUint32(make([]byte, 4, 512), uint32(len(text)))
	b = delta.AppendBinary(append(b, text...))
	binary.BigEndian.PutUint32(b, crc32.ChecksumIEEE(b[4:]))
	return b, nil
}

func (i *Info) count(d *zone.Delta) {
	for k := range d.Sets {
		c := &d.Sets[k]
		switch {
		case c.SerialAlone():
		case rr.MadeBySigner(c.Type()):
			i.DNSSEC += c.Removed.N + c.Added.N
		default:
			i.Removed += c.Removed.N
			i.Added += c.Added.N
		}
	}
}

// splitStep checks a step and parts it.
func splitStep(b []byte) (info, delta []byte, err error) {
	if len(b) < stepHead || crc32.ChecksumIEEE(b[4:]) != binary.BigEndian.Uint32(b) {
		return nil, nil, errors.New("a stored step is damaged")
	}
	n := binary.BigEndian.Uint32(b[4:])
	if uint64(n) > uint64(len(b)-stepHead) {
		return nil, nil, errors.New("a step is cut off")
	}
	return b[stepHead : stepHead+n], b[stepHead+n:], nil
}

func stepInfo(b []byte) (info Info, err error) {
	text, _, err := splitStep(b)
	if err != nil {
		return info, err
	}
	return info, json.Unmarshal(text, &info)
}

// readStep reads the step that leads to version n. The delta is a copy.
func readStep(t tx, name dnsname.Name, n uint64) (*zone.Delta, Info, error) {
	b := t.get(bucketSteps, stepKey(name.Key(), n))
	text, delta, err := splitStep(b)
	if err != nil {
		return nil, Info{}, err
	}
	var info Info
	if err := json.Unmarshal(text, &info); err != nil {
		return nil, info, err
	}
	d, err := zone.ParseDelta(name, append([]byte(nil), delta...))
	return d, info, err
}

// forget deletes all steps of a zone.
func forget(t tx, zone string) error {
	var keys [][]byte
	t.each(bucketSteps, []byte(zone), nil, false, func(k, _ []byte) bool {
		keys = append(keys, append([]byte(nil), k...))
		return true
	})
	for _, k := range keys {
		if err := t.delete(bucketSteps, k); err != nil {
			return err
		}
	}
	return nil
}

// Steps are the deltas that lead from one serial to another, in order. The error wraps
// ErrNoHistory where they are not kept, or are more than most octets.
func (s *Store) Steps(name dnsname.Name, from, to uint32, most int64) (out []*zone.Delta, err error) {
	err = s.e.view(func(t tx) error {
		out = nil
		m, found, err := readMeta(t, name.Key())
		if err != nil {
			return err
		}
		first, last, err := findSteps(t, &m, from, to, most)
		if err != nil || !found {
			return fmt.Errorf("%s from %d to %d: %w", name, from, to, errors.Join(ErrNoHistory, err))
		}
		for n := first; n <= last; n++ {
			d, _, err := readStep(t, name, n)
			if err != nil {
				return fmt.Errorf("%s: %w: %w", name, ErrDamaged, err)
			}
			out = append(out, d)
		}
		return nil
	})
	return out, err
}

// findSteps finds the newest steps that lead from one serial to another.
func findSteps(t tx, m *Meta, from, to uint32, most int64) (first, last uint64, err error) {
	octets := int64(0)
	t.each(bucketSteps, []byte(m.Zone), stepKey(m.Zone, m.Line.First), true, func(k, b []byte) bool {
		n := binary.BigEndian.Uint64(k[len(m.Zone):])
		_, delta, serr := splitStep(b)
		if serr != nil || len(delta) < 8 {
			err = errors.Join(ErrDamaged, serr)
			return false
		}
		if last == 0 && binary.BigEndian.Uint32(delta[4:]) == to {
			last = n
		}
		if last != 0 {
			if octets += int64(len(delta)); octets > most {
				return false
			}
			if binary.BigEndian.Uint32(delta) == from {
				first = n
			}
		}
		return first == 0
	})
	if first == 0 && err == nil {
		err = ErrNoHistory
	}
	return first, last, err
}

// History lists how the versions of a zone came about, from the newest to the oldest;
// only those that touch a name, if that is not the zero Name. complete is false where a
// step is damaged: then it ends there.
func (s *Store) History(name, touching dnsname.Name) (list []Info, complete bool, err error) {
	err = s.e.view(func(t tx) error {
		list, complete = nil, true
		m, found, err := readMeta(t, name.Key())
		if err != nil || !found {
			return err
		}
		t.each(bucketSteps, []byte(m.Zone), stepKey(m.Zone, m.Line.First), true, func(_, b []byte) bool {
			info, touches, err := lookInto(b, name, touching)
			if complete = err == nil; touches {
				list = append(list, info)
			}
			return complete
		})
		return nil
	})
	return list, complete, err
}

// lookInto reads how a step came about, and whether it touches a name.
func lookInto(b []byte, apex, name dnsname.Name) (info Info, touches bool, err error) {
	text, octets, err := splitStep(b)
	if err == nil {
		err = json.Unmarshal(text, &info)
	}
	if err != nil || name.IsZero() {
		return info, err == nil, err
	}
	d, err := zone.ParseDelta(apex, octets)
	if err != nil {
		return info, false, err
	}
	for i := range d.Sets {
		touches = touches || d.Sets[i].Owner.Equal(name)
	}
	return info, touches, nil
}

// At is the version of a zone that had a serial, the newest if there were several. The
// error wraps ErrNoHistory where the store does not reach back so far.
func (s *Store) At(name dnsname.Name, serial uint32) (*zone.Snapshot, error) {
	head, m, err := s.Load(name)
	if err != nil {
		return nil, err
	}
	if head == nil {
		return nil, fmt.Errorf("%s: %w", name, ErrNoHistory)
	}
	if m.Serial == serial {
		return head, nil
	}
	steps, err := s.Steps(name, serial, m.Serial, 1<<62)
	if err != nil {
		return nil, err
	}
	z, err := head.With(zone.Join(steps...).Reverse())
	if err != nil {
		return nil, fmt.Errorf("%s: %w: %w", name, ErrDamaged, err)
	}
	return z, nil
}
