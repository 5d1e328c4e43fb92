package ops

import (
	"context"
	"fmt"
	"slices"

	"fencepost/catalog"
	"fencepost/dnsname"
	"fencepost/internal/edit"
	"fencepost/server/zonestate"
	"fencepost/workspace"
)

// catalogOf makes a catalog of the workspace: its content is the configuration.
func catalogOf(c *workspace.Config, z *workspace.Zone) *zonestate.Files {
	members := c.Listed(z)
	stamp := edit.DigestOf(fmt.Appendf(nil, "%+v", members))
	const anySerial = 1
	return &zonestate.Files{
		Numbered: true,
		Load: func(context.Context, zonestate.Input) (zonestate.Input, error) {
			snap, err := catalog.Build(z.Name, anySerial, members)
			return zonestate.Input{Zone: snap, Stamp: stamp}, err
		},
		Unchanged: func(was string) (string, bool) { return stamp, was == stamp },
	}
}

// mayList are the zones that a catalog may list, by patterns; none: it is not said.
func mayList(patterns []string) func(dnsname.Name) zonestate.Permission {
	if len(patterns) == 0 {
		return nil
	}
	return func(zone dnsname.Name) zonestate.Permission {
		if slices.ContainsFunc(patterns, func(p string) bool { return workspace.FitsPattern(p, zone) }) {
			return zonestate.Granted
		}
		return zonestate.NotGranted
	}
}

// followed is a catalog whose zones are served as it says, and as their groups do.
func followed(c *workspace.Config, z *workspace.Zone) zonestate.Catalog {
	return zonestate.Catalog{Zone: z.Name, May: mayList(z.Catalog.MayList), Member: func(m catalog.Member) zonestate.Zone {
		out := zonestate.Zone{Name: m.Zone}
		check := workspace.DigestNever
		for _, name := range m.Groups {
			if g := c.Groups[name]; g != nil {
				out.SendTo = append(out.SendTo, askable(g.SendTo)...)
				if g.Digest != workspace.DigestNever {
					check = g.Digest
				}
			}
		}
		out.Origin = &zonestate.Primaries{Servers: askable(z.Catalog.MembersFrom), CheckDigest: digestChecks[check]}
		return out
	}}
}
