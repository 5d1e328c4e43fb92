package edit

import (
	"errors"
	"fmt"
	"os"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/source"
	"fencepost/wholefile"
	"fencepost/zone"
)

// Edited is what an edit did.
type Edited struct {
	Files   []*EditedFile
	Notes   []string // what a person may want to know besides
	Left    []Left   // of a fold
	Written bool
}

// EditedFile is what an edit did with one file.
type EditedFile struct {
	Path      string
	Zone      dnsname.Name
	OldSerial uint32
	Serial    uint32
	Removed   []string // lines that went
	Added     []string // lines that came
	Source    *source.Set
	Diags     *diag.List // what check says about the new file
	Fresh     *diag.List // what of that it did not say before
	New       bool       // the file was made

	path          string
	old           []byte
	text          []byte
	before, after *zone.Snapshot // of zones that were edited; else nil
}

// Where is the whole path of the file.
func (f *EditedFile) Where() string { return f.path }

// Text is what the file holds after the edit.
func (f *EditedFile) Text() []byte { return f.text }

// OldDigest is the digest of what the file held before; that of nothing where it was made.
func (f *EditedFile) OldDigest() string { return DigestOf(f.old) }

// Versions are the zone before and after the edit; nil where the edit is not one of a zone.
func (f *EditedFile) Versions() (before, after *zone.Snapshot) { return f.before, f.after }

// write puts the new text in the place of the old, unless somebody saved another
// meanwhile.
func (f *EditedFile) write() error {
	err := wholefile.Replace(f.path, f.New, f.old, f.text, 0o666)
	if errors.Is(err, wholefile.ErrChanged) {
		return fmt.Errorf("%s changed meanwhile; nothing was written: try again", f.Path)
	}
	return err
}

// undo puts a file back as it was.
func (f *EditedFile) undo() error {
	if f.New {
		return os.Remove(f.path)
	}
	return WriteFile(f.path, f.old)
}
