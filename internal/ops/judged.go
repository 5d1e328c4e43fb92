package ops

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"

	"fencepost/internal/edit"
	"fencepost/source"
)

// Judged says what files held when they were judged: the digest of each, by its whole path. A server that
// is given it loads that and nothing else, whoever saves a file meanwhile.
type Judged map[string]string

// ErrNotJudged means that a file is not what was judged.
var ErrNotJudged = errors.New("it was changed since it was judged, and nothing was loaded")

// Judged is what was read.
func (r *Checked) Judged() (Judged, error) {
	j := Judged{}
	return j, j.add(r.Source.Files())
}

func (j Judged) add(files []*source.File) error {
	for _, f := range files {
		path, err := filepath.Abs(f.Name)
		if err != nil {
			return err
		}
		j[path] = edit.DigestOf(f.Content)
	}
	return nil
}

// Edited books what an edit made of files that were judged: it must have begun with those.
func (j Judged) Edited(r *edit.Edited) error {
	for _, f := range r.Files {
		path, err := filepath.Abs(f.Where())
		if err != nil {
			return err
		}
		if j[path] != f.OldDigest() {
			return fmt.Errorf("%s: %w", edit.Shown(path), ErrNotJudged)
		}
		j[path] = edit.DigestOf(f.Text())
	}
	return nil
}

// hold is nil where all files are as they were judged.
func (j Judged) hold(files []*source.File) error {
	read := Judged{}
	if err := read.add(files); err != nil {
		return err
	}
	for path, digest := range read {
		if j[path] != digest {
			return fmt.Errorf("%s: %w", edit.Shown(path), ErrNotJudged)
		}
	}
	return nil
}

type judgedKey struct{}

// WithJudged notes what is to be loaded, and nothing else; nil: whatever there is.
func WithJudged(ctx context.Context, j Judged) context.Context {
	return context.WithValue(ctx, judgedKey{}, j)
}

func judgedOf(ctx context.Context) Judged {
	j, _ := ctx.Value(judgedKey{}).(Judged)
	return j
}
