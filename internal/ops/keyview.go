package ops

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"

	"fencepost/dnsname"
	"fencepost/internal/control"
	"fencepost/internal/edit"
	"fencepost/keyring"
	"fencepost/wholefile"
	"fencepost/workspace"
)

// HiddenKeysError says that whoever runs the command may not read the keys of a zone, and that the
// server does not tell of them either.
type HiddenKeysError struct {
	Zone dnsname.Name
	Dir  string
	Err  error // what the server said
}

func (e *HiddenKeysError) Error() string {
	return fmt.Sprintf("the keys of %s are not readable for you (%s), and the server could not be asked: %v", e.Zone.Plain(), edit.Shown(e.Dir), e.Err)
}

// Unwrap is that, and that files may not be read.
func (e *HiddenKeysError) Unwrap() []error { return []error{e.Err, fs.ErrPermission} }

// ringFromServer is the keys of a zone as the running server tells of them: without private halves.
func (a *App) ringFromServer(c *workspace.Config, zone dnsname.Name) (*keyring.Ring, error) {
	var text string
	if err := Client(c).Call(context.Background(), control.Request{Command: "ring", Zone: zone.String()}, &text); err != nil {
		return nil, &HiddenKeysError{zone, c.KeyDir(zone), err}
	}
	return keyring.Read(c.KeyDir(zone), zone, []byte(text))
}

// Ring is keyring.toml of a zone: what there is to know of its keys, but for their private halves.
func (sv *Service) Ring(zone dnsname.Name) (string, error) {
	text, err := wholefile.Read(filepath.Join(sv.Config().KeyDir(zone), keyring.IndexFile), 16<<20)
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Sprintf("zone = %q\n", zone.String()), nil
	}
	return string(text), err
}
