package app

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math/rand/v2"
	"net/netip"
	"strings"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/journal"
	"fencepost/keyring"
	"fencepost/lint"
	"fencepost/server"
	"fencepost/signer"
	"fencepost/source"
	"fencepost/workspace"
	"fencepost/zone"
)

// Service is a running server with the workspace it serves.
type Service struct {
	app    *App
	dir    string
	Server *server.Server
	store  *journal.Store
	log    *slog.Logger
	Config *workspace.Config
}

// NewService prepares to serve the workspace. listen, if not empty, takes the
// place of the configured addresses.
func (a *App) NewService(listen []string, log *slog.Logger) (*Service, error) {
	c, err := a.Config()
	if err != nil {
		return nil, err
	}
	if len(listen) > 0 {
		c.Listen = nil
		for _, s := range listen {
			ap, err := workspace.ParseAddress(s)
			if err != nil {
				return nil, usage("--listen: %v", err)
			}
			c.Listen = append(c.Listen, ap)
		}
	}
	store, err := journal.Open(c.Store())
	if err != nil {
		return nil, err
	}
	sv := &Service{app: a, dir: c.Dir, store: store, log: log, Config: c}
	sv.Server = server.New(server.Options{Log: log, Now: a.Now, Store: store, Rand: rand.Float64})
	return sv, nil
}

// Run serves until ctx is done.
func (sv *Service) Run(ctx context.Context, ready func([]netip.AddrPort, []server.ZoneResult)) error {
	defer sv.store.Close()
	return sv.Server.Run(ctx, sv.serverConfig(sv.Config), ready)
}

// Reload reads the configuration and all zones again. With errors in the
// configuration everything stays as it is.
func (sv *Service) Reload(ctx context.Context) ([]server.ZoneResult, error) {
	again := &App{Workspace: sv.dir, Now: sv.app.Now}
	c, err := again.Config()
	if err != nil {
		return nil, fmt.Errorf("keeping the running configuration: %w", err)
	}
	c.Listen = sv.Config.Listen // sockets are opened once
	sv.Config = c
	return sv.Server.Reload(ctx, sv.serverConfig(c)), nil
}

// Published is what was last put in service of the unsigned zones from files.
func (sv *Service) Published() ([]journal.Published, error) { return sv.store.AllPublished() }

// serverConfig turns the workspace's configuration into the server's.
func (sv *Service) serverConfig(c *workspace.Config) *server.Config {
	out := &server.Config{Listen: c.Listen}
	for _, z := range c.Zones {
		if len(z.Audiences) > 0 {
			sv.log.Warn("answers by audience are written and checked, but not served yet: all askers are given the zone for everyone", "zone", z.Name.String())
		}
		sz := server.Zone{Name: z.Name, SendTo: peers(z.SendTo), FetchFrom: peers(z.FetchFrom)}
		if len(z.FetchFrom) == 0 {
			sz.Load = func(ctx context.Context) (*zone.Snapshot, error) {
				return sv.app.loadClean(c.File(z.Name), z.Name, c.Checks)
			}
		}
		if z.Sign != nil {
			sv.sign(c, z, &sz)
		}
		out.Zones = append(out.Zones, sz)
	}
	return out
}

func peers(in []*workspace.Peer) (out []server.Peer) {
	for _, p := range in {
		out = append(out, server.Peer{Name: p.Name, Address: p.Address, Key: p.TSIG})
	}
	return out
}

// InvalidError says that a zone was not taken into service for its errors.
type InvalidError struct {
	Path   string
	Errors int
	First  string // the first of them, with its place
}

func (e *InvalidError) Error() string {
	more := ""
	if e.Errors > 1 {
		more = fmt.Sprintf(" (and %d more)", e.Errors-1)
	}
	return fmt.Sprintf("%s%s; see: fencepost check %s", e.First, more, e.Path)
}

// loadClean reads a zone file that must have no errors.
func (a *App) loadClean(path string, name dnsname.Name, settings *lint.Settings) (*zone.Snapshot, error) {
	src, diags := &source.Set{}, &diag.List{}
	in, err := a.loadZone(src, diags, path, name, name, settings)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no file %s; make it with: fencepost new %s", Shown(path), strings.TrimSuffix(name.String(), "."))
	}
	if err != nil {
		return nil, err
	}
	diags = settings.Settle(diags, src.Files(), false)
	if n := diags.Count(diag.Error); n > 0 {
		diags.Sort()
		for _, d := range diags.All {
			if d.Severity == diag.Error {
				return nil, &InvalidError{Shown(path), n, fmt.Sprintf("%s: %s", src.Position(d.Span.Start), d.Message)}
			}
		}
	}
	return in.zone.Snapshot, nil
}

// sign makes a zone signed. Keys are read each time, so that a reload sees new
// ones; if there are none they are made.
func (sv *Service) sign(c *workspace.Config, z *workspace.Zone, sz *server.Zone) {
	dir := c.KeyDir(z.Name)
	ring, err := sv.keys(dir, z)
	if err != nil {
		sv.log.Error("keys not usable", "zone", z.Name.String(), "error", err)
	} else {
		var tags []string
		for _, k := range ring.Keys {
			tags = append(tags, fmt.Sprintf("%s/%d/%s", k.Role, k.Tag, k.State))
		}
		sz.SignedWith = strings.Join(tags, " ")
	}
	sz.Sign = func(ctx context.Context, snap *zone.Snapshot, serial uint32, now time.Time) (*zone.Snapshot, time.Time, error) {
		ring, err := sv.keys(dir, z)
		if err != nil {
			return nil, time.Time{}, err
		}
		out, report, err := signer.Sign(ctx, snap, ring.Signers(), signer.Policy{Serial: serial}, now)
		return out, report.Expires, err
	}
}

// keys opens the keys of a zone and makes those that its policy asks for when
// there are none at all.
func (sv *Service) keys(dir string, z *workspace.Zone) (*keyring.Ring, error) {
	ring, err := keyring.Open(dir, z.Name)
	if err != nil || len(ring.Keys) > 0 {
		return ring, err
	}
	roles := []signer.Role{signer.Single}
	if z.Sign.Split {
		roles = []signer.Role{signer.KSK, signer.ZSK}
	}
	for _, role := range roles {
		e, err := ring.Generate(z.Sign.Algorithm, role, sv.app.Now())
		if err != nil {
			return nil, err
		}
		sv.log.Info("key made", "zone", z.Name.String(), "role", e.Role, "tag", e.Tag)
	}
	return ring, nil
}
