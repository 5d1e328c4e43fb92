package ops

import (
	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/server/zonestate"
	"fencepost/source"
	"fencepost/workspace"
	"fencepost/zonefile"
)

// updatesOf says who may change a zone by requests; nil: nobody.
func updatesOf(c *workspace.Config, zone dnsname.Name) *zonestate.Updates {
	grants, keys := c.Updates.For(zone)
	if len(grants) == 0 {
		return nil
	}
	return &zonestate.Updates{Grants: grants, Keys: keys, Gather: c.Updates.Gather}
}

// whereIn finds where the file of a zone has a set.
func (a *App) whereIn(path string, zone dnsname.Name) func(owner dnsname.Name, t rr.Type) string {
	return func(owner dnsname.Name, t rr.Type) string {
		src := &source.Set{}
		r := a.Reader()
		text, err := r.Open(src, path, zone)
		if err != nil {
			return ""
		}
		for _, e := range zonefile.Parse(text.Main, text.Options, &diag.List{}).Records(owner, t) {
			return src.Position(e.Span.Start).String()
		}
		return ""
	}
}
