package ops

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"fencepost/diag"
	"fencepost/internal/edit"
	"fencepost/signer"
	"fencepost/source"
	"fencepost/wholefile"
	"fencepost/workspace"
	"fencepost/zone"
	"fencepost/zonefile"
)

// mayOverwrite refuses targets of a signed zone that hold something else.
func (a *App) mayOverwrite(input, out string) error {
	if out == "-" || out == "" {
		return nil
	}
	if edit.SameFile(input, out) {
		return edit.Usage("-o %s is the zone file itself: write the signed zone to another file", out)
	}
	info, err := os.Stat(out)
	if err != nil {
		return nil // it does not exist, or writing will say what is wrong
	}
	if info.IsDir() {
		return edit.Usage("-o %s is a folder: name a file in it", out)
	}
	full, _ := filepath.Abs(out)
	if real, err := filepath.EvalSymlinks(full); err == nil {
		full = real
	}
	kept := []string{workspace.ConfigFile, workspace.SecretsFile, "keyring.toml"}
	dir, _ := a.Dir()
	switch {
	case slices.Contains(kept, filepath.Base(full)) || filepath.Ext(full) == ".pem":
		return edit.Usage("-o %s would write over a file that is not a zone; choose another name", out)
	case dir != "" && filepath.Dir(full) == filepath.Join(dir, workspace.ZonesDir):
		return edit.Usage("-o %s would write over the file of a zone, which is yours; choose another name", out)
	}
	return nil
}

// writeSigned writes a signed zone to a file, all or nothing, or to standard output
// or a device. commit comes when all is well and before the file appears.
func (a *App) writeSigned(ctx context.Context, path string, o SignOptions, z *zone.Snapshot, commit func() error) error {
	if path == "-" {
		if o.Prove {
			if err := a.proveZone(ctx, z); err != nil {
				return err
			}
		}
		if err := writeMaster(o.Stdout, z); err != nil {
			return err
		}
		return commit()
	}
	if info, err := os.Stat(path); err == nil && !info.Mode().IsRegular() { // a device or a pipe is written, not replaced
		if err := wholefile.Trusted(path); err != nil {
			return err
		}
		f, err := os.OpenFile(path, os.O_WRONLY, 0)
		if err != nil {
			return err
		}
		defer f.Close()
		if err := writeMaster(f, z); err != nil {
			return err
		}
		return commit()
	}
	f, err := wholefile.Create(path, 0o644)
	if err != nil {
		return err
	}
	defer f.Discard()
	if err := writeMaster(f.File, z); err != nil {
		return err
	}
	if o.Prove {
		if err := a.proveFile(ctx, f.Name(), z); err != nil {
			return fmt.Errorf("%s was not written: %w", edit.Shown(path), err)
		}
	}
	if err := commit(); err != nil {
		return err
	}
	return f.Commit()
}

// writeMaster writes a zone as text and makes sure that each of its records got a
// line.
func writeMaster(out io.Writer, z *zone.Snapshot) error {
	lines := &lineCounter{w: out}
	w := bufio.NewWriterSize(lines, 1<<20)
	if err := zonefile.Write(w, z); err != nil {
		return err
	}
	if err := w.Flush(); err != nil {
		return err
	}
	if lines.n != z.Records()+1 { // $ORIGIN comes first
		return fmt.Errorf("%w: %d lines for %d records", signer.ErrUnsound, lines.n, z.Records())
	}
	return nil
}

type lineCounter struct {
	w io.Writer
	n int
}

func (c *lineCounter) Write(b []byte) (int, error) {
	c.n += bytes.Count(b, []byte{'\n'})
	return c.w.Write(b)
}

// proveFile reads a signed zone back and verifies all of it.
func (a *App) proveFile(ctx context.Context, path string, z *zone.Snapshot) error {
	src, diags := &source.Set{}, &diag.List{}
	t, err := a.Reader().Open(src, path, z.Apex())
	if err != nil {
		return err
	}
	again, err := a.Reader().Read(t, diags)
	if err != nil || !zone.Equal(z, again.Snapshot) {
		return fmt.Errorf("%w: what was written reads back as another zone", signer.ErrUnsound)
	}
	return a.proveZone(ctx, again.Snapshot)
}

// proveZone verifies all of a signed zone.
func (a *App) proveZone(ctx context.Context, z *zone.Snapshot) error {
	proof, err := signer.Verify(ctx, z, a.Now(), signer.VerifyOptions{})
	if err == nil && proof.Total > 0 {
		err = fmt.Errorf("%w: %s", signer.ErrUnsound, proof.Findings[0].Message)
	}
	return err
}
