package ops

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/internal/edit"
	"fencepost/lint"
	"fencepost/server/zonestate"
	"fencepost/source"
	"fencepost/workspace"
	"fencepost/zone"
	"fencepost/zonefile"
	"fencepost/zoneload"
)

// workOf is about how much there is to do to load a zone: signing takes much longer
// than reading.
func workOf(path string, z *workspace.Zone) int64 {
	info, err := os.Stat(path)
	if err != nil {
		return 0
	}
	if z.Sign != nil {
		return 8 * info.Size()
	}
	return info.Size()
}

// loadClean reads a zone file that must have no errors. settingsDigest is what decides besides on
// what becomes of it, see howRead; last is what was loaded before.
func (a *App) loadClean(ctx context.Context, path string, name dnsname.Name, settingsDigest string, last zonestate.Input) (out zonestate.Input, err error) {
	begin := time.Now()
	src, diags := &source.Set{}, &diag.List{}
	r := a.Reader()
	next, err := gate(r, src, diags, path, name, settingsDigest, last)
	if errors.Is(err, fs.ErrNotExist) {
		return out, fmt.Errorf("there is no file %s; make it with: fencepost new %s", edit.Shown(path), strings.TrimSuffix(name.String(), "."))
	}
	if err != nil {
		return out, err
	}
	if j := judgedOf(ctx); j != nil {
		if err := j.hold(src.Files()); err != nil {
			return out, err
		}
	}
	diags = r.Settings.Settle(diags, src.Files(), false)
	if n := diags.Count(diag.Error); n > 0 {
		diags.Sort()
		for _, d := range diags.All {
			if d.Severity == diag.Error {
				return out, &edit.InvalidError{Path: edit.Shown(path), Errors: n, First: fmt.Sprintf("%s: %s", src.Position(d.Span.Start), d.Message)}
			}
		}
	}
	for _, d := range diags.All { // a warning to people; here nobody looks whether the line is whole
		if d.Rule.Code == zonefile.RuleLastLine.Code {
			return out, &edit.InvalidError{Path: edit.Shown(path), Errors: 1, First: fmt.Sprintf("%s: %s", src.Position(d.Span.Start), d.Message)}
		}
	}
	out = zonestate.Input{Zone: next.Zone, Delta: next.Delta, Stamp: makeStamp(settingsDigest, src.Files(), begin)}
	if next.Checks != nil {
		out.Checks = &checked{settingsDigest, r.Now, next.Checks}
	}
	return out, nil
}

// checked is what is known of a version that was checked.
type checked struct {
	settingsDigest string // see howRead
	now            func() time.Time
	cleared        *lint.CheckState
}

// After implements zonestate.CheckState.
func (c *checked) After(next *zone.Snapshot, d *zone.Delta) zonestate.CheckState {
	if cleared := c.cleared.AfterStep(next, d, c.now()); cleared != nil {
		return &checked{c.settingsDigest, c.now, cleared}
	}
	return nil
}

// gate reads a zone file, and checks what is not known already.
func gate(r *zoneload.Reader, src *source.Set, diags *diag.List, path string, name dnsname.Name, settingsDigest string, last zonestate.Input) (zoneload.Version, error) {
	t, err := r.Open(src, path, name)
	if err != nil {
		return zoneload.Version{}, err
	}
	t.Want = name
	before := zoneload.Version{Zone: last.Zone}
	if was, ok := last.Checks.(*checked); ok && was.settingsDigest == settingsDigest {
		before.Checks = was.cleared
	}
	next, err := r.Gate(t, before, diags)
	if errors.Is(err, zoneload.ErrNoName) { // which is among the findings
		err = nil
	}
	return next, err
}
