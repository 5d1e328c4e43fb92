package ops

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/internal/control"
	"fencepost/internal/edit"
	"fencepost/keymanager"
	"fencepost/keyring"
	"fencepost/resolve"
	"fencepost/roll"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/wholefile"
)

// KeyChange is something done to the keys of a zone. It travels to a running
// server as JSON, so that only one program changes them.
type KeyChange struct {
	Do   string `json:"do"` // new, import, activate, retire, delete
	Zone string `json:"zone"`
	Dir  string `json:"-"` // --keys; empty: the workspace's

	Tag       uint16 `json:"tag,omitempty"`
	Algorithm string `json:"algorithm,omitempty"`
	Role      string `json:"role,omitempty"`
	Bits      int    `json:"bits,omitempty"`
	Force     bool   `json:"force,omitempty"`
	// Import: the key's file content, and DNSKEY records that say what keys are for.
	Content  []byte   `json:"content,omitempty"`
	Name     string   `json:"name,omitempty"` // of the file
	Public   [][]byte `json:"public,omitempty"`
	Foreign  bool     `json:"foreign,omitempty"`
	Activate bool     `json:"activate,omitempty"`
	// Passphrase opens an imported key; Protect protects what is written here.
	Passphrase []byte `json:"passphrase,omitempty"`
	Protect    []byte `json:"protect,omitempty"`
}

// KeyChanged is what became of it.
type KeyChanged struct {
	KeyInfo           // with the path of the file
	Folder   string   `json:"folder"`
	Warnings []string `json:"warnings,omitempty"`
}

// KeyInfo is a key as it is shown; the field names are documented output.
type KeyInfo struct {
	Tag       uint16               `json:"key_tag"`
	Algorithm string               `json:"algorithm"`
	Number    uint8                `json:"algorithm_number"`
	Bits      int                  `json:"bits"`
	Role      string               `json:"role"`
	State     string               `json:"state"`
	Foreign   bool                 `json:"foreign,omitempty"`
	Revoked   uint16               `json:"revoked_key_tag,omitempty"` // the tag that it is published with once it is revoked
	Published bool                 `json:"published"`
	SignsKeys bool                 `json:"signs_keys"`
	SignsZone bool                 `json:"signs_zone"`
	DS        string               `json:"ds"` // none, wanted; at the parent: seen, missing, still
	Created   time.Time            `json:"created,omitzero"`
	Since     map[string]time.Time `json:"since,omitempty"`
	File      string               `json:"file,omitempty"`
	Note      string               `json:"note,omitempty"`
	Concern   string               `json:"concern,omitempty"`
	DNSKEY    string               `json:"dnskey"`
	Digest    string               `json:"ds_record,omitempty"`
}

func keyInfo(ring *keyring.Ring, e *keyring.Entry) KeyInfo {
	k := KeyInfo{Tag: e.Tag, Algorithm: e.Public.Algorithm.String(), Number: uint8(e.Public.Algorithm), Bits: e.Public.Bits(), Role: keyring.RoleName(e.Role), State: string(e.State),
		Foreign: e.Foreign, Published: e.Publish, SignsKeys: e.SignKeys, SignsZone: e.SignZone, DS: "none", Created: e.Created, Since: map[string]time.Time{},
		File: e.File, Note: e.Note, Concern: e.Public.KeyConcern(), DNSKEY: keyring.PublicText(e.Public.Data)}
	if e.Revoked {
		k.Revoked = e.Shown().Tag
	}
	for s, at := range e.Since {
		k.Since[string(s)] = at.UTC()
	}
	switch {
	case slices.Contains(ring.Parent.Lacks, e.Tag):
		k.DS = "missing at the parent"
	case slices.Contains(ring.Parent.Names, e.Tag):
		k.DS = "still at the parent"
	case e.DS && !e.Seen.IsZero():
		k.DS = "seen at the parent"
	case e.DS:
		k.DS = "wanted"
	case !e.Seen.IsZero() && e.Gone.IsZero():
		k.DS = "still at the parent"
	}
	if e.EntryPoint() {
		k.Digest = rr.DataText(rr.TypeDS, dnssec.DS(ring.Zone, e.Public.Data, dnssec.DigestSHA256))
	}
	return k
}

// ring opens the keys of a zone: in the folder given, or in the workspace.
func (a *App) ring(zoneName dnsname.Name, dir string) (*keyring.Ring, error) {
	if dir == "" {
		c, err := a.Config()
		if err != nil {
			return nil, fmt.Errorf("%w; outside a workspace say --keys DIR", err)
		}
		if ring, err := keyring.Open(c.KeyDir(zoneName), zoneName); !errors.Is(err, fs.ErrPermission) {
			return ring, err
		}
		return a.ringFromServer(c, zoneName)
	}
	return keyring.Open(dir, zoneName)
}

// Keys opens the keys of a zone to be looked at.
func (a *App) Keys(zone, dir string) (*keyring.Ring, []KeyInfo, error) {
	name, err := edit.WholeName(zone)
	if err != nil {
		return nil, nil, edit.Usage("the zone %q: %v", zone, err)
	}
	ring, err := a.ring(name, dir)
	if err != nil {
		return nil, nil, err
	}
	infos := []KeyInfo{}
	for _, e := range ring.Keys {
		infos = append(infos, keyInfo(ring, e))
	}
	return ring, infos, nil
}

// ChangeKeys does something to the keys of a zone: through the running server, if
// there is one and the keys are the workspace's.
func (a *App) ChangeKeys(ctx context.Context, k KeyChange) (*KeyChanged, error) {
	name, err := edit.WholeName(k.Zone)
	if err != nil {
		return nil, edit.Usage("the zone %q: %v", k.Zone, err)
	}
	if err := checkKeyChange(&k); err != nil {
		return nil, err
	}
	var out *KeyChanged
	change := func(ring *keyring.Ring) (err error) {
		out, err = a.changeKeys(ctx, ring, &k)
		return err
	}
	if k.Dir != "" {
		return out, a.withRing(k.Dir, name, change)
	}
	c, err := a.Config()
	if err != nil {
		return nil, fmt.Errorf("%w; outside a workspace say --keys DIR", err)
	}
	var remote KeyChanged
	err = Client(c).Call(ctx, control.Request{Command: "keys", Zone: k.Zone, Args: control.Args(k)}, &remote)
	if !errors.Is(err, control.ErrNotRunning) {
		return &remote, err
	}
	return out, a.withRing(c.KeyDir(name), name, change)
}

// checkKeyChange refuses what is asked wrongly.
func checkKeyChange(k *KeyChange) error {
	if k.Role != "" {
		if _, err := keyring.ParseRole(k.Role); err != nil {
			return edit.Usage("--role: %v", err)
		}
	}
	if k.Do != "new" && !(k.Do == "import" && k.Algorithm != "") {
		return nil
	}
	alg, ok := rr.ParseAlgorithm(k.Algorithm)
	if !ok {
		return edit.Usage("--algorithm %s is not a DNSSEC algorithm; write ECDSAP256SHA256", k.Algorithm)
	}
	if l := dnssec.LevelOf(alg); k.Do == "new" && l.Signing < dnssec.Discouraged {
		return edit.Usage("no new keys of algorithm %s are made: %s; write ECDSAP256SHA256", alg, l.Reason)
	}
	if k.Bits != 0 && alg != rr.RSASHA256 && alg != rr.RSASHA512 {
		return edit.Usage("--bits is for RSA keys; keys of %s have one size", alg)
	}
	return nil
}

// withRing changes the keys in a folder that no server looks after.
func (a *App) withRing(dir string, zone dnsname.Name, change func(*keyring.Ring) error) error {
	if err := wholefile.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	unlock, err := edit.LockKeyFolder(dir)
	if err != nil {
		return err
	}
	defer unlock()
	ring, err := keyring.Open(dir, zone)
	if err != nil {
		return err
	}
	if err := change(ring); err != nil {
		return err
	}
	return ring.Save()
}

// changeKeys does what is asked on an open ring, which the caller saves.
func (a *App) changeKeys(ctx context.Context, ring *keyring.Ring, k *KeyChange) (*KeyChanged, error) {
	out := &KeyChanged{Folder: edit.Shown(ring.Dir)}
	var e *keyring.Entry
	var err error
	switch k.Do {
	case "new":
		e, err = a.newKey(ring, k, out)
	case "import":
		e, err = a.importKey(ring, k, out)
	case "activate", "retire", "delete":
		if e = ring.ByTag(k.Tag); e == nil {
			return nil, noSuchKey(ring, k.Tag)
		}
		err = a.stage(ctx, ring, e, k, out)
	default:
		err = edit.Usage("nothing called %q can be done to a key", k.Do)
	}
	if err != nil {
		return nil, err
	}
	if out.KeyInfo = keyInfo(ring, e); e.File != "" {
		out.File = filepath.Join(out.Folder, e.File)
	}
	return out, nil
}

func noSuchKey(ring *keyring.Ring, tag uint16) error {
	var have []string
	for _, e := range ring.Keys {
		have = append(have, fmt.Sprint(e.Tag))
	}
	if len(have) == 0 {
		return fmt.Errorf("%w of %s in %s", errNoKeys, ring.Zone.Plain(), edit.Shown(ring.Dir))
	}
	return fmt.Errorf("%s has no key %d; it has %s", ring.Zone.Plain(), tag, strings.Join(have, ", "))
}

func (a *App) newKey(ring *keyring.Ring, k *KeyChange, out *KeyChanged) (*keyring.Entry, error) {
	alg, _ := rr.ParseAlgorithm(k.Algorithm)
	role, err := keyring.ParseRole(k.Role)
	if err != nil {
		return nil, err
	}
	e, err := ring.Generate(keyring.NewKey{Algorithm: alg, Role: role, Bits: k.Bits, Passphrase: k.Protect}, a.Now())
	if err != nil {
		return nil, err
	}
	if c := e.Public.KeyConcern(); c != "" {
		out.Warnings = append(out.Warnings, c)
	}
	if ring.Roll.Signs() {
		out.Warnings = append(out.Warnings, "the zone has keys in use: this one waits until a rollover uses it; see: fencepost roll start "+ring.Zone.Plain())
	}
	return e, nil
}

// importKey takes a key over from elsewhere.
func (a *App) importKey(ring *keyring.Ring, k *KeyChange, out *KeyChanged) (*keyring.Entry, error) {
	if k.Foreign {
		return a.importForeign(ring, k)
	}
	in, err := keyring.Import(k.Content, k.Passphrase)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", k.Name, err)
	}
	if in.Algorithm == 0 || k.Algorithm != "" {
		alg, ok := rr.ParseAlgorithm(k.Algorithm)
		if !ok && len(k.Public) == 0 {
			return nil, edit.Usage("%s is an RSA key and does not say its algorithm: add --algorithm RSASHA256, or the zone's keys with --public FILE", k.Name)
		}
		in.Algorithm = alg
	}
	key, role, err := identify(in, k)
	if err != nil {
		return nil, err
	}
	note := fmt.Sprintf("imported from %s on %s", k.Name, a.Now().UTC().Format("2006-01-02"))
	e, err := ring.Add(key, role, k.Protect, note, a.Now())
	if err != nil {
		return nil, err
	}
	if c := key.KeyConcern(); c != "" {
		out.Warnings = append(out.Warnings, c)
	}
	if k.Activate {
		e.Use(a.Now())
	}
	return e, nil
}

// identify finds out what a key was used for: by the DNSKEY records of the zone,
// where these are given, else by what was said.
func identify(in *keyring.Imported, k *KeyChange) (*dnssec.Key, signer.Role, error) {
	role, roleErr := keyring.ParseRole(k.Role)
	algs := []rr.AlgorithmNumber{in.Algorithm}
	if in.Algorithm == 0 {
		algs = []rr.AlgorithmNumber{rr.RSASHA256, rr.RSASHA512, rr.RSASHA1, rr.RSASHA1NSEC3}
	}
	var others bool // keys of another kind beside this one
	var found *dnssec.Key
	for _, alg := range algs {
		for _, data := range k.Public {
			if len(data) < 5 {
				continue
			}
			flags := uint16(data[0])<<8 | uint16(data[1])
			key, err := dnssec.NewKey(in.Key, alg, flags)
			if err == nil && string(key.Data) == string(data) {
				found = key
			}
		}
	}
	if found == nil {
		if len(k.Public) > 0 {
			return nil, 0, fmt.Errorf("%s: none of the %d DNSKEY records given is of this key", k.Name, len(k.Public))
		}
		if roleErr != nil {
			return nil, 0, edit.Usage("the role of the key is unknown: write --role single, ksk or zsk, or give the zone's DNSKEY records with --public FILE")
		}
		key, err := dnssec.NewKey(in.Key, in.Algorithm, keyring.Flags(role))
		return key, role, err
	}
	for _, data := range k.Public {
		if len(data) > 4 && (data[1]^byte(found.Flags))&byte(dnssec.FlagSEP) != 0 {
			others = true
		}
	}
	if roleErr == nil {
		return found, role, nil
	}
	switch {
	case !others:
		return found, signer.Single, nil
	case found.Flags&dnssec.FlagSEP != 0:
		return found, signer.KSK, nil
	}
	return found, signer.ZSK, nil
}

func (a *App) importForeign(ring *keyring.Ring, k *KeyChange) (*keyring.Entry, error) {
	var last *keyring.Entry
	for _, data := range k.Public {
		public, err := dnssec.ParseDNSKEY(data)
		if err != nil {
			return nil, err
		}
		if last, err = ring.AddForeign(public, "of another operator, from "+k.Name, a.Now()); err != nil {
			return nil, err
		}
	}
	if last == nil {
		return nil, edit.Usage("%s holds no DNSKEY record", k.Name)
	}
	return last, nil
}

// stage moves a key on in its life, if that breaks nothing.
func (a *App) stage(ctx context.Context, ring *keyring.Ring, e *keyring.Entry, k *KeyChange, out *KeyChanged) error {
	now := a.Now()
	t, ds := a.timingOf(ring), a.parentNames(ctx, ring.Zone, e)
	var refused error
	act := func() error { return nil }
	switch k.Do {
	case "activate":
		if e.Foreign {
			return edit.Usage("key %d is another operator's: it never signs here", e.Tag)
		}
		if e.Revoked {
			return edit.Usage("key %d is revoked: it is not to be trusted any more, for ever", e.Tag)
		}
		act = func() error { e.Use(now); return nil }
		switch {
		case !ring.Roll.Signs():
		case keymanager.MayPutBack(e) && ds != nil && *ds && a.parentRejects(ctx, ring):
			act = func() error { ring.Roll.PutBack(e.Key, now); return nil }
			out.Warnings = append(out.Warnings, fmt.Sprintf("once the parent has the DS of the keys in use, delete it: fencepost key delete %s %d", ring.Zone.Plain(), e.Tag))
		default:
			refused = &roll.RefusedError{Breaks: fmt.Sprintf("key %d is not in the caches of resolvers yet: they would reject what it alone signs", e.Tag),
				Until: "it is safe when a rollover does it in the right order"}
		}
	case "retire":
		refused = ring.Roll.MayRetire(e.Key, ds)
		act = func() error { e.Retire(now); return nil }
	case "delete":
		refused = ring.Roll.MayRemove(e.Key, now, ds, &t)
		if refused == nil && e.Foreign {
			if who := keymanager.NewObserver(a.Net, ring.Zone, nil).StillUsed(ctx, a.otherSigners(ring.Zone), e.Public); who != "" {
				refused = &roll.RefusedError{Breaks: fmt.Sprintf("%s still has key %d in its DNSKEY set: resolvers that have the keys from here would reject what it signs", who, e.Tag),
					Until: "it is safe when that signer has removed the key, or serves the zone no more"}
			}
		}
		act = func() error { return ring.Delete(e) }
	}
	if r := ring.Roll.Roll; r != nil && slices.Contains(append(slices.Clone(r.Old), r.New...), e.Tag) {
		rows := r.Timeline(now, &t)
		part := fmt.Errorf("key %d is part of the present rollover, which ends on %s at the earliest; see: fencepost roll %s", e.Tag,
			rows[len(rows)-1].End.UTC().Format("2006-01-02 15:04 UTC"), ring.Zone.Plain())
		if refused == nil {
			refused = part
		} else {
			refused = fmt.Errorf("%w; %w", refused, part)
		}
	}
	if refused != nil {
		if !k.Force {
			if ring.Roll.Roll == nil {
				refused = fmt.Errorf("%w; keys take each other's place with: fencepost roll start %s", refused, ring.Zone.Plain())
			}
			return fmt.Errorf("refused: %w", refused)
		}
		out.Warnings = append(out.Warnings, "FORCED, although "+refused.Error())
	}
	return act()
}

// otherSigners are those who sign a zone too.
func (a *App) otherSigners(zone dnsname.Name) []resolve.Server {
	if c, err := a.Config(); err == nil {
		if z := c.Find(zone); z != nil {
			return askable(z.OtherSigners)
		}
	}
	return nil
}

// timingOf are the waits for a zone's keys, with the policy if there is one.
func (a *App) timingOf(ring *keyring.Ring) roll.Timing {
	p := keymanager.DefaultPolicy()
	if c, err := a.Config(); err == nil {
		if z := c.Find(ring.Zone); z != nil && z.Sign != nil {
			p = z.Sign
		}
	}
	return p.Timing(ring)
}

// parentNames asks the parent's servers whether they have a DS of a key; nil if
// that cannot be known.
func (a *App) parentNames(ctx context.Context, zone dnsname.Name, e *keyring.Entry) *bool {
	parents, err := a.parentServers(ctx, zone, nil)
	if err != nil {
		return nil
	}
	return keymanager.NewObserver(a.Net, zone, nil).ParentNames(ctx, parents, e)
}

// parentRejects reports whether the parent's servers have only DS that fit no key of the zone: a
// key that they name can only help then.
func (a *App) parentRejects(ctx context.Context, ring *keyring.Ring) bool {
	parents, err := a.parentServers(ctx, ring.Zone, nil)
	return err == nil && keymanager.NewObserver(a.Net, ring.Zone, ring).ParentRejects(ctx, parents)
}

var errNoKeys = errors.New("there are no keys")
