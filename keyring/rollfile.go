package keyring

import (
	"time"

	"fencepost/roll"
)

// rolloverFile is a rollover in keyring.toml; see roll.Rollover.
type rolloverFile struct {
	Kind        roll.Kind    `toml:"kind"`
	Reason      string       `toml:"reason"`
	Started     time.Time    `toml:"started"`
	Old         []uint16     `toml:"old"`
	New         []uint16     `toml:"new"`
	Step        int          `toml:"step"`
	Paused      bool         `toml:"paused,omitempty"`
	RollingBack bool         `toml:"cancelled,omitempty"`
	Overtook    roll.Kind    `toml:"overtook,omitempty"`
	Entered     time.Time    `toml:"entered,omitzero"`
	Serial      uint32       `toml:"serial,omitempty"`
	Shown       time.Time    `toml:"shown,omitzero"`
	Seen        time.Time    `toml:"seen,omitzero"`
	Relapsed    bool         `toml:"relapsed,omitempty"`
	States      []stateFile  `toml:"observed,omitempty"`
	Passed      []passedFile `toml:"passed,omitempty"`
	Ended       time.Time    `toml:"ended,omitzero"`
}

// passedFile is a roll.Passed.
type passedFile struct {
	Title   string    `toml:"title"`
	Entered time.Time `toml:"entered"`
	Seen    time.Time `toml:"seen,omitzero"`
	Ended   time.Time `toml:"ended"`
}

// stateFile is a roll.ServerState.
type stateFile struct {
	Server   string    `toml:"server"`
	Parent   bool      `toml:"parent,omitempty"`
	Seen     time.Time `toml:"seen,omitzero"`
	Answered time.Time `toml:"answered,omitzero"`
	Tried    time.Time `toml:"tried,omitzero"`
	Problem  string    `toml:"problem,omitempty"`
	Warned   time.Time `toml:"warned,omitzero"`
}

// oneTTL is a roll.TTL.
type oneTTL struct {
	Seconds  uint32    `toml:"seconds"`
	Replaced time.Time `toml:"replaced,omitzero"`
	Gone     time.Time `toml:"gone,omitzero"`
}

func fileOfRollover(r *roll.Rollover) *rolloverFile {
	if r == nil {
		return nil
	}
	return &rolloverFile{r.Kind, r.Reason, r.Started, r.Old, r.New, r.Step, r.Paused, r.RollingBack, r.Overtook, r.Entered, r.Serial, r.Shown, r.Seen, r.Relapsed,
		each(r.States, func(s roll.ServerState) stateFile { return stateFile(s) }), each(r.Passed, func(p roll.Passed) passedFile { return passedFile(p) }), r.Ended}
}

func (f *rolloverFile) rollover() *roll.Rollover {
	if f == nil {
		return nil
	}
	return &roll.Rollover{Kind: f.Kind, Reason: f.Reason, Started: f.Started, Old: f.Old, New: f.New, Step: f.Step, Paused: f.Paused, RollingBack: f.RollingBack,
		Overtook: f.Overtook, Entered: f.Entered, Serial: f.Serial, Shown: f.Shown, Seen: f.Seen, Relapsed: f.Relapsed, Ended: f.Ended,
		States: each(f.States, func(s stateFile) roll.ServerState { return roll.ServerState(s) }), Passed: each(f.Passed, func(p passedFile) roll.Passed { return roll.Passed(p) })}
}

func fileOfTTLs(ttls roll.TTLs) []oneTTL {
	return each(ttls, func(t roll.TTL) oneTTL { return oneTTL(t) })
}

func ttlsOf(ttls []oneTTL) roll.TTLs {
	return each(ttls, func(t oneTTL) roll.TTL { return roll.TTL(t) })
}

// each is f of each.
func each[A, B any](in []A, f func(A) B) (out []B) {
	for _, a := range in {
		out = append(out, f(a))
	}
	return out
}
