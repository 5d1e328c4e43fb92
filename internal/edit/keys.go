package edit

import (
	"fencepost/dnsname"
	"fencepost/keyring"
	"fencepost/roll"
	"fencepost/workspace"
)

// PublicKeys are the DNSKEYs of a signed zone's keys that are or will be in the zone,
// if they can be read.
func PublicKeys(c *workspace.Config, name dnsname.Name) (out [][]byte) {
	z := c.Find(name)
	if z == nil || z.Sign == nil {
		return nil
	}
	ring, err := keyring.Open(c.KeyDir(name), name)
	if err != nil {
		return nil // reported where it matters
	}
	for _, k := range ring.Keys {
		if k.State != roll.Removed {
			out = append(out, k.Public.Data)
		}
	}
	return out
}

// WantedByParent are the DNSKEYs that the parent of a signed zone is to have a DS
// of: those that say so, else the entry points of a zone that is not signed yet.
func WantedByParent(c *workspace.Config, name dnsname.Name) (out [][]byte) {
	if z := c.Find(name); z == nil || z.Sign == nil {
		return nil
	}
	ring, err := keyring.Open(c.KeyDir(name), name)
	if err != nil {
		return nil
	}
	for _, e := range ring.Keys {
		if e.DS {
			out = append(out, e.Public.Data)
		}
	}
	if len(out) == 0 {
		return entryPoints(PublicKeys(c, name))
	}
	return out
}
