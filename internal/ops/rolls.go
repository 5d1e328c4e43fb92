package ops

import (
	"context"
	"errors"
	"fmt"
	"time"

	"fencepost/dnsname"
	"fencepost/internal/control"
	"fencepost/internal/edit"
	"fencepost/keymanager"
	"fencepost/keyring"
	"fencepost/roll"
)

// RollChange is something done to the rollover of a zone. It travels to a running
// server as JSON.
type RollChange struct {
	Do     string    `json:"do"` // start, pause, resume, cancel, step
	What   string    `json:"what,omitempty"`
	Fast   bool      `json:"fast,omitempty"`
	Reason string    `json:"reason,omitempty"`
	Now    time.Time `json:"now,omitzero"` // step: the clock is set to this
}

// RollView is a rollover as it is shown; the field names are documented output.
type RollView struct {
	Zone      string     `json:"zone"`
	State     string     `json:"state"` // none, rolling, paused, finished
	Kind      string     `json:"kind,omitempty"`
	Words     string     `json:"what,omitempty"`
	Reason    string     `json:"reason,omitempty"`
	Cancelled bool       `json:"cancelled,omitempty"`
	Started   time.Time  `json:"started,omitzero"`
	Ended     time.Time  `json:"ended,omitzero"`
	Rows      []RollRow  `json:"steps,omitempty"`
	Keys      []KeyInfo  `json:"keys"`
	Due       time.Time  `json:"next_due,omitzero"`
	DueKind   string     `json:"next_what,omitempty"`
	Now       time.Time  `json:"now"`
	Servers   []RollSeen `json:"servers,omitempty"`
	Unsigned  bool       `json:"unsigned,omitempty"`
	// Parent is what is wrong with the DS there, and Next what to do about it.
	Parent   string    `json:"parent_problem,omitempty"`
	Since    time.Time `json:"parent_problem_since,omitzero"`
	Rejected bool      `json:"rejected,omitempty"` // validating resolvers reject the zone
	Next     string    `json:"next,omitempty"`
}

// RollRow is a step of a time line.
type RollRow struct {
	Title     string    `json:"title"`
	Phase     string    `json:"phase"`
	Begin     time.Time `json:"begin,omitzero"`
	Seen      time.Time `json:"seen,omitzero"`
	End       time.Time `json:"end,omitzero"`
	Estimated bool      `json:"estimated"`
	Waits     []string  `json:"waits_for,omitempty"`
	For       []string  `json:"then_expires,omitempty"`
}

// RollSeen is what is known of a server in the present step.
type RollSeen struct {
	Server  string    `json:"server"`
	Parent  bool      `json:"parent"`
	Seen    time.Time `json:"seen,omitzero"`
	Tried   time.Time `json:"tried,omitzero"`
	Problem string    `json:"problem,omitempty"`
}

// Roll shows the rollover of a zone of the workspace.
func (a *App) Roll(zone, dir string) (*RollView, error) {
	ring, _, err := a.Keys(zone, dir)
	if err != nil {
		return nil, err
	}
	if !a.TimeOverridden {
		if now, ok := a.serverTime(); ok {
			return a.viewAt(ring, now), nil
		}
	}
	return a.view(ring), nil
}

// serverTime is what the running server of the workspace takes for the present: what it
// noted of a rollover is told by that clock.
func (a *App) serverTime() (time.Time, bool) {
	c, err := a.Config()
	if err != nil {
		return time.Time{}, false
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	var st control.Status
	err = Client(c).Call(ctx, control.Request{Command: "status"}, &st)
	return st.Now, err == nil && !st.Now.IsZero()
}

func (a *App) view(ring *keyring.Ring) *RollView { return a.viewAt(ring, a.Now()) }

func (a *App) viewAt(ring *keyring.Ring, now time.Time) *RollView {
	t := a.timingOf(ring)
	v := &RollView{Zone: ring.Zone.String(), State: "none", Now: now.UTC(), Unsigned: ring.Roll.Unsigned, Keys: []KeyInfo{}}
	for _, e := range ring.Keys {
		v.Keys = append(v.Keys, keyInfo(ring, e))
	}
	if p := ring.Parent; p.Problem != "" {
		v.Parent, v.Since, v.Rejected, v.Next = p.Problem, p.Since.UTC(), p.Rejects, keymanager.NextForDS(ring)
	}
	r := ring.Roll.Roll
	switch {
	case r != nil && r.Paused:
		v.State = "paused"
	case r != nil:
		v.State = "rolling"
	case ring.Roll.Last != nil:
		v.State, r = "finished", ring.Roll.Last
	}
	if r != nil {
		v.Kind, v.Words, v.Reason, v.Cancelled, v.Started, v.Ended = string(r.Kind), r.Kind.Description(), r.Reason, r.RollingBack, r.Started.UTC(), r.Ended
		for _, row := range r.Timeline(now, &t) {
			v.Rows = append(v.Rows, RollRow{row.Title, string(row.Phase), row.Begin.UTC(), row.Seen, row.End.UTC(), row.Estimated, row.Waits, row.For})
		}
		for _, s := range r.States {
			v.Servers = append(v.Servers, RollSeen{s.Server, s.Parent, s.Seen, s.Tried, s.Problem})
		}
	}
	if p := a.policyOf(ring.Zone); p != nil && ring.Roll.Roll == nil {
		kind, when := ring.Roll.Due(p.Renew, &t)
		v.Due, v.DueKind = when, string(kind)
	}
	return v
}

// policyOf is the policy of a zone of the workspace, or nil.
func (a *App) policyOf(zone dnsname.Name) *keymanager.Policy {
	if c, err := a.Config(); err == nil {
		if z := c.Find(zone); z != nil {
			return z.Sign
		}
	}
	return nil
}

// errStepAlone means that steps of a rollover are a server's business.
var errStepAlone = errors.New("a rollover moves on only with a server that serves the zone")

// ChangeRoll does something to a rollover: through the running server, if there
// is one.
func (a *App) ChangeRoll(ctx context.Context, zone string, change RollChange) (*RollView, error) {
	name, err := edit.WholeName(zone)
	if err != nil {
		return nil, edit.Usage("the zone %q: %v", zone, err)
	}
	c, err := a.Config()
	if err != nil {
		return nil, err
	}
	if z := c.Find(name); z == nil || z.Sign == nil {
		return nil, edit.Usage("%s is not signed by this workspace: give it a policy in fencepost.toml, such as sign = \"standard\"", name.Plain())
	}
	if _, err := kindOf(&change, nil, nil); change.Do == "start" && err != nil {
		return nil, err
	}
	v := &RollView{}
	err = Client(c).Call(ctx, control.Request{Command: "roll", Zone: zone, Args: control.Args(change)}, v)
	if !errors.Is(err, control.ErrNotRunning) {
		return v, err
	}
	if change.Do == "step" {
		return nil, fmt.Errorf("%w: %w", errStepAlone, err)
	}
	err = a.withRing(c.KeyDir(name), name, func(ring *keyring.Ring) error {
		if err := a.changeRoll(ring, &change); err != nil {
			return err
		}
		v = a.view(ring)
		return nil
	})
	return v, err
}

// kinds of rollover by what is to be rolled, slowly and fast.
var rollWhat = map[string][2]roll.Kind{
	"keys": {roll.RollAll, roll.EmergencyAll}, "ksk": {roll.RollKSK, roll.EmergencyKSK}, "zsk": {roll.RollZSK, roll.EmergencyZSK},
	"sign": {roll.GoSecure, ""}, "unsign": {roll.GoInsecure, ""},
}

// kindOf is the kind of rollover that is asked for. Without a ring only the words
// are checked.
func kindOf(c *RollChange, ring *keyring.Ring, p *keymanager.Policy) (roll.Kind, error) {
	what := c.What
	if what == "" {
		what = "keys"
	}
	kinds, ok := rollWhat[what]
	if !ok {
		return "", edit.Usage("--what %s: write keys, ksk, zsk, sign or unsign", what)
	}
	kind := kinds[0]
	if c.Fast {
		if kind = kinds[1]; kind == "" {
			return "", edit.Usage("--what %s has no short way", what)
		}
	}
	if ring != nil && what == "keys" && !c.Fast && p.Demanded(ring) == roll.RollAlgorithm {
		return roll.RollAlgorithm, nil
	}
	return kind, nil
}

// changeRoll does what is asked on an open ring, which the caller saves.
func (a *App) changeRoll(ring *keyring.Ring, c *RollChange) error {
	now := a.Now()
	switch c.Do {
	case "pause", "resume":
		return ring.Roll.Pause(c.Do == "pause")
	case "cancel":
		return ring.Roll.Cancel(now)
	case "step":
		return nil
	}
	p := a.policyOf(ring.Zone)
	if p == nil {
		return fmt.Errorf("%s has no policy", ring.Zone.Plain())
	}
	kind, err := kindOf(c, ring, p)
	if err != nil {
		return err
	}
	if kind.Emergency() && len(a.otherSigners(ring.Zone)) > 0 {
		return edit.Usage("another signer serves %[1]s too (other-signers): what a new key signs would be rejected by resolvers that have the other signer's keys, until it has the new key as well. Replace the key step by step: fencepost roll start %[1]s", ring.Zone.Plain())
	}
	err = p.Start(ring, kind, c.Reason, now)
	switch {
	case errors.Is(err, roll.ErrRolling):
		return fmt.Errorf("%w; see: fencepost roll %s", err, ring.Zone.Plain())
	case errors.Is(err, keymanager.ErrSigned):
		return edit.Usage("%v", err)
	}
	return err
}
