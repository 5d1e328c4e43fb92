package ops

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/expect"
	"fencepost/internal/edit"
	"fencepost/source"
	"fencepost/wholefile"
	"fencepost/workspace"
	"fencepost/zonefile"
	"fencepost/zoneload"
)

// Buffer is a file as it is in an editor, and what check says of it.
type Buffer struct {
	Path, Text string
	Source     *source.Set
	Main       *source.File   // the text as a file of Source
	File       *zonefile.File // its entries; nil for what is no zone file
	Diags      *diag.List

	app  *App
	open Texts
}

// Texts are the files that are open in an editor, by their whole path: what counts is
// what stands there, not what is saved.
type Texts map[string]string

// named are the texts by the names that files have in findings.
func (t Texts) named() map[string][]byte {
	out := make(map[string][]byte, len(t))
	for path, text := range t {
		out[edit.Shown(path)] = []byte(text)
	}
	return out
}

// CheckBuffer checks a text that may not be saved yet as the file at path. A file that a
// zone of the workspace includes is checked as the part of it that it is.
func (a *App) CheckBuffer(path, text string, open Texts) *Buffer {
	here := a.besides(path)
	b := &Buffer{Path: path, Text: text, Source: &source.Set{}, Diags: &diag.List{}, app: here, open: open}
	switch {
	case filepath.Base(path) == workspace.ConfigFile:
		b.checkConfig()
	case strings.HasSuffix(path, ExpectSuffix):
		if b.add() {
			expect.Parse(b.Main, b.Diags)
		}
	default:
		if whole := here.includedBy(path, text); whole == "" || !b.checkPart(whole) {
			b.checkZone()
		}
	}
	b.Diags.Sort()
	return b
}

// Beside is the buffer with other texts open beside it.
func (b *Buffer) Beside(open Texts) *Buffer {
	c := *b
	c.open = open
	return &c
}

func (b *Buffer) checkConfig() {
	f, err := b.Source.Add(edit.Shown(b.Path), []byte(b.Text))
	if err != nil {
		return
	}
	b.Main = f
	_, _ = workspace.LoadText(filepath.Dir(b.Path), f, b.Source, b.Diags) // an error is about other files
}

// add makes the text the main file; false if it is too long to be one.
func (b *Buffer) add() bool {
	f, err := b.Source.Add(edit.Shown(b.Path), []byte(b.Text))
	b.Main = f
	return err == nil
}

func (b *Buffer) checkZone() {
	if !b.add() {
		return
	}
	r := b.app.Reader()
	t := r.Text(b.Source, b.Main, b.Path, edit.OriginOf(b.Path), b.open.named())
	b.File = zonefile.Parse(b.Main, t.Options, &diag.List{})
	if dir, err := b.app.Dir(); err == nil && filepath.Dir(b.Path) == filepath.Join(dir, workspace.ZonesDir) {
		t.Want = edit.OriginOf(b.Path)
	}
	_, _ = r.ReadAndCheck(t, b.Diags) // the findings say what is wrong
	b.Diags = r.Settings.Settle(b.Diags, b.Source.Files(), false)
}

// checkPart checks the zone file that includes the text, and keeps what is said of the
// text. It reports whether the text was found in it.
func (b *Buffer) checkPart(whole string) bool {
	text, ok := b.open[whole]
	if !ok {
		saved, err := wholefile.Read(whole, zoneload.MaxFile)
		if err != nil {
			return false
		}
		text = string(saved)
	}
	f, err := b.Source.Add(edit.Shown(whole), []byte(text))
	if err != nil {
		return false
	}
	texts := b.open.named()
	texts[edit.Shown(b.Path)] = []byte(b.Text)
	r := b.app.Reader()
	t := r.Text(b.Source, f, whole, edit.OriginOf(whole), texts)
	open := t.Options.Open
	t.Options.Open = func(path string, from *source.File) (*source.File, error) {
		f, err := open(path, from)
		if f != nil && b.Main == nil && f.Name == edit.Shown(b.Path) {
			b.Main = f
		}
		return f, err
	}
	_, _ = r.ReadAndCheck(t, b.Diags) // the findings say what is wrong
	if b.Main == nil {
		b.Source, b.Diags = &source.Set{}, &diag.List{}
		return false
	}
	all := r.Settings.Settle(b.Diags, b.Source.Files(), false)
	b.Diags = &diag.List{}
	for _, d := range all.All {
		if b.Source.File(d.Span.Start) == b.Main {
			b.Diags.Add(d)
		}
	}
	b.File = b.partEntries(f, t.Options.Origin, texts)
	return b.File != nil
}

// partEntries are the entries of the text with the origin and owner that they have in
// the zone that includes it.
func (b *Buffer) partEntries(whole *source.File, origin dnsname.Name, texts map[string][]byte) *zonefile.File {
	src := &source.Set{}
	main, err := src.Add(whole.Name, whole.Content)
	if err != nil {
		return nil
	}
	parsed := zonefile.Parse(main, zonefile.Options{Origin: origin, Open: b.app.Reader().Includes(src, whole.Name, texts)}, &diag.List{})
	out := &zonefile.File{Source: b.Main, Apex: parsed.Apex}
	var first *source.File
	for _, e := range parsed.All {
		if e.File.Name != b.Main.Name || first != nil && e.File != first {
			continue
		}
		first = e.File
		shift := int(b.Main.Pos(0)) - int(first.Pos(0))
		e.File = b.Main
		e.Span = source.Span{Start: e.Span.Start + source.Pos(shift), End: e.Span.End + source.Pos(shift)}
		out.Entries, out.All = append(out.Entries, e), append(out.All, e)
	}
	return out
}

// includedBy is the zone file of the workspace that includes a file which is no zone by
// itself; empty if there is none.
func (a *App) includedBy(path, text string) string {
	dir, err := a.Dir()
	if err != nil || hasSOA(text) {
		return ""
	}
	files, _ := filepath.Glob(filepath.Join(dir, workspace.ZonesDir, "*"+workspace.ZoneSuffix))
	base := []byte(strings.ToLower(filepath.Base(path)))
	for _, zone := range files {
		if zone == path {
			continue
		}
		text, err := wholefile.Read(zone, zoneload.MaxFile)
		if low := bytes.ToLower(text); err != nil || !bytes.Contains(low, []byte("$include")) || !bytes.Contains(low, base) {
			continue
		}
		return zone
	}
	return ""
}

// hasSOA reports whether a text has a line with the word SOA.
func hasSOA(text string) bool {
	for _, l := range strings.Split(text, "\n") {
		words := strings.Fields(l)
		for _, w := range words[:min(len(words), 4)] {
			if strings.EqualFold(w, "SOA") {
				return true
			}
		}
	}
	return false
}

// besides is the app of the workspace that a file lies in.
func (a *App) besides(path string) *App {
	dir := a.Workspace
	if dir == "" {
		dir, _ = workspace.Locate(filepath.Dir(path))
	}
	return &App{Files: edit.Files{Workspace: dir, Now: a.Now}} // which may say something else by now
}

// Found is a mention in a file, for an editor.
type Found struct {
	Path    string // whole; of the buffer itself: its own
	Source  *source.Set
	Mention zonefile.Mention
}

// Mentions finds where a name, or with below one under it, is written in the buffer and
// in the other zone files of the workspace.
func (b *Buffer) Mentions(name dnsname.Name, below bool) (out []Found) {
	is := func(n dnsname.Name) bool { return n.Equal(name) || below && n.Below(name) }
	collect := func(path string, src *source.Set, f *zonefile.File) {
		f.Mentions(func(m zonefile.Mention) {
			if is(m.Name) && m.Entry.File == f.Source {
				out = append(out, Found{path, src, m})
			}
		})
	}
	if b.File != nil {
		collect(b.Path, b.Source, b.File)
	}
	paths, err := b.app.Mentioning(name)
	if err != nil {
		return out
	}
	for _, path := range paths {
		if src, f := b.other(path); f != nil {
			collect(path, src, f)
		}
	}
	return out
}

// other reads another zone file; nil for the buffer's own and for what cannot be read.
func (b *Buffer) other(path string) (*source.Set, *zonefile.File) {
	if path == b.Path {
		return nil, nil
	}
	text, ok := b.open[path]
	if !ok {
		saved, err := wholefile.Read(path, zoneload.MaxFile)
		if err != nil {
			return nil, nil
		}
		text = string(saved)
	}
	src := &source.Set{}
	f, err := src.Add(path, []byte(text))
	if err != nil {
		return nil, nil
	}
	return src, zonefile.Parse(f, zonefile.Options{Origin: edit.OriginOf(path), Open: b.app.Reader().Includes(src, path, b.open.named())}, &diag.List{})
}

// Holder reads the zone file of the workspace that holds a name; path is empty if that
// is the buffer's own or there is none.
func (b *Buffer) Holder(name dnsname.Name) (path string, src *source.Set, f *zonefile.File) {
	c, err := b.app.Config()
	if err != nil {
		return "", nil, nil
	}
	for up := name; up.Labels() > 0; up = up.Parent() {
		path := c.File(up)
		if _, err := os.Stat(path); err == nil {
			src, f := b.other(path)
			if f == nil {
				return "", nil, nil
			}
			return path, src, f
		}
	}
	return "", nil, nil
}

// Tidy is the text in the house style; what cannot be read of it stays as it is written. An error where
// that would change what it says.
func (b *Buffer) Tidy() (string, error) {
	if b.File == nil {
		return "", errors.New("only zone files have a house style")
	}
	var src source.Set
	f, err := src.Add(b.File.Source.Name, []byte(b.Text))
	if err != nil {
		return "", err
	}
	before, wrong := edit.ParseLone(&src, f, b.app.Reader().Includes(&src, f.Name, nil))
	text := zonefile.Tidy(before)
	return string(text), b.app.SameMeaning(f.Name, before, wrong, text)
}
