package ops

import (
	"context"

	"fencepost/dnsname"
	"fencepost/internal/edit"
)

// Restore says which version of a zone comes back.
type Restore struct {
	Zone   string
	Serial string
	Dry    bool
}

// Restore brings an earlier version of a zone back, as an edit of its file.
func (a *App) Restore(ctx context.Context, o Restore) (*edit.Edited, error) {
	serial, err := ParseSerial(o.Serial)
	if err != nil {
		return nil, err
	}
	c, name, err := a.servedHere(o.Zone)
	if err != nil {
		return nil, err
	}
	z := c.Find(name)
	if z.Kept {
		return nil, edit.KeptInStore(name)
	}
	if len(z.FetchFrom) > 0 {
		return nil, edit.Usage("%s is fetched from a primary: bring the version back there", name.Plain())
	}
	old, err := a.kept(ctx, name, serial)
	if err != nil {
		return nil, err
	}
	served, _ := a.servedSerial(ctx, name)
	return a.Files.Restore(edit.Restore{Zone: o.Zone, Serial: serial, Version: old, Signed: z.Sign != nil, Served: served, Dry: o.Dry})
}

// Serial shows or changes the serial of a zone; what is served of it counts too.
func (a *App) Serial(ctx context.Context, o edit.SerialOptions) (*edit.SerialResult, error) {
	o.Served = func(apex dnsname.Name) (uint32, bool) { return a.servedSerial(ctx, apex) }
	return a.Files.Serial(o)
}

// servedSerial is the serial of a zone that was last put in service, as far as the
// workspace knows; a zone that we sign has a serial of its own there.
func (a *App) servedSerial(ctx context.Context, apex dnsname.Name) (uint32, bool) {
	c, err := a.Config()
	if err != nil {
		return 0, false
	}
	if z := c.Find(apex); z == nil || z.Sign != nil || !z.HasFile() {
		return 0, false
	}
	for _, p := range lastPublished(ctx, c) {
		if p.Zone == apex.Lower().String() {
			return p.Serial, true
		}
	}
	return 0, false
}
