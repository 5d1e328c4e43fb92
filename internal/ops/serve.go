package ops

import (
	"context"
	crand "crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"fencepost/cookie"
	"fencepost/dnsname"
	"fencepost/internal/edit"
	"fencepost/keymanager"
	"fencepost/keyring"
	"fencepost/server"
	"fencepost/server/frontend"
	"fencepost/server/request"
	"fencepost/server/zonestate"
	"fencepost/store"
	"fencepost/wholefile"
	"fencepost/workspace"
)

// Service is a running server with the workspace it serves.
type Service struct {
	Server *server.Server
	store  *store.Store
	log    *slog.Logger
	begun  chan struct{} // closed when the server has its first configuration

	// running is what the server works with: it has the configuration in service, not
	// what somebody is writing to fencepost.toml just now.
	running atomic.Pointer[App]

	// ownCookies is the secret of cookies where none is configured.
	ownCookies func() cookie.Secret

	prints  keymanager.FingerprintCache     // of the keys of zones
	rings   keyring.Cache                   // the same
	folders atomic.Pointer[map[string]bool] // of keys, see seeFolders; nil: it is not known

	unstored string   // why nothing can be stored; empty: it can
	refusals refusals // of what children ask for

	changing sync.Mutex        // held while the configuration changes: one reload at a time
	locks    map[string]func() // of key folders; under changing
}

// Config is the configuration in service.
func (sv *Service) Config() *workspace.Config { return sv.running.Load().PinnedConfig }

// use puts a configuration in service.
func (sv *Service) use(a *App, c *workspace.Config) {
	next := &App{Files: edit.Files{Workspace: c.Dir, Now: a.Now, PinnedConfig: c}, Net: a.Net, TimeOverridden: a.TimeOverridden, SettableClock: a.SettableClock}
	next.UseOverrides()
	sv.running.Store(next)
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
				return nil, edit.Usage("--listen: %v", err)
			}
			c.Listen = append(c.Listen, ap)
		}
	}
	if c.SecretsTrouble != "" {
		c.CloseSecretless()
		log.Error("some secrets are not there: what needs one is not done until they are", "why", c.SecretsTrouble)
	}
	versions, err := store.Open(c.Store())
	unstored := ""
	if wholefile.Unwritable(err) {
		unstored = err.Error()
		log.Error("nothing can be stored: what is there is served, and changes by messages are refused", "error", err)
		versions, err = store.Sealed(c.Store(), err), nil
	}
	if err != nil {
		return nil, err
	}
	if versions.Aside != "" {
		log.Error(StoreTrouble(edit.Shown(versions.Aside)), "versions", versions.Rescued)
	}
	versions.SetLimits(storeLimits(c))
	sv := &Service{store: versions, unstored: unstored, log: log, begun: make(chan struct{}), locks: map[string]func(){}, ownCookies: sync.OnceValue(newCookieSecret)}
	sv.use(a, c)
	if err := sv.lockKeys(c); err != nil {
		sv.unlockKeys()
		versions.Close()
		return nil, err
	}
	sv.Server = server.New(zonestate.Options{Net: a.Net, Log: log, Now: a.Now, Store: versions, Rand: rand.Float64})
	return sv, nil
}

// Run serves until ctx is done.
func (sv *Service) Run(ctx context.Context, ready func(server.Start)) error {
	defer sv.store.Close()
	defer sv.unlockKeys()
	return sv.Server.Run(ctx, sv.Config().Listen, sv.serverConfig(sv.Config()), func(st server.Start) {
		close(sv.begun)
		if ready != nil {
			ready(st)
		}
	})
}

// Reload reads the configuration and all zones again. With errors in the
// configuration everything stays as it is. One that comes while another works waits,
// and so sees what is in the files after the other was asked for.
func (sv *Service) Reload(ctx context.Context, by string) ([]zonestate.ZoneResult, error) {
	done, err := sv.change(ctx)
	if err != nil {
		return nil, err
	}
	defer done()
	app := sv.running.Load()
	was := app.PinnedConfig
	c, err := (&edit.Files{Workspace: was.Dir}).Config()
	if err != nil {
		return nil, fmt.Errorf("keeping the running configuration: %w", err)
	}
	if c.SecretsTrouble != "" && was.SecretsTrouble == "" {
		return nil, fmt.Errorf("keeping the running configuration: %w", &secretsError{c.SecretsTrouble})
	}
	c.CloseSecretless()
	if err := sv.lockKeys(c); err != nil {
		return nil, fmt.Errorf("keeping the running configuration: %w", err)
	}
	c.Listen = was.Listen // sockets are opened once
	sv.store.SetLimits(storeLimits(c))
	sv.use(app, c)
	sv.OpenControl()
	results := sv.Server.Apply(ctx, sv.serverConfig(c), by)
	for i := range results {
		results[i].Note = newKeysNote(was, c, results[i].Zone)
	}
	return results, nil
}

// secretsError says that secrets are not there that are named.
type secretsError struct{ why string }

func (e *secretsError) Error() string { return e.why }

// Unwrap tells that `check` finds it too.
func (e *secretsError) Unwrap() error { return edit.ErrFindings }

// change waits until the server has its first configuration and nobody else changes it.
func (sv *Service) change(ctx context.Context) (done func(), err error) {
	select {
	case <-sv.begun:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	sv.changing.Lock()
	return sv.changing.Unlock, nil
}

// ReloadZone reads one zone again, under the configuration in service.
// step, if it is not nil, is what a command did to it.
func (sv *Service) ReloadZone(ctx context.Context, name dnsname.Name, step *Step, by string) ([]zonestate.ZoneResult, error) {
	done, err := sv.change(ctx)
	if err != nil {
		return nil, err
	}
	defer done()
	return sv.reloadOne(ctx, name, step, by)
}

func storeLimits(c *workspace.Config) store.Limits {
	return store.Limits{Keep: c.History.Keep, Octets: c.History.Octets}
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
	kind := now.Sign.Demanded(ring)
	switch {
	case kind == "":
		return ""
	case ring.Roll.Roll != nil:
		return fmt.Sprintf("the policy has other keys: after the present rollover another begins (%s); see: fencepost roll %s", kind.Description(), name.Plain())
	}
	return fmt.Sprintf("the policy has other keys: a rollover begins (%s); see: fencepost roll %s", kind.Description(), name.Plain())
}

// ClockIsRight takes the clock for right: what was signed, or noted of keys, at times
// still to come is signed anew and counted from now. Then it reloads.
func (sv *Service) ClockIsRight(ctx context.Context, by string) ([]zonestate.ZoneResult, error) {
	app := sv.running.Load()
	for _, z := range app.PinnedConfig.Zones {
		if z.Sign == nil {
			continue
		}
		note := func() error {
			ring, err := keyring.Open(app.PinnedConfig.KeyDir(z.Name), z.Name)
			if err != nil || len(ring.Keys) == 0 {
				return err
			}
			ring.ConfirmClock(app.Now())
			return ring.Save()
		}
		if err := sv.Server.KeysOf(ctx, z.Name, by, note); err != nil {
			sv.log.Error("the zone could not be signed again", "zone", z.Name.String(), "error", err)
		}
	}
	return sv.Reload(ctx, by)
}

// Published is what was last put in service of the unsigned zones from files.
func (sv *Service) Published() ([]store.Published, error) { return sv.store.AllPublished() }

func newCookieSecret() (s cookie.Secret) {
	_, _ = crand.Read(s[:]) // never fails (crypto/rand)
	return s
}

// identity is what the server says of itself. Without a secret that it shares with others it
// has one of its own, as long as it runs.
func (sv *Service) identity(c *workspace.Config) *request.Identity {
	id := &request.Identity{NSID: []byte(c.NSID), Cookies: c.CookieSecrets, Idle: frontend.IdleTimeout, Chaos: map[string]string{}}
	for name, text := range c.Chaos {
		id.Chaos[dnsname.MustParse(name+".").Wire()] = text
	}
	if len(id.Cookies) == 0 {
		id.Cookies = cookie.Secrets{sv.ownCookies()}
	}
	return id
}

// serverConfig turns the workspace's configuration into the server's.
func (sv *Service) serverConfig(c *workspace.Config) *zonestate.Config {
	if err := edit.FinishIn(filepath.Join(c.Dir, workspace.ZonesDir)); err != nil {
		sv.log.Error("an edit was left half done", "error", err)
	}
	app := sv.running.Load()
	sv.seeFolders(c)
	read := howRead(c)
	out := &zonestate.Config{Identity: sv.identity(c), FetchedZone: c.Limits.FetchedZone, FetchedTogether: c.Limits.FetchedTogether}
	for _, k := range c.Keys {
		out.Keys = append(out.Keys, k)
	}
	for _, a := range c.Audiences {
		out.Audiences = append(out.Audiences, zonestate.Audience{Name: a.Name, Networks: a.Networks})
	}
	for _, z := range c.Zones {
		out.Zones = append(out.Zones, sv.zoneConfig(app, c, z, "", read[z.Sign]))
		if z.Catalog != nil && len(z.FetchFrom) > 0 {
			out.Catalogs = append(out.Catalogs, followed(c, z))
		}
		for _, a := range z.Audiences {
			out.Zones = append(out.Zones, sv.zoneConfig(app, c, z, a.Name, read[z.Sign]))
		}
		if z.FollowChildren {
			out.Jobs = append(out.Jobs, zonestate.Job{Name: "follow " + z.Name.Key(), Every: syncEvery, Do: func(ctx context.Context) {
				if sv.syncChildren(ctx, z) {
					if _, err := sv.Reload(ctx, "the children's CDS and CSYNC"); err != nil {
						sv.log.Error("reload", "error", err)
					}
				}
			}})
		}
	}
	return out
}

// zoneConfig is the version of a zone for an audience; empty: for everyone. read is what decides besides
// the files on what becomes of it.
func (sv *Service) zoneConfig(app *App, c *workspace.Config, z *workspace.Zone, audience, settingsDigest string) zonestate.Zone {
	out := zonestate.Zone{Name: z.Name, Audience: audience, SendTo: askable(workspace.OfAudience(z.SendTo, audience)), Updates: updatesOf(c, z.Name, audience)}
	if z.Catalog != nil {
		out.Lists = true
		if len(z.FetchFrom) == 0 {
			out.Origin = catalogOf(c, z)
			return out
		}
	}
	path := c.File(z.Name)
	if audience == "" {
		out.Follows = app.followsOf(z)
	} else {
		path = c.AudienceFile(z.Name, audience)
	}
	if from := workspace.OfAudience(z.FetchFrom, audience); len(z.FetchFrom) > 0 {
		out.Origin = &zonestate.Primaries{Servers: askable(from), CheckDigest: digestChecks[z.Digest]}
	} else {
		out.Origin = sv.filesOf(app, c, z, path, settingsDigest)
	}
	if z.Sign == nil {
		return out
	}
	manager := &keymanager.Manager{Env: sv.keyEnv(app), Zone: managed(c, z, settingsDigest)}
	if out.Signer = manager; audience != "" {
		out.Signer = keymanager.Copy{Manager: manager}
	}
	return out
}

// filesOf reads a zone from a file.
func (sv *Service) filesOf(app *App, c *workspace.Config, z *workspace.Zone, path, settingsDigest string) *zonestate.Files {
	files := &zonestate.Files{Once: z.Kept, Work: func() int64 { return workOf(path, z) }, Where: app.whereIn(path, z.Name)}
	files.Load = func(ctx context.Context, last zonestate.Input) (zonestate.Input, error) {
		if err := sv.mayServe(c, z); err != nil {
			return zonestate.Input{}, err
		}
		return app.loadClean(ctx, path, z.Name, settingsDigest, last)
	}
	files.Unchanged = func(stamp string) (string, bool) {
		again, same := stillStamped(stamp, settingsDigest)
		return again, same && sv.mayServe(c, z) == nil
	}
	if c.History.Git {
		files.Author = func(ctx context.Context) string { return gitAuthor(ctx, path) }
	}
	return files
}

func (sv *Service) keyEnv(app *App) keymanager.Env {
	return keymanager.Env{Net: app.Net, Now: app.Now, Log: sv.log, Parents: app.findParents(), Fingerprints: &sv.prints, Rings: &sv.rings}
}

// managed is a zone as whoever looks after its keys knows it. mark tells its policy apart.
func managed(c *workspace.Config, z *workspace.Zone, mark string) keymanager.Zone {
	servers := workspace.OfAudience(z.SendTo, "")
	if z.WaitFor != nil {
		servers = z.WaitFor
	}
	return keymanager.Zone{Name: z.Name, Dir: c.KeyDir(z.Name), Policy: z.Sign, Servers: askable(servers), Parent: askable(z.Parent), Signers: askable(z.OtherSigners), Mark: mark}
}

// seeFolders looks which zones have folders of keys: of very many that are not signed, few
// have.
func (sv *Service) seeFolders(c *workspace.Config) {
	entries, err := os.ReadDir(filepath.Join(c.Dir, workspace.KeysDir))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		sv.folders.Store(nil) // each is looked at
		return
	}
	have := map[string]bool{}
	for _, e := range entries {
		have[e.Name()] = true
	}
	sv.folders.Store(&have)
}

// mayServe says why a zone may not be served as the configuration says.
func (sv *Service) mayServe(c *workspace.Config, z *workspace.Zone) error {
	if z.Sign != nil {
		return nil
	}
	if have := sv.folders.Load(); have != nil && !(*have)[filepath.Base(c.KeyDir(z.Name))] {
		return nil
	}
	if unused, err := unsignedInUse(c, z); err != nil {
		return fmt.Errorf("it cannot be told whether %s may be served unsigned: %w", z.Name.Plain(), err)
	} else if unused {
		return fmt.Errorf("%s would become unsigned while its parent has a DS of its keys; give it a policy again, or go the safe way with: fencepost roll start %s --what unsign", z.Name.Plain(), z.Name.Plain())
	}
	return nil
}

var digestChecks = map[workspace.Digest]zonestate.DigestCheck{workspace.DigestPresent: zonestate.DigestIfPresent, workspace.DigestAlways: zonestate.DigestAlways}

// ChangeKeys does something to keys while nothing else does.
func (sv *Service) ChangeKeys(ctx context.Context, name dnsname.Name, k KeyChange, by string) (*KeyChanged, error) {
	if err := checkKeyChange(&k); err != nil {
		return nil, err
	}
	var out *KeyChanged
	err := sv.Server.KeysOf(ctx, name, by, func() (err error) {
		return sv.withRing(name, func(ring *keyring.Ring) (err error) {
			out, err = sv.running.Load().changeKeys(ctx, ring, &k)
			return err
		})
	})
	return out, err
}

// ChangeRoll does something to a rollover, and what follows from it at once. A
// step may set the clock forward, if the server runs on a played one.
func (sv *Service) ChangeRoll(ctx context.Context, name dnsname.Name, c RollChange, by string) (*RollView, error) {
	app := sv.running.Load()
	if !c.Now.IsZero() {
		if app.SettableClock == nil {
			return nil, errors.New("the server runs on the real clock, which cannot be set; start it with --now to play a rollover through")
		}
		if err := app.SettableClock.Set(c.Now); err != nil {
			return nil, err
		}
		if err := sv.Server.ClockMoved(ctx); err != nil {
			return nil, err
		}
	}
	err := sv.Server.KeysOf(ctx, name, by, func() error {
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
		if err := wholefile.MkdirAll(dir, 0o700); err != nil && !wholefile.Unwritable(err) {
			return err
		}
		unlock, err := edit.TryLockFolder(dir)
		if err == nil {
			wholefile.Sweep(dir, time.Time{}) // who writes here has the lock
		}
		if wholefile.Unwritable(err) { // nobody else can change them either
			sv.log.Error("the keys can be read, not written: rollovers stop, and no signature is renewed", "folder", edit.Shown(dir), "error", err)
			continue
		}
		if errors.Is(err, edit.ErrLocked) {
			return fmt.Errorf("another fencepost looks after the keys in %s; two signers on one folder would break the zone", edit.Shown(dir))
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
