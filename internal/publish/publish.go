// Package publish takes an edited zone to the world in one gated step: checked, expectations
// judged on the file, the serial moved, loaded and signed by the running server, seen at every
// secondary, expectations judged at the servers. A gate before loading changes nothing in
// service; after it, what the world sees is told, and the way back.
package publish

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/internal/control"
	"fencepost/internal/edit"
	"fencepost/internal/ops"
	"fencepost/workspace"
)

// Options of Run.
type Options struct {
	Zones         []string // none: all whose files the workspace has
	Dry           bool     // show what would be published, and change nothing
	BackOnFailure bool     // bring the version before back if a gate after loading fails
	WaitCaches    bool     // go on until no cache can hold an old answer
	Patience      time.Duration
	Timeout       time.Duration // of one try to ask a server
}

// Step is a part of the way.
type Step string

// The steps, in their order.
const (
	Checked     Step = "checked"
	OnFile      Step = "expectations on the file"
	Changes     Step = "changes"
	Serial      Step = "serial"
	Loaded      Step = "loaded"
	Secondaries Step = "secondaries"
	AtServers   Step = "expectations at the servers"
	Caches      Step = "caches"
	Back        Step = "the way back"
	Done        Step = "published"
	Nothing     Step = "nothing to publish"
)

// Event tells how far a zone is.
type Event struct {
	Zone   string `json:"zone"`
	Step   Step   `json:"step"`
	Failed bool   `json:"failed,omitempty"`
	Waits  bool   `json:"waits,omitempty"` // the step is not done yet
	Text   string `json:"text"`
	Next   string `json:"suggestion,omitempty"` // what to do about a failure
	// Changed is what the world will see, with the step Changes.
	Changed *ops.Compared `json:"-"`
}

// ErrStopped says that a zone was not published, or not everywhere. What is wrong was told.
var ErrStopped = errors.New("not published")

// run is one zone on its way.
type run struct {
	app  *ops.App
	c    *workspace.Config
	z    *workspace.Zone
	o    *Options
	tell func(Event) error

	judged         ops.Judged
	before, serial uint32 // of everyone's version, in service before and after loading
	until          time.Time
}

// versions are the zone as everyone sees it, and as audiences do that have files of their own.
func (r *run) versions() []string {
	out := []string{r.name()}
	for _, a := range r.z.Audiences {
		out = append(out, r.name()+workspace.AudienceMark+a.Name)
	}
	return out
}

// Run publishes zones, each after those that it leans on (see inOrder). It ends at the first
// that cannot be published.
func Run(ctx context.Context, app *ops.App, o Options, tell func(Event) error) error {
	app = app.Holding()
	c, err := app.Config()
	if err != nil {
		return err
	}
	zones, err := chosen(c, o.Zones)
	if err != nil {
		return err
	}
	for _, z := range ordered(ctx, app, zones) {
		r := &run{app: app, c: c, z: z, o: &o, tell: tell}
		if err := r.publish(ctx); err != nil {
			return err
		}
	}
	return nil
}

// chosen are the zones to publish.
func chosen(c *workspace.Config, names []string) (out []*workspace.Zone, err error) {
	for _, n := range names {
		name, err := edit.WholeName(n)
		if err != nil {
			return nil, edit.Usage("the zone %q: %v", n, err)
		}
		z := c.Find(name)
		switch {
		case z == nil:
			return nil, edit.Usage("the zone %s is not in this workspace", name.Plain())
		case len(z.FetchFrom) > 0:
			return nil, edit.Usage("%s is fetched from a primary: it is published there", name.Plain())
		}
		out = append(out, z)
	}
	if len(names) == 0 {
		for _, z := range c.Zones {
			if z.HasFile() {
				out = append(out, z)
			}
		}
	}
	return out, nil
}

// ordered puts zones into the order to publish them in, by what would change. A zone of which
// that cannot be told stands as if nothing would: why is told when it is its turn.
func ordered(ctx context.Context, app *ops.App, zones []*workspace.Zone) (out []*workspace.Zone) {
	if len(zones) < 2 {
		return zones
	}
	by, changes := map[string]*workspace.Zone{}, map[string][]ops.SetChange{}
	var list []dnsname.Name
	for _, z := range zones {
		by[z.Name.Key()] = z
		list = append(list, z.Name)
		if d, _ := app.Diff(ctx, ops.DiffOptions{From: "served:" + z.Name.Plain(), To: z.Name.Plain()}); d != nil {
			changes[z.Name.Key()] = d.Changes
		}
	}
	for _, n := range inOrder(list, changes) {
		out = append(out, by[n.Key()])
	}
	return out
}

func (r *run) name() string { return r.z.Name.Plain() }

func (r *run) say(s Step, format string, args ...any) error {
	return r.tell(Event{Zone: r.name(), Step: s, Text: fmt.Sprintf(format, args...)})
}

// stop tells why it does not go on.
func (r *run) stop(s Step, next, format string, args ...any) error {
	if err := r.tell(Event{Zone: r.name(), Step: s, Failed: true, Text: fmt.Sprintf(format, args...), Next: next}); err != nil {
		return err
	}
	return fmt.Errorf("%s: %w: %w", r.name(), ErrStopped, edit.ErrFindings)
}

// publish takes one zone the whole way.
func (r *run) publish(ctx context.Context) error {
	for _, gate := range []func(context.Context) error{r.check, r.onFile} {
		if err := gate(ctx); err != nil {
			return err
		}
	}
	changed, err := r.changes(ctx)
	if err != nil || r.o.Dry {
		return err
	}
	if changed {
		if err := r.load(ctx); err != nil {
			return err
		}
	}
	for _, gate := range []func(context.Context) error{r.secondaries, r.atServers} {
		if err := gate(ctx); err != nil {
			return r.back(ctx, changed, err)
		}
	}
	if !changed {
		return r.say(Nothing, "serial %d is in service, and everything is as it must be", r.serial)
	}
	if err := r.caches(ctx); err != nil {
		return err
	}
	return r.say(Done, "serial %d", r.serial)
}

// check is the first gate: nothing may keep the zone out of service.
func (r *run) check(ctx context.Context) error {
	res, err := r.app.Check(ctx, ops.CheckOptions{Operands: r.versions()})
	if res == nil {
		return err
	}
	judged, jerr := res.Judged()
	if jerr != nil {
		return jerr
	}
	r.judged = judged
	if n := res.Diags.Count(diag.Error); n > 0 {
		return r.stop(Checked, "see: fencepost check "+r.name(), "%s; nothing was changed", count(n, "error"))
	}
	if err != nil {
		return err
	}
	return r.say(Checked, "no errors, %s", count(res.Diags.Count(diag.Warning), "warning"))
}

func count(n int, word string) string {
	switch n {
	case 0:
		return "no " + word + "s"
	case 1:
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// expectations are the files of the workspace about the zone.
func (r *run) expectations() (files []string, err error) {
	all, err := filepath.Glob(filepath.Join(r.c.Dir, ops.ExpectFolder, "*"+ops.ExpectSuffix))
	if err != nil {
		return nil, err
	}
	for _, f := range all {
		about, err := ops.ExpectedZone(f)
		if err != nil {
			return nil, err
		}
		if about.Equal(r.z.Name) || about.IsZero() { // one that cannot be understood is told
			files = append(files, f)
		}
	}
	return files, nil
}

// expect judges expectations; at are servers, none the file.
func (r *run) expect(ctx context.Context, s Step, at []string, next string) error {
	files, err := r.expectations()
	if err != nil {
		return err
	}
	if len(files) == 0 {
		return r.say(s, "there are none")
	}
	x, err := r.app.Expect(ctx, ops.ExpectOptions{Files: files, At: at, Timeout: r.o.Timeout})
	if x == nil {
		var invalid *edit.InvalidExpectations
		if errors.As(err, &invalid) {
			return r.stop(s, "see: fencepost expect", "the expectations cannot be understood%s", next)
		}
		return err
	}
	if n := x.Count(ops.Fails); n > 0 {
		var first ops.ExpectResult
		for _, res := range x.Results {
			if res.Outcome == ops.Fails {
				first = res
				break
			}
		}
		return r.stop(s, "", "%d of %d fail%s. First: %s; got %s (%s:%d)", n, len(x.Results), next, first.Text, first.Got, first.File, first.Line)
	}
	return r.say(s, "%s", hold(x))
}

func hold(x *ops.Expected) string {
	text := fmt.Sprintf("%d hold", x.Count(ops.Holds))
	if n := x.Count(ops.LeftOut); n > 0 {
		text += fmt.Sprintf(", %d left out", n)
	}
	return text
}

func (r *run) onFile(ctx context.Context) error {
	return r.expect(ctx, OnFile, nil, "; nothing was changed")
}

// changes tells what the world will see, and moves serials where they have to be moved.
func (r *run) changes(ctx context.Context) (changed bool, err error) {
	for _, version := range r.versions() {
		differs, err := r.changesOf(ctx, version)
		if err != nil {
			return false, err
		}
		changed = changed || differs
	}
	if !changed {
		err = r.say(Changes, "the file is what is in service, serial %d", r.before)
	}
	return changed, err
}

func (r *run) changesOf(ctx context.Context, version string) (changed bool, err error) {
	d, err := r.app.Diff(ctx, ops.DiffOptions{From: "served:" + version, To: version})
	if err != nil && !errors.Is(err, edit.ErrFindings) { // they differ
		return false, err
	}
	if version == r.name() {
		r.before, r.serial = d.OldSerial, d.OldSerial
	}
	if len(d.Changes) == 0 {
		return false, nil
	}
	if d.Until.After(r.until) {
		r.until = d.Until
	}
	text := fmt.Sprintf("sets of records: added %d, removed %d, changed %d", d.Added, d.Gone, d.Moved)
	if version != r.name() {
		text = version + ": " + text
	}
	if err := r.tell(Event{Zone: r.name(), Step: Changes, Text: text, Changed: d}); err != nil || r.o.Dry {
		return true, err
	}
	if r.z.Sign != nil || d.Serials == "" {
		return true, nil
	}
	s, err := r.app.Serial(ctx, edit.SerialOptions{Zone: version, Next: true})
	if err != nil {
		return true, err
	}
	if err := r.judged.Edited(s.Edited); err != nil {
		return true, r.stop(Serial, "run it again: fencepost publish "+r.name(), "%v", err)
	}
	return true, r.say(Serial, "raised to %d, for secondaries would not see the change", s.Serial)
}

// took is what the server did with a zone, as it says it over the control socket.
type took struct {
	Zone     string `json:"zone"`
	Audience string `json:"audience"`
	Change   string `json:"change"`
	Serial   uint32 `json:"serial"`
	Problem  string `json:"problem"`
}

// load has the running server take the zone.
func (r *run) load(ctx context.Context) error {
	var results []took
	if err := ops.Client(r.c).Call(ctx, control.Request{Command: "reload", Zone: r.name(), Args: control.Args(map[string]any{"judged": r.judged})}, &results); err != nil {
		return err
	}
	for _, t := range results {
		if t.Problem != "" {
			return r.stop(Loaded, "mend it and run it again: fencepost publish "+r.name(), "the server keeps serial %d: %s", t.Serial, t.Problem)
		}
		if t.Audience == "" { // each audience has serials of its own
			r.serial = t.Serial
		}
	}
	how := ""
	if r.z.Sign != nil {
		how = ", signed"
	}
	return r.say(Loaded, "serial %d is in service%s", r.serial, how)
}

// servers are the servers that must show the zone: here, and all that it is sent to.
func (r *run) servers() (out []string) {
	for _, p := range r.z.SendTo {
		out = append(out, p.Name)
	}
	return out
}

// secondaries waits until every server shows the version.
func (r *run) secondaries(ctx context.Context) error {
	if len(r.z.SendTo) == 0 {
		return r.say(Secondaries, "there are none")
	}
	o := ops.InStepOptions{Zone: r.name(), Serial: fmt.Sprint(r.serial), Timeout: r.o.Timeout}
	step, err := r.app.Await(ctx, o, r.o.Patience, func(_ uint32, late string) error {
		return r.tell(Event{Zone: r.name(), Step: Secondaries, Waits: true, Text: "waiting for " + late})
	})
	switch {
	case err == nil:
		return r.say(Secondaries, "%s in sync with serial %d", strings.Join(r.servers(), ", "), r.serial)
	case step == nil:
		return err
	}
	return r.stop(Secondaries, fmt.Sprintf("continue with: fencepost publish %s", r.name()), "not all show serial %d: %s", r.serial, step.Late())
}

func (r *run) atServers(ctx context.Context) error {
	at := append([]string{""}, r.servers()...) // "" is the server of this workspace
	return r.expect(ctx, AtServers, at, "")
}

// back says what the world sees after a gate behind loading failed, and what the way back is;
// or goes it.
func (r *run) back(ctx context.Context, changed bool, failed error) error {
	if !changed || !errors.Is(failed, ErrStopped) || r.before == 0 {
		return failed
	}
	command := fmt.Sprintf("fencepost restore %s %d --reload", r.name(), r.before)
	if !r.o.BackOnFailure {
		if err := r.tell(Event{Zone: r.name(), Step: Back, Text: fmt.Sprintf("the world sees serial %d where it has arrived; serial %d was before", r.serial, r.before), Next: "go back with: " + command}); err != nil {
			return err
		}
		return failed
	}
	restored, err := r.app.Restore(ctx, ops.Restore{Zone: r.name(), Serial: fmt.Sprint(r.before)})
	if errors.Is(err, edit.ErrAlready) { // somebody was quicker in the file
		return errors.Join(failed, fmt.Errorf("the file has the version before already (%v): put it in service with: fencepost reload %s", err, r.name()))
	}
	if err != nil {
		return errors.Join(failed, fmt.Errorf("the version before could not be brought back: %w; try: %s", err, command))
	}
	var results []took
	err = r.app.ReloadEdited(ctx, restored, func(_ string, call func(any) error) error {
		var one []took
		err := call(&one)
		results = append(results, one...)
		return err
	})
	for _, t := range results {
		if t.Problem != "" {
			err = errors.Join(err, errors.New(t.Problem))
		}
		r.serial = t.Serial
	}
	if err != nil {
		return errors.Join(failed, fmt.Errorf("the version before is in the file and not in service: %w", err))
	}
	if err := r.say(Back, "the content of serial %d is in service again, as serial %d", r.before, r.serial); err != nil {
		return err
	}
	return failed
}

// caches tells until when old answers may be held, or waits for it.
func (r *run) caches(ctx context.Context) error {
	if r.until.IsZero() {
		return nil
	}
	if !r.o.WaitCaches {
		return r.say(Caches, "may hold old answers until %s", r.until.UTC().Format("2006-01-02 15:04:05 UTC"))
	}
	if err := r.say(Caches, "waiting until %s", r.until.UTC().Format("2006-01-02 15:04:05 UTC")); err != nil {
		return err
	}
	if err := ops.Pause(ctx, time.Until(r.until)); err != nil {
		return err
	}
	return r.say(Caches, "none can hold an old answer any more")
}
