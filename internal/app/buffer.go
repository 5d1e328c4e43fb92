package app

import (
	"errors"
	"path/filepath"

	"fencepost/diag"
	"fencepost/lint"
	"fencepost/lint/checks"
	"fencepost/source"
	"fencepost/workspace"
	"fencepost/zonefile"
)

// Buffer is a file as it is in an editor, and what check says of it.
type Buffer struct {
	Text   string
	Source *source.Set
	Main   *source.File   // the text as a file of Source
	File   *zonefile.File // its entries; nil for fencepost.toml
	Diags  *diag.List

	app *App
}

// CheckBuffer checks a text that may not be saved yet as the file at path.
func (a *App) CheckBuffer(path, text string) *Buffer {
	b := &Buffer{Text: text, Source: &source.Set{}, Diags: &diag.List{}, app: a}
	f, err := b.Source.Add(path, []byte(text))
	if err != nil {
		return b
	}
	b.Main = f
	here := a.besides(path)
	if filepath.Base(path) == workspace.ConfigFile {
		if _, err := workspace.LoadText(filepath.Dir(path), f, b.Source, b.Diags); err == nil {
			b.Diags.Sort()
		}
		return b
	}
	opts := zonefile.Options{Origin: originOf(path), Open: a.includes(b.Source, path)}
	b.File = zonefile.Parse(f, opts, &diag.List{})
	z := zonefile.Load(f, opts, b.Diags)
	settings := here.settings()
	if z == nil {
		b.Diags.Add(RuleNoName.At(fileStart(f), "nothing tells the name of this zone").Suggest("begin the file with $ORIGIN, or name it ZONE.zone"))
	} else {
		lint.Run(checks.All, z, b.Source, a.Now(), settings, b.Diags)
	}
	b.Diags = settings.Settle(b.Diags, b.Source.Files(), false)
	b.Diags.Sort()
	return b
}

// besides is the app of the workspace that a file lies in.
func (a *App) besides(path string) *App {
	if a.Workspace != "" {
		return a
	}
	if dir, err := workspace.Locate(filepath.Dir(path)); err == nil {
		return &App{Workspace: dir, Now: a.Now}
	}
	return a
}

// Tidy is the text in the house style; an error if it has mistakes of the
// language.
func (b *Buffer) Tidy() (string, error) {
	if b.File == nil {
		return "", errors.New("only zone files have a house style")
	}
	var src source.Set
	f, err := src.Add(b.File.Source.Name, []byte(b.Text))
	if err != nil {
		return "", err
	}
	before, good := parseLone(&src, f, b.app.includes(&src, f.Name))
	if !good {
		return "", errors.New("the file has errors")
	}
	text := zonefile.Tidy(before)
	return string(text), b.app.sameMeaning(f.Name, before, text)
}
