package edit

import (
	"bytes"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/wholefile"
	"fencepost/workspace"
	"fencepost/zonefile"
	"fencepost/zoneload"
)

// ZoneEdit is an edit of one file in progress.
type ZoneEdit struct {
	b        *Transaction
	path     string
	src      source.Set
	file     *zonefile.File
	ed       *zonefile.Editor
	rules    editRules
	serial   *uint32 // to be set in place of the next
	touched  bool    // only to get a new serial, for what it includes changes
	was      uint32  // the serial
	becomes  uint32
	text     []byte   // the new text
	parts    []string // the included files whose texts the edit changes, by their names
	opts     zonefile.Options
	expected map[string]int  // records that come (+1) and go (-1), by key
	retimed  map[string]bool // records that take the default TTL, by key
	soa      []byte          // what the SOA is to say but for the serial; nil: what it says
	also     func() error    // what else the new text is to be; nil: nothing

	// readBefore waits until the zone as it is on disk has been read, which goes on beside
	// the rest; then the others may be read.
	readBefore  func() error
	before      *zonefile.Loaded
	beforeText  zoneload.Text
	beforeDiags *diag.List
}

// Transaction is the edits of one command: several files that change together or not
// at all. Their folders are locked, so that of two commands at once none loses
// what the other wrote.
type Transaction struct {
	a      *Files
	r      *zoneload.Reader
	locked map[string]func() // folders, with what unlocks them
	edits  []*ZoneEdit
	fresh  []*EditedFile          // files that are made, or replaced whole
	parts  map[string]*EditedFile // files that zones include, by their names
	notes  []string

	partial bool // see Edit.Partial
}

// create adds a file that is made with the others.
func (b *Transaction) create(path string, zone dnsname.Name, text string) error {
	if _, err := os.Stat(path); err == nil {
		return fmt.Errorf("%s exists already; nothing was written over it", Shown(path))
	}
	if err := wholefile.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	b.fresh = append(b.fresh, &EditedFile{Path: Shown(path), Zone: zone, Diags: &diag.List{}, New: true, path: path, text: []byte(text),
		Added: strings.Split(strings.TrimSuffix(text, "\n"), "\n")})
	return nil
}

// list enters a zone in fencepost.toml, where it is not there yet.
func (b *Transaction) list(zone dnsname.Name) error {
	c, err := b.a.Config()
	if err != nil {
		return err
	}
	if c.Find(zone) != nil {
		return nil
	}
	config := filepath.Join(c.Dir, workspace.ConfigFile)
	section := fmt.Sprintf("\n[[zone]]\nname    = %q\n", strings.TrimSuffix(zone.String(), "."))
	for _, f := range b.fresh {
		if f.path == config {
			f.text = append(f.text, section...)
			f.Added = append(f.Added, strings.Split(section[1:len(section)-1], "\n")...)
			return nil
		}
	}
	old, err := wholefile.Read(config, workspace.MaxConfig)
	if err != nil {
		return err
	}
	b.fresh = append(b.fresh, &EditedFile{Path: Shown(config), Diags: &diag.List{}, path: config, old: old,
		text: append(bytes.Clone(old), section...), Added: strings.Split(strings.TrimSpace(section), "\n")})
	return nil
}

// BeginAt begins a change of the zone that operand means, and of others in the
// same folder.
func (a *Files) BeginAt(operand string) (*Transaction, error) {
	path, _, err := a.ZoneFile(operand)
	if err != nil {
		return nil, err
	}
	return a.lockedBatch(filepath.Dir(path))
}

// BeginIn begins a change of zones of the workspace dir.
func (a *Files) BeginIn(dir string) (*Transaction, error) {
	zones := filepath.Join(dir, workspace.ZonesDir)
	if err := wholefile.MkdirAll(zones, 0o755); err != nil {
		return nil, err
	}
	return a.lockedBatch(zones)
}

func (a *Files) lockedBatch(folder string) (*Transaction, error) {
	b := &Transaction{a: a, r: a.Reader(), locked: map[string]func(){}}
	return b, b.lock(folder)
}

// lock locks a folder until the batch is closed.
func (b *Transaction) lock(folder string) error {
	folder, err := filepath.Abs(folder)
	if err != nil || b.locked[folder] != nil {
		return err
	}
	unlock, err := lockFolder(folder)
	if err == nil {
		b.locked[folder] = unlock
	}
	return err
}

func (b *Transaction) close() {
	for _, unlock := range b.locked {
		unlock()
	}
}

// note adds something that a person may want to know, once.
func (b *Transaction) note(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	for _, n := range b.notes {
		if n == text {
			return
		}
	}
	b.notes = append(b.notes, text)
}

// edit begins a batch with one zone, a file or a zone of the workspace. The files stay
// locked until the batch is closed.
func (a *Files) edit(operand string) (*Transaction, *ZoneEdit, error) {
	b, err := a.BeginAt(operand)
	if err != nil {
		return nil, nil, err
	}
	e, err := b.open(operand)
	if err != nil {
		b.close()
		return nil, nil, err
	}
	return b, e, nil
}

// open reads a zone file for an edit, or returns the edit that is in progress.
func (b *Transaction) open(operand string) (*ZoneEdit, error) {
	path, origin, err := b.a.ZoneFile(operand)
	if err != nil {
		return nil, err
	}
	return b.openFile(path, origin)
}

func cutOffError(path string) error {
	return fmt.Errorf("the last line of %s has no end: the file was perhaps cut off, and a change would hide that; look whether the line is whole, and end it", Shown(path))
}

func (b *Transaction) openFile(path string, origin dnsname.Name) (*ZoneEdit, error) {
	path, err := filepath.Abs(path) // a file has one name here, however it was given
	if err != nil {
		return nil, err
	}
	if err := b.lock(filepath.Dir(path)); err != nil {
		return nil, err
	}
	for _, e := range b.edits {
		if e.path == path {
			return e, nil
		}
	}
	rules, err := b.a.rulesOf(path, origin)
	if err != nil {
		return nil, err
	}
	e := &ZoneEdit{b: b, path: path, rules: rules, expected: map[string]int{}, retimed: map[string]bool{}}
	f, err := b.r.File(&e.src, path)
	if err != nil {
		return nil, err
	}
	e.readBefore = sync.OnceValue(func() error { return e.loadBefore(f.Content, origin) })
	if len(b.edits) == 0 { // others may only be looked at
		go func() { _ = e.readBefore() }()
	}
	e.opts = zonefile.Options{Origin: origin, Open: b.r.Includes(&e.src, path, nil)}
	e.file = zonefile.Parse(f, e.opts, &diag.List{})
	if _, cut := zonefile.CutOff(f.Content); cut {
		return nil, cutOffError(path)
	}
	if e.file.Apex.IsZero() || e.file.SOA() == nil {
		return nil, fmt.Errorf("%s has no SOA record that could be read; see: fencepost check %s", Shown(path), Shown(path))
	}
	e.ed = zonefile.NewEditor(e.file)
	e.ed.Placement = rules.placement
	b.edits = append(b.edits, e)
	return e, nil
}

// changed reports whether the edit does anything.
func (e *ZoneEdit) changed() bool { return e.touched || e.serial != nil || e.ed.Changed() }

// finish raises the serials, proves that the new texts differ by what was asked
// and nothing else, checks them, and writes all files or none.
func (b *Transaction) finish(dry bool) (*Edited, error) {
	if err := b.prepare(); err != nil {
		return nil, err
	}
	res := &Edited{Notes: b.notes}
	for _, e := range b.edits {
		if !e.changed() {
			continue
		}
		f, err := e.settle()
		if err != nil {
			return nil, err
		}
		if f != nil {
			res.Files = append(res.Files, f)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(b.parts)) {
		res.Files = append(res.Files, b.parts[name])
	}
	res.Files = append(res.Files, b.fresh...)
	if dry {
		return res, nil
	}
	done, err := intend(res.Files)
	if err != nil {
		return nil, err
	}
	for i, f := range res.Files {
		if err := f.write(); err != nil {
			for _, before := range res.Files[:i] { // all or none
				if back := before.undo(); back != nil { // what was intended stays for the next edit
					return nil, fmt.Errorf("%w; and %s could not be put back, so the next edit in its folder completes this one: %w", err, before.Path, back)
				}
			}
			done()
			return nil, err
		}
	}
	done()
	res.Written = true
	return res, nil
}

// prepare makes the new texts. Where a file changes that zones include, all zones
// of the folder that include it get a new serial.
func (b *Transaction) prepare() error {
	if b.parts == nil {
		b.parts = map[string]*EditedFile{}
	}
	for _, e := range b.edits {
		if e.changed() {
			if err := e.makeText(); err != nil {
				return err
			}
		}
	}
	includers, err := b.raiseIncluders()
	if err != nil {
		return err
	}
	return b.tellAskers(includers)
}

// raiseIncluders gives all zones of the folders that include what changes a new serial, and returns
// them by the name of the included file.
func (b *Transaction) raiseIncluders() (map[string][]*ZoneEdit, error) {
	if len(b.parts) == 0 {
		return nil, nil
	}
	out := map[string][]*ZoneEdit{}
	for _, path := range b.siblings() {
		e, err := b.openFile(path, OriginOf(path))
		if err != nil {
			b.note("%s may include what changes here, and cannot be read: %v", Shown(path), err)
			continue
		}
		for part := range b.parts {
			if e.includes(part) {
				out[part] = append(out[part], e)
			}
		}
		if e.text == nil && slices.ContainsFunc(e.file.All, func(r *zonefile.Entry) bool { return b.parts[r.File.Name] != nil }) {
			e.touched = true
			if err := e.makeText(); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// siblings are the zone files beside those of the batch that include others.
func (b *Transaction) siblings() (out []string) {
	for _, dir := range slices.Sorted(maps.Keys(b.locked)) {
		paths, _ := filepath.Glob(filepath.Join(dir, "*"+workspace.ZoneSuffix))
		for _, path := range paths {
			if text, err := wholefile.Read(path, zoneload.MaxFile); err == nil && bytes.Contains(bytes.ToUpper(text), []byte("$INCLUDE")) {
				out = append(out, path)
			}
		}
	}
	return out
}

// makeText applies the edit: to the zone's file, and to files that it includes.
func (e *ZoneEdit) makeText() error {
	soa, err := rr.ParseSOA(e.file.SOA().Data)
	if err != nil {
		return err
	}
	e.was = soa.Serial
	e.becomes = zonefile.NextSerial(e.rules.style, soa.Serial, e.b.a.Now())
	if e.serial != nil {
		e.becomes = *e.serial
	}
	if err := e.ed.SetSerial(e.becomes); err != nil {
		return err
	}
	e.text = e.file.Source.Content
	for f, text := range e.ed.Finish() {
		if f == e.file.Source {
			e.text = text
			continue
		}
		e.parts = append(e.parts, f.Name)
		have := e.b.parts[f.Name]
		if have != nil && bytes.Equal(have.text, text) {
			continue // another zone has it changed in the same way
		}
		if e.includedTwice(f.Name) || have != nil {
			return fmt.Errorf("%s is included more than once, so it is not certain what a change there does; edit it by hand", f.Name)
		}
		part := &EditedFile{Path: f.Name, Diags: &diag.List{}, path: f.Name, old: f.Content, text: text}
		part.Removed, part.Added = lineChanges(f.Content, text)
		e.b.parts[f.Name] = part
	}
	return nil
}

func (e *ZoneEdit) includedTwice(name string) bool {
	seen := map[*source.File]bool{}
	for _, r := range e.file.All {
		if r.File.Name == name {
			seen[r.File] = true
		}
	}
	return len(seen) > 1
}

// settle makes sure that the new text of a zone is right. It is nil where only a
// file that the zone includes changes, its SOA with it.
func (e *ZoneEdit) settle() (*EditedFile, error) {
	src := &source.Set{}
	f, err := src.Add(Shown(e.path), e.text)
	if err != nil {
		return nil, err
	}
	r, text := e.b.r, e.reading(src, f, e.b.partTexts())
	diags := &diag.List{}
	after, err := r.Read(text, diags)
	if err != nil {
		return nil, err
	}
	if err := e.readBefore(); err != nil {
		return nil, err
	}
	if !e.touched { // else what changes is booked with the zone that the edit is about
		if err := e.prove(after, text); err != nil {
			return nil, err
		}
	}
	if e.also != nil {
		if err := e.also(); err != nil {
			return nil, err
		}
	}
	if !e.b.partial {
		r.Check(text, after, diags)
	}
	e.between(src, after, e.b.newTexts(), diags)
	diags = r.Settings.Settle(diags, src.Files(), false)
	diags.Sort()
	fresh := &diag.List{}
	if len(diags.All) > 0 {
		fresh = newFindings(e.findingsBefore(), diags)
	}
	if fresh.Count(diag.Error) > 0 {
		return nil, &RejectedError{src, fresh}
	}
	out := &EditedFile{Path: Shown(e.path), Zone: e.file.Apex, OldSerial: e.was, Serial: e.becomes, Source: src, Diags: diags, Fresh: fresh,
		path: e.path, old: e.file.Source.Content, text: e.text, before: e.before.Snapshot, after: after.Snapshot}
	if bytes.Equal(out.old, out.text) {
		return nil, nil
	}
	out.Removed, out.Added = lineChanges(e.file.Source.Content, e.text)
	return out, nil
}

// reading is a text of the zone for a reader; texts are those of other files that are not
// saved yet.
func (e *ZoneEdit) reading(src *source.Set, f *source.File, texts map[string][]byte) zoneload.Text {
	return e.b.r.Text(src, f, e.path, e.opts.Origin, texts)
}

// loadBefore reads the zone as it is on disk.
func (e *ZoneEdit) loadBefore(text []byte, origin dnsname.Name) error {
	src := &source.Set{}
	f, err := src.Add(Shown(e.path), text)
	if err != nil {
		return err
	}
	e.beforeText, e.beforeDiags = e.b.r.Text(src, f, e.path, origin, nil), &diag.List{}
	e.before, err = e.b.r.Read(e.beforeText, e.beforeDiags)
	return err
}

// findingsBefore is what check says of the zone as it is on disk.
func (e *ZoneEdit) findingsBefore() *diag.List {
	r := e.b.r
	r.Check(e.beforeText, e.before, e.beforeDiags)
	e.between(e.beforeText.Source, e.before, nil, e.beforeDiags)
	return r.Settings.Settle(e.beforeDiags, e.beforeText.Source.Files(), false)
}

// partTexts are the new texts of files that zones include, by their names.
func (b *Transaction) partTexts() map[string][]byte {
	out := map[string][]byte{}
	for name, p := range b.parts {
		out[name] = p.text
	}
	for _, f := range b.fresh { // files that are made with the others
		out[f.Path] = f.text
	}
	return out
}
