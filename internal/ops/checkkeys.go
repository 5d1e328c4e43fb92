package ops

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"

	"fencepost/internal/edit"
	"fencepost/keyring"
	"fencepost/workspace"
)

// unsignedInUse reports whether a zone without a policy has keys that its parent is to
// have, or has, a DS of. Where that cannot be known, the error says why.
func unsignedInUse(c *workspace.Config, z *workspace.Zone) (bool, error) {
	if z.Sign != nil {
		return false, nil
	}
	ring, err := keyring.Open(c.KeyDir(z.Name), z.Name)
	if err != nil {
		return false, err
	}
	for _, e := range ring.Keys {
		if e.DS || !e.Seen.IsZero() && e.Gone.IsZero() {
			return true, nil
		}
	}
	return false, nil
}

// checkKeys looks for keys in use of zones that nothing signs, and for keys that
// signing would fail over.
func checkKeys(c *workspace.Config, res *Checked) error {
	var hidden []*workspace.Zone
	for _, z := range c.Zones {
		unused, err := unsignedInUse(c, z)
		if err == nil && z.Sign != nil {
			err = keysUsable(c, z)
		}
		if errors.Is(err, fs.ErrPermission) {
			hidden = append(hidden, z)
			continue
		}
		if err == nil && !unused || errors.Is(err, keyring.ErrReadable) { // the latter is told of as key-readable
			continue
		}
		f, ferr := res.Source.Add(edit.Shown(filepath.Join(c.KeyDir(z.Name), keyring.IndexFile)), nil)
		if ferr != nil {
			return ferr
		}
		switch {
		case err != nil:
			res.Diags.Add(RuleKeysUnusable.At(fileStart(f), "the keys of %s cannot be used: %v", z.Name, err).
				Suggest("%s", cureOfKeys(c, z, err)))
		case unused:
			res.Diags.Add(RuleKeysUnused.At(fileStart(f), "%s has keys in use, and fencepost.toml gives it no policy", z.Name).
				Suggest("write sign = \"...\" in its [[zone]] section"))
		}
	}
	return keysHidden(c, hidden, res)
}

// keysHidden notes that the keys of zones could not be looked at.
func keysHidden(c *workspace.Config, zones []*workspace.Zone, res *Checked) error {
	if len(zones) == 0 {
		return nil
	}
	f, err := res.Source.Add(edit.Shown(filepath.Join(c.KeyDir(zones[0].Name), keyring.IndexFile)), nil)
	if err != nil {
		return err
	}
	others := ""
	if n := len(zones) - 1; n == 1 {
		others = fmt.Sprintf(" and %s", zones[1].Name)
	} else if n > 1 {
		others = fmt.Sprintf(" and %d other zones", n)
	}
	res.Diags.Add(RuleKeysHidden.At(fileStart(f), "the keys of %s%s are not readable for you, so they were not looked at", zones[0].Name, others).
		Suggest("have their owner run it"))
	return nil
}

// cureOfKeys is what to do about keys that cannot be used.
func cureOfKeys(c *workspace.Config, z *workspace.Zone, err error) string {
	if e, ok := errors.AsType[*keyring.KeyFileError](err); ok {
		return e.Cure()
	}
	if e, ok := errors.AsType[*keyring.PassphraseError](err); ok {
		return e.Cure()
	}
	return fmt.Sprintf("bring %s back from a backup", edit.Shown(c.KeyDir(z.Name)))
}

// keysUsable opens the keys of a zone as signing does.
func keysUsable(c *workspace.Config, z *workspace.Zone) error {
	ring, err := keyring.Open(c.KeyDir(z.Name), z.Name)
	if err != nil {
		return err
	}
	if len(ring.Keys) == 0 && len(ring.Unlisted()) > 0 {
		return errors.New("there are key files, and no " + keyring.IndexFile + " that says what they are for")
	}
	return (*keyring.Cache)(nil).Usable(c.KeyDir(z.Name), z.Name, z.Sign.PassphraseFile)
}
