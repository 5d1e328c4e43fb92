package app

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/journal"
	"fencepost/keyring"
	"fencepost/lint"
	"fencepost/server"
	"fencepost/source"
	"fencepost/workspace"
	"fencepost/zone"
	"fencepost/zonefile"
)

// Service is a running server with the workspace it serves.
type Service struct {
	Server *server.Server
	store  *journal.Store
	log    *slog.Logger
	begun  chan struct{} // closed when the server has its first configuration

	// running is what the server works with: it has the configuration in service, not
	// what somebody is writing to fencepost.toml just now.
	running atomic.Pointer[App]

	changing sync.Mutex        // held while the configuration changes: one reload at a time
	locks    map[string]func() // of key folders; under changing
}

// Config is the configuration in service.
func (sv *Service) Config() *workspace.Config { return sv.running.Load().held }

// use puts a configuration in service.
func (sv *Service) use(a *App, c *workspace.Config) {
	sv.running.Store(&App{Workspace: c.Dir, Now: a.Now, Given: a.Given, Played: a.Played, held: c})
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
	if store.Aside != "" {
		log.Error("the stored versions were damaged; the file was set aside, and what could be read of it taken over", "file", Shown(store.Aside), "versions", store.Rescued)
	}
	sv := &Service{store: store, log: log, begun: make(chan struct{}), locks: map[string]func(){}}
	sv.use(a, c)
	if err := sv.lockKeys(c); err != nil {
		sv.unlockKeys()
		store.Close()
		return nil, err
	}
	sv.Server = server.New(server.Options{Log: log, Now: a.Now, Store: store, Rand: rand.Float64})
	return sv, nil
}

// Run serves until ctx is done.
func (sv *Service) Run(ctx context.Context, ready func(server.Start)) error {
	defer sv.store.Close()
	defer sv.unlockKeys()
	return sv.Server.Run(ctx, sv.serverConfig(sv.Config()), func(st server.Start) {
		close(sv.begun)
		if ready != nil {
			ready(st)
		}
	})
}

// Reload reads the configuration and all zones again. With errors in the
// configuration everything stays as it is. One that comes while another works waits,
// and so sees what is in the files after the other was asked for.
func (sv *Service) Reload(ctx context.Context) ([]server.ZoneResult, error) {
	select {
	case <-sv.begun:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	sv.changing.Lock()
	defer sv.changing.Unlock()
	app := sv.running.Load()
	was := app.held
	c, err := (&App{Workspace: was.Dir}).Config()
	if err != nil {
		return nil, fmt.Errorf("keeping the running configuration: %w", err)
	}
	if err := sv.lockKeys(c); err != nil {
		return nil, fmt.Errorf("keeping the running configuration: %w", err)
	}
	c.Listen = was.Listen // sockets are opened once
	sv.use(app, c)
	results := sv.Server.Reload(ctx, sv.serverConfig(c))
	for i := range results {
		results[i].Note = newKeysNote(was, c, results[i].Zone)
	}
	return results, nil
}

// newKeysNote tells that a changed policy asks for other keys than a zone has.
func newKeysNote(was, is *workspace.Config, name dnsname.Name) string {
	before, now := was.Find(name), is.Find(name)
	if before == nil || now == nil || before.Sign == nil || now.Sign == nil || before.Sign.Algorithm == now.Sign.Algorithm && before.Sign.Split == now.Sign.Split {
		return ""
	}
	ring, err := keyring.Open(is.KeyDir(name), name)
	if err != nil || ring.Roll.Unsigned {
		return ""
	}
	kind := demanded(ring, now.Sign)
	switch {
	case kind == "":
		return ""
	case ring.Roll.Roll != nil:
		return fmt.Sprintf("the policy asks for other keys: when the present rollover is done, another begins (%s); see: fencepost roll %s", kind.Words(), plainName(name))
	}
	return fmt.Sprintf("the policy asks for other keys: a rollover begins (%s); see: fencepost roll %s", kind.Words(), plainName(name))
}

// ClockIsRight takes the clock for right: what was signed, or noted of keys, at times
// still to come is signed anew and counted from now. Then it reloads.
func (sv *Service) ClockIsRight(ctx context.Context) ([]server.ZoneResult, error) {
	app := sv.running.Load()
	for _, z := range app.held.Zones {
		if z.Sign == nil {
			continue
		}
		note := func() error {
			ring, err := keyring.Open(app.held.KeyDir(z.Name), z.Name)
			if err != nil || len(ring.Keys) == 0 {
				return err
			}
			ring.ConfirmClock(app.Now())
			return ring.Save()
		}
		if err := sv.Server.KeysOf(ctx, z.Name, note); err != nil {
			sv.log.Error("the zone could not be signed again", "zone", z.Name.String(), "error", err)
		}
	}
	return sv.Reload(ctx)
}

// Published is what was last put in service of the unsigned zones from files.
func (sv *Service) Published() ([]journal.Published, error) { return sv.store.AllPublished() }

// serverConfig turns the workspace's configuration into the server's.
func (sv *Service) serverConfig(c *workspace.Config) *server.Config {
	if err := finishIn(filepath.Join(c.Dir, workspace.ZonesDir)); err != nil {
		sv.log.Error("an edit was left half done", "error", err)
	}
	app := sv.running.Load()
	out := &server.Config{Listen: c.Listen, FetchedZone: c.Limits.FetchedZone, FetchedTogether: c.Limits.FetchedTogether}
	for _, z := range c.Zones {
		if len(z.Audiences) > 0 {
			sv.log.Warn("views (answers by audience) are written and checked, but not served yet: all askers are given the zone for everyone", "zone", z.Name.String())
		}
		sz := server.Zone{Name: z.Name, SendTo: peers(z.SendTo), FetchFrom: peers(z.FetchFrom), Octets: workOf(c, z)}
		if len(z.FetchFrom) == 0 {
			sz.Load = func(ctx context.Context) (*zone.Snapshot, error) {
				if unused, err := unsignedInUse(c, z); err != nil {
					return nil, fmt.Errorf("it cannot be told whether %s may be served unsigned: %w", plainName(z.Name), err)
				} else if unused {
					return nil, fmt.Errorf("%s would become unsigned while its parent has a DS of its keys; give it a policy again, or go the safe way with: fencepost roll start %s --what unsign", plainName(z.Name), plainName(z.Name))
				}
				return app.loadClean(c.File(z.Name), z.Name, c.Checks)
			}
		}
		if z.Sign != nil {
			sz.Signer = &steward{app: app, log: sv.log, dir: c.KeyDir(z.Name), zone: z}
		}
		out.Zones = append(out.Zones, sz)
		if z.FollowChildren {
			out.Jobs = append(out.Jobs, server.Job{Name: "follow " + z.Name.Key(), Every: followEvery, Do: func(ctx context.Context) {
				if sv.followChildren(ctx, z) {
					if _, err := sv.Reload(ctx); err != nil {
						sv.log.Error("reload", "error", err)
					}
				}
			}})
		}
	}
	return out
}

// workOf is about how much there is to do to load a zone: signing takes much longer
// than reading.
func workOf(c *workspace.Config, z *workspace.Zone) int64 {
	info, err := os.Stat(c.File(z.Name))
	if err != nil || len(z.FetchFrom) > 0 {
		return 0
	}
	if z.Sign != nil {
		return 8 * info.Size()
	}
	return info.Size()
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
	for _, d := range diags.All { // a warning to people; here nobody looks whether the line is whole
		if d.Rule.Code == zonefile.RuleLastLine.Code {
			return nil, &InvalidError{Shown(path), 1, fmt.Sprintf("%s: %s", src.Position(d.Span.Start), d.Message)}
		}
	}
	return in.zone.Snapshot, nil
}

// ChangeKeys does something to keys while nothing else does.
func (sv *Service) ChangeKeys(ctx context.Context, name dnsname.Name, k KeyChange) (*KeyChanged, error) {
	if err := checkKeyChange(&k); err != nil {
		return nil, err
	}
	var out *KeyChanged
	err := sv.Server.KeysOf(ctx, name, func() (err error) {
		return sv.withRing(name, func(ring *keyring.Ring) (err error) {
			out, err = sv.running.Load().changeKeys(ctx, ring, &k)
			return err
		})
	})
	return out, err
}

// ChangeRoll does something to a rollover, and what follows from it at once. A
// step may set the clock forward, if the server runs on a played one.
func (sv *Service) ChangeRoll(ctx context.Context, name dnsname.Name, c RollChange) (*RollView, error) {
	app := sv.running.Load()
	if !c.Now.IsZero() {
		if app.Played == nil {
			return nil, errors.New("the server runs on the real clock, which cannot be set; start it with --now to play a rollover through")
		}
		if err := app.Played.Set(c.Now); err != nil {
			return nil, err
		}
		if err := sv.Server.ClockMoved(ctx); err != nil {
			return nil, err
		}
	}
	err := sv.Server.KeysOf(ctx, name, func() error {
		return sv.withRing(name, func(ring *keyring.Ring) error { return app.changeRoll(ring, &c) })
	})
	if err != nil {
		return nil, err
	}
	ring, err := keyring.Open(sv.Config().KeyDir(name), name)
	if err != nil {
		return nil, err
	}
	return app.view(ring), nil
}

// withRing changes the keys of a zone; the server holds their lock.
func (sv *Service) withRing(name dnsname.Name, change func(*keyring.Ring) error) error {
	ring, err := keyring.Open(sv.Config().KeyDir(name), name)
	if err != nil {
		return err
	}
	if err := change(ring); err != nil {
		return err
	}
	return ring.Save()
}

// lockKeys keeps other programs away from the keys of the zones that are signed.
func (sv *Service) lockKeys(c *workspace.Config) error {
	for _, z := range c.Zones {
		dir := c.KeyDir(z.Name)
		if z.Sign == nil || sv.locks[dir] != nil {
			continue
		}
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return err
		}
		unlock, err := tryLockFolder(dir)
		if errors.Is(err, errLocked) {
			return fmt.Errorf("another fencepost looks after the keys in %s; two signers on one folder would break the zone", Shown(dir))
		}
		if err != nil {
			return err
		}
		sv.locks[dir] = unlock
	}
	return nil
}

func (sv *Service) unlockKeys() {
	for _, unlock := range sv.locks {
		unlock()
	}
}
