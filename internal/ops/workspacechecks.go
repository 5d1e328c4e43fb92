package ops

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"fencepost/diag"
	"fencepost/internal/control"
	"fencepost/internal/edit"
	"fencepost/keymanager"
	"fencepost/lint"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/store"
	"fencepost/workspace"
	"fencepost/zonefile"
)

// Rules about a workspace as files on a disk, and as what a server has served.
var (
	RuleSerialKept = &diag.Rule{Code: "serial-not-moved", Severity: diag.Error, Title: "the zone changed since it was last served, and its serial was not raised", Ref: "RFC 1034 §4.3.5, RFC 1982 §3",
		Doc: "Secondaries look at the serial only: they will never fetch this change. Raise it with `fencepost serial ZONE --next`, or let `fencepost check --fix` do it."}
	RuleKeyMode = &diag.Rule{Code: "key-readable", Severity: diag.Error, Title: "others can read or change private keys", Ref: "RFC 6781 §4.1",
		Doc: "Anyone who has a private key can sign for the zone. Only its owner may read it: mode 0700 for folders, 0600 for files."}
	RuleKeysUnused = &diag.Rule{Code: "keys-without-policy", Severity: diag.Error, Title: "a zone has keys in use and no policy to sign it", Ref: "RFC 4035 §5.2, RFC 8078 §4",
		Doc: "The zone would be served unsigned. If its parent has a DS of the keys, validating resolvers reject the whole zone. Give it a policy (sign = \"...\"), or make it unsigned in the safe order with `fencepost roll start ZONE --what unsign`."}
	RuleKeysUnusable = &diag.Rule{Code: "keys-unusable", Severity: diag.Error, Title: "the keys of a zone cannot be used", Ref: "RFC 6781 §3.4.1",
		Doc: "keyring.toml says what keys a zone has and what its parent and caches know of them; the PEM files beside it are the keys. Without either the zone cannot be signed, and new keys in their place would make resolvers reject it. Bring the folder back from a backup."}
	RuleKeysHidden = &diag.Rule{Code: "keys-not-readable", Severity: diag.Note, Title: "the keys of a zone may not be read by you", Ref: "",
		Doc: "Keys belong to the user that the server runs as. What is said of the zone is right; whether its keys can be used was not looked at. The server does that at each start and reload, and tells in `fencepost status`."}
	RuleStoreDamaged = &diag.Rule{Code: "store-damaged", Severity: diag.Error, Title: "the stored versions of zones were damaged or lost", Ref: "",
		Doc: "The server keeps what it serves in state/versions.db: signed versions, transferred zones, what messages changed, and the history. One that is damaged is set aside under another name, and what can still be read is taken over; what messages changed, and serials, come from a second copy. Look whether your zones are as they should be, then take that file away."}
	RuleTooShort = &diag.Rule{Code: "signatures-too-short", Severity: diag.Warning, Title: "signatures do not last as long as the zone needs them", Ref: "RFC 6781 §4.4.1",
		Doc: "Signatures should be valid for longer than secondaries go on without their primary (the expire time of the SOA), and be renewed earlier before their end than the largest TTL. Make valid-for and renew-before-end of the policy longer, or expire and TTLs shorter."}
	RuleOldSignatures = &diag.Rule{Code: "signatures-in-source", Severity: diag.Warning, Title: "a zone that is signed here holds signatures from elsewhere", Ref: "RFC 4035 §2.2",
		Doc: "RRSIG, NSEC and NSEC3 records in the file are left out and made anew when the zone is signed; DNSKEY records of keys that are not here are left out too, unless the policy says keep-keys. While the parent's DS is of such a key, take the keys over first: `fencepost key import`."}
	RuleZoneMode = &diag.Rule{Code: "zone-file-writable", Severity: diag.Warning, Title: "anyone on this machine can change a zone file", Ref: "",
		Doc: "The file is writable for all. What stands in it will be served and signed. Take the right away: chmod o-w FILE."}
)

// RuleFollowWeb is about names that follow another where browsers can do so themselves.
var RuleFollowWeb = &diag.Rule{Code: "follow-without-https", Severity: diag.Note, Title: "addresses are followed where an HTTPS record would do for browsers", Ref: "RFC 9460 §2.4.2",
	Doc: "An HTTPS record in alias mode (priority 0) names the host whose addresses count, also at the zone itself, where no CNAME may stand. Browsers that know it follow at once, without waiting for the next look here; the followed addresses are for the others. Other protocols have SVCB in the same way."}

// followsForWeb finds names that follow another and have no HTTPS record.
func followsForWeb(c *workspace.Config, res *Checked) {
	for _, m := range res.members {
		z := c.Find(m.Apex())
		if z == nil || m.Audience != "" {
			continue
		}
		for i := range z.Follows {
			f := &z.Follows[i]
			if _, has := m.Snapshot.Find(f.Owner, rr.TypeHTTPS, 0); has {
				continue
			}
			d := RuleFollowWeb.At(m.SOASpan, "the addresses of %s follow %s", f.Owner, f.Source).
				Suggest("if it is a web site, add: fencepost add %s %s HTTPS 0 %s", m.Apex().Plain(), f.Owner.Relative(m.Apex()), f.Source)
			d.Zone, d.Owner = m.Apex(), f.Owner
			res.Diags.Add(d)
		}
	}
}

// serialsMoved compares each unsigned zone with the version that was last put in
// service. Signed zones have a serial of their own, and so have those that messages may change.
func (a *App) serialsMoved(ctx context.Context, c *workspace.Config, res *Checked) {
	last := map[string]store.Published{}
	for _, p := range lastPublished(ctx, c) {
		last[p.Zone] = p
	}
	for _, m := range res.members {
		z := c.Find(m.Apex())
		if z == nil || z.Sign != nil || !z.HasFile() || m.Audience != "" {
			continue
		}
		if grants, _ := c.Updates.For(z.Name, ""); grants != nil {
			continue
		}
		p, found := last[m.Apex().Lower().String()]
		if !found || rr.NewerSerial(m.Serial(), p.Serial) || m.Snapshot.Digest() == p.Digest {
			continue
		}
		next := zonefile.NextSerial(zonefile.SerialStyle(c.SerialStyle), p.Serial, a.Now())
		at := soaSerial(res.Source, m)
		d := RuleSerialKept.At(at, "%s changed since serial %d was put in service, and the serial is %d", m.Apex(), p.Serial, m.Serial()).
			Suggest("write %d, or run: fencepost serial %s --next", next, m.Apex().Plain())
		if m.Serial() != p.Serial { // set back by hand: to stay there takes more than one step
			d = d.Suggest("to stay at %d take the steps of: fencepost serial %s --set %d --plan; else run: fencepost serial %s --next",
				m.Serial(), m.Apex().Plain(), m.Serial(), m.Apex().Plain())
		}
		d.Zone, d.Owner = m.Apex(), m.Apex()
		if string(res.Source.Text(at)) != "SOA" {
			d.Fix = &diag.Fix{Edits: []diag.Edit{{Span: at, New: strconv.FormatUint(uint64(next), 10)}}}
		}
		res.Diags.Add(d)
	}
}

// soaSerial is where the serial of a zone is written.
func soaSerial(src *source.Set, m *lint.Zone) source.Span {
	const word = 2 // after mname and rname
	return zonefile.LayoutAt(src, src.LineStart(m.SOASpan.Start)).Field(word)
}

// lastPublished asks the running server, or reads what the last one left.
func lastPublished(ctx context.Context, c *workspace.Config) (out []store.Published) {
	if err := Client(c).Call(ctx, control.Request{Command: "published"}, &out); err == nil {
		return out
	}
	out, _ = store.ReadPublished(c.Store()) // without it there is nothing to compare with
	return out
}

// checkSignatureTimes compares the policies with the zones that they are for.
func checkSignatureTimes(c *workspace.Config, res *Checked) {
	for _, m := range res.members {
		z := c.Find(m.Apex())
		if z == nil || z.Sign == nil {
			continue
		}
		if _, signed := m.Find(m.Apex(), rr.TypeRRSIG); signed && m.Signed() { // without keys they are left over anywhere
			d := RuleOldSignatures.At(m.SOASpan, "the file of %s holds signatures of a signing elsewhere", m.Apex()).
				Suggest("take them out, or take the zone over without them: fencepost pull ZONE --file FILE --unsigned")
			d.Zone, d.Owner = m.Apex(), m.Apex()
			res.Diags.Add(d)
		}
		if words := keymanager.TooShort(z.Sign.Signing, m.Snapshot); words != "" {
			d := RuleTooShort.At(m.SOASpan, "%s: %s", m.Apex(), words).Suggest("make valid-for and renew-before-end of the policy %s longer", z.Sign.Name)
			d.Zone, d.Owner = m.Apex(), m.Apex()
			res.Diags.Add(d)
		}
	}
}

// checkKeyModes looks at who can get at the private keys.
func checkKeyModes(c *workspace.Config, res *Checked) {
	root := filepath.Join(c.Dir, workspace.KeysDir)
	_ = filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // what cannot be read by us is nobody's else either
		}
		info, err := d.Info()
		if err != nil || info.Mode().Perm()&0o077 == 0 || path == root && info.Mode().Perm()&0o022 == 0 {
			return nil
		}
		want := "600"
		if d.IsDir() {
			want = "700"
		}
		f, err := res.Source.Add(edit.Shown(path), nil)
		if err != nil {
			return err
		}
		res.Diags.Add(RuleKeyMode.At(fileStart(f), "%s has mode %04o", edit.Shown(path), info.Mode().Perm()).Suggest("chmod %s %s", want, edit.Shown(path)))
		return nil
	})
}

// checkZoneMode looks at who can change a zone file.
func checkZoneMode(in *edit.Input, res *Checked) {
	if info, err := os.Stat(in.Path); err == nil && info.Mode().Perm()&0o002 != 0 {
		res.Diags.Add(RuleZoneMode.At(fileStart(in.File), "%s has mode %04o: anyone here can change it", edit.Shown(in.Path), info.Mode().Perm()).
			Suggest("chmod o-w %s", edit.Shown(in.Path)))
	}
}

// StoreTrouble says what a file means that was set aside of the store.
func StoreTrouble(path string) string {
	if strings.Contains(filepath.Base(path), ".lost-") {
		return fmt.Sprintf("the stored versions of zones were gone at a start (%s): what messages changed, and serials, came from the second copy", path)
	}
	return fmt.Sprintf("the stored versions of zones were damaged and set aside (%s): what could be read was taken over; what messages changed, and serials, came from the second copy", path)
}

// StoreCure is what to do about it.
func StoreCure(path string) string {
	return fmt.Sprintf("look whether the zones are as they should be (fencepost status, fencepost pending ZONE, fencepost secondaries ZONE), see to the disk, then take %s away", path)
}

// checkStore looks for what was set aside of the store.
func checkStore(c *workspace.Config, res *Checked) error {
	for _, path := range store.SetAside(c.Store()) {
		f, err := res.Source.Add(edit.Shown(path), nil)
		if err != nil {
			return err
		}
		res.Diags.Add(RuleStoreDamaged.At(fileStart(f), "%s", StoreTrouble(edit.Shown(path))).Suggest("%s", StoreCure(edit.Shown(path))))
	}
	return nil
}
