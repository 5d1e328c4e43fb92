package ops

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/internal/control"
	"fencepost/internal/edit"
	"fencepost/server/zonestate"
	"fencepost/workspace"
	"fencepost/zone"
	"fencepost/zonefile"
)

// Step is what an edit did to a zone, as it is handed to the running server: a version that
// was read, proved and checked here need not be read there. It is a form of the control
// socket.
type Step struct {
	Before string `json:"before"` // digest of the zone before
	Delta  []byte `json:"delta"`  // zone.Delta.AppendBinary
	Stamp  string `json:"stamp"`  // of the files as they were written
}

// largestStep bounds a step in a request; the files of a larger one are read instead.
const largestStep = 512 << 10

// stepOf is what the edit of a file did to its zone; nil where the server had better look for
// itself.
func stepOf(f *edit.EditedFile, c *workspace.Config) *Step {
	z := c.Find(f.Zone)
	before, after := f.Versions()
	if z == nil || after == nil || !edit.SameFile(f.Where(), c.File(z.Name)) || f.Diags.Count(diag.Error) > 0 {
		return nil
	}
	if _, cut := zonefile.CutOff(f.Text()); cut {
		return nil
	}
	delta := zone.Diff(before, after).AppendBinary(nil)
	// Somebody may have written another text meanwhile: what counts is what the files held
	// when they were checked, so each has its checksum.
	stamp := makeStamp(howRead(c)[z.Sign], f.Source.Files(), time.Unix(0, 0))
	if len(delta) > largestStep || stamp == "" {
		return nil
	}
	return &Step{Before: before.Digest(), Delta: delta, Stamp: stamp}
}

// ReloadEdited has the running server take the zones that an edit wrote, and decodes what it says
// of each with took: each zone once, however many of its files were written. Where the edit
// listed new zones in the configuration the server takes all that is new; then zone is empty.
func (a *App) ReloadEdited(ctx context.Context, r *edit.Edited, took func(zone string, call func(result any) error) error) error {
	c, err := a.Config()
	if err != nil {
		return err
	}
	ask := func(req control.Request) error {
		return took(req.Zone, func(result any) error { return Client(c).Call(ctx, req, result) })
	}
	files := map[string]int{} // of each zone
	for _, f := range r.Files {
		if f.Zone.IsZero() && edit.SameFile(f.Where(), filepath.Join(c.Dir, workspace.ConfigFile)) {
			return ask(control.Request{Command: "reload"})
		}
		if !f.Zone.IsZero() && c.Find(f.Zone) != nil && edit.SameFile(filepath.Dir(f.Where()), filepath.Join(c.Dir, workspace.ZonesDir)) {
			files[f.Zone.Key()]++ // else it is another file than the one that is served
		}
	}
	for _, f := range r.Files {
		if f.Zone.IsZero() || files[f.Zone.Key()] == 0 {
			continue
		}
		req := control.Request{Command: "reload", Zone: f.Zone.String()}
		if s := stepOf(f, c); s != nil && files[f.Zone.Key()] == 1 {
			req.Args = control.Args(map[string]any{"step": s})
		}
		delete(files, f.Zone.Key())
		if err := ask(req); err != nil {
			return err
		}
	}
	return nil
}

// applyStep puts a version in service that a command has made of the one before. It is an
// error where that is not what we have, or is read in another way here.
//
// A step is somebody's word that the files hold something. It is taken from those alone who
// could write the files as well as what is stored of them: the user of the server, and root.
// For others the files are read, whatever they may do besides.
func (sv *Service) applyStep(ctx context.Context, name dnsname.Name, st *Step, by string) (zonestate.ZoneResult, error) {
	c := sv.Config()
	z := c.Find(name)
	if z == nil {
		return zonestate.ZoneResult{}, zonestate.ErrNoZone
	}
	if who := control.Who(ctx); who != nil && !who.Owner() {
		return zonestate.ZoneResult{}, fmt.Errorf("%s is not the owner of the server", who.Name)
	}
	sv.seeFolders(c)
	if err := sv.mayServe(c, z); err != nil {
		return zonestate.ZoneResult{}, err
	}
	if err := stampOfFiles(st.Stamp, sv.running.Load().Reader(), c.File(name)); err != nil {
		return zonestate.ZoneResult{}, err
	}
	if !stampedFor(st.Stamp, howRead(c)[z.Sign]) {
		return zonestate.ZoneResult{}, errors.New("it was checked in another way")
	}
	delta, err := zone.ParseDelta(name, st.Delta)
	if err != nil {
		return zonestate.ZoneResult{}, err
	}
	return sv.Server.TakeStep(ctx, name, zonestate.Step{Before: st.Before, Delta: delta, Stamp: st.Stamp}, by)
}

// reloadOne takes a step if there is one and it fits, else it reads the files.
func (sv *Service) reloadOne(ctx context.Context, name dnsname.Name, st *Step, by string) ([]zonestate.ZoneResult, error) {
	if st != nil {
		r, err := sv.applyStep(ctx, name, st, by)
		if err == nil {
			return []zonestate.ZoneResult{r}, nil
		}
		sv.log.Info("the zone is read from the files: what the command changed is not all", "zone", name.String(), "why", err)
	}
	if err := edit.FinishIn(filepath.Join(sv.Config().Dir, workspace.ZonesDir)); err != nil {
		sv.log.Error("an edit was left half done", "error", err)
	}
	sv.seeFolders(sv.Config())
	r, err := sv.Server.ReloadZone(ctx, name, by)
	if errors.Is(err, zonestate.ErrNoZone) {
		err = fmt.Errorf("%w; what is new in fencepost.toml is taken by: fencepost reload%s", err, closestZone(sv.Config(), name))
	}
	return r, err
}
