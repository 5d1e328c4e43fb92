package edit

import (
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint/checks"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/wholefile"
	"fencepost/workspace"
	"fencepost/zonefile"
	"fencepost/zoneload"
)

// Starter is what a new zone file is made of.
type Starter struct {
	Zone    string
	Like    string   // a zone or file to take as the pattern; then the others must be empty
	Servers []string // NAME or NAME=ADDRESS[,ADDRESS]; empty: ns1 and ns2 of the zone
	Contact string   // mailbox with @, or a name; empty: hostmaster of the zone
	Timers  Timers
}

// Created is what init or new made.
type Created struct {
	Dir   string
	Zone  dnsname.Name
	Files []string
	Notes []string // what a person may want to know besides
}

// Init makes a workspace with a first zone that checks clean. The folder must
// not hold one already.
func (a *Files) Init(dir string, s Starter) (*Created, error) {
	if _, err := os.Stat(filepath.Join(dir, workspace.ConfigFile)); err == nil {
		return nil, fmt.Errorf("%s is a workspace already; add a zone with: fencepost new ZONE --workspace %s", dir, dir)
	}
	if s.Zone == "" {
		s.Zone = "example.org"
	}
	zone, text, err := a.zoneText(s)
	if err != nil {
		return nil, err
	}
	for _, d := range []struct {
		name string
		mode fs.FileMode
	}{{"", 0o755}, {workspace.ZonesDir, 0o755}, {workspace.ExpectDir, 0o755}, {workspace.KeysDir, 0o700}, {workspace.StateDir, 0o700}} {
		if err := wholefile.MkdirAll(filepath.Join(dir, d.name), d.mode); err != nil {
			return nil, err
		}
	}
	res := &Created{Dir: dir, Zone: zone}
	plain := strings.TrimSuffix(zone.String(), ".")
	files := []struct{ path, text string }{
		{filepath.Join(dir, workspace.ZonesDir, workspace.FileName(zone)), text},
		{filepath.Join(dir, ".gitignore"), "/keys/\n/state/\n/secrets.toml\n"},
		{filepath.Join(dir, workspace.ConfigFile), fmt.Sprintf(configText, plain)},
	}
	for _, f := range files {
		if _, err := os.Stat(f.path); err == nil {
			return nil, fmt.Errorf("%s exists already; nothing was written over it", Shown(f.path))
		}
	}
	for _, f := range files { // the configuration last: with it the folder is a workspace
		if err := WriteFile(f.path, []byte(f.text)); err != nil {
			for _, begun := range files[:len(res.Files)] { // they would bar the next try
				_ = os.Remove(begun.path)
			}
			return nil, err
		}
		res.Files = append(res.Files, Shown(f.path))
	}
	return res, nil
}

const configText = `# The configuration of this workspace. ` + "`fencepost check`" + ` looks it over.

[serial]
style = "date"                        # date | count | clock

[serve]
listen  = ["127.0.0.1:5300", "[::1]:5300"]   # this machine only; give outside addresses to serve the world
control = "state/control.sock"

# Another server to exchange zones with:
# [peer.second]
# address = "192.0.2.2:53"
# tsig    = "second-2026"             # a section of secrets.toml

[policy.standard]                     # how to sign
algorithm = "ECDSAP256SHA256"
keys      = "single"

[[zone]]
name    = "%s"
# sign    = "standard"                # take the # away to sign the zone
# send-to = ["second"]
`

// New makes a zone file in the workspace and lists the zone in fencepost.toml.
func (a *Files) New(s Starter) (*Created, error) {
	c, err := a.Config()
	if err != nil {
		return nil, err
	}
	zone, text, err := a.zoneText(s)
	if err != nil {
		return nil, err
	}
	done, err := a.CreateZone(c, zone, text, true)
	if err != nil {
		return nil, err
	}
	res := &Created{Dir: c.Dir, Zone: zone}
	for _, f := range done.Files {
		res.Files = append(res.Files, f.Path)
	}
	if s.Like != "" {
		res.Notes, err = a.namesPattern(s.Like, c.File(zone), zone)
	}
	return res, err
}

// namesPattern tells of texts in a zone made of a pattern that still name that: what they mean there only
// people know.
func (a *Files) namesPattern(like, path string, zone dnsname.Name) (notes []string, err error) {
	var src source.Set
	f, err := a.Reader().File(&src, path)
	if err != nil {
		return nil, err
	}
	_, old, err := a.ZoneFile(like)
	if err != nil || old.IsZero() {
		return nil, err
	}
	for _, r := range zonefile.Parse(f, zonefile.Options{Origin: zone, Open: a.Reader().Includes(&src, path, nil)}, &diag.List{}).All {
		if textNames(r, old) {
			notes = append(notes, fmt.Sprintf("the text at %s still holds %s: look whether it should", src.Position(r.Span.Start), old.Plain()))
		}
	}
	return notes, nil
}

// starterServer is one name server of a new zone.
type starterServer struct {
	name  dnsname.Name
	addrs []netip.Addr
	own   bool // the addresses are those that the child's zone has
}

// zoneText writes a new zone file and checks that there is nothing to find.
func (a *Files) zoneText(s Starter) (dnsname.Name, string, error) {
	name, err := ALabels(s.Zone)
	if err != nil {
		return dnsname.Name{}, "", err
	}
	zone, err := WholeName(name)
	if err != nil {
		return zone, "", Usage("the zone %q: %v", s.Zone, err)
	}
	if s.Like != "" {
		text, err := a.textLike(zone, s)
		return zone, text, err
	}
	if zone == dnsname.Root {
		return zone, "", Usage("the root zone cannot be started from a pattern")
	}
	servers, err := starterServers(zone, s.Servers)
	if err != nil {
		return zone, "", err
	}
	contact, err := contactName(zone, s.Contact)
	if err != nil {
		return zone, "", err
	}
	timers, err := s.Timers.values(presets())
	if err != nil {
		return zone, "", err
	}
	serial := zonefile.NextSerial(a.serialStyle(), 0, a.Now())
	var b strings.Builder
	fmt.Fprintf(&b, starterHead, strings.TrimSuffix(zone.String(), "."), zone, servers[0].name.Relative(zone), contact.Relative(zone), serial, timerLines(timers))
	width := 15
	for _, sv := range servers {
		fmt.Fprintf(&b, "%-*s NS     %s\n", width, "@", sv.name.Relative(zone))
	}
	if slices.ContainsFunc(servers, func(sv starterServer) bool { return len(sv.addrs) > 0 }) {
		b.WriteString("\n; The servers' own addresses.\n")
	}
	for _, sv := range servers {
		for _, ip := range sv.addrs {
			t := rr.TypeA
			if ip.Is6() {
				t = rr.TypeAAAA
			}
			fmt.Fprintf(&b, "%-*s %-6s %s\n", width, sv.name.Relative(zone), t, ip)
		}
	}
	text, err := tidyText(b.String(), zone)
	if err != nil {
		return zone, "", err
	}
	if err := a.cleanText(zone, text); err != nil {
		return zone, "", err
	}
	return zone, text, nil
}

// tidyText puts a new file into the house style.
func tidyText(text string, zone dnsname.Name) (string, error) {
	var src source.Set
	f, err := src.Add(workspace.FileName(zone), []byte(text))
	if err != nil {
		return "", err
	}
	return string(zonefile.Tidy(zonefile.Parse(f, zonefile.Options{Origin: zone}, &diag.List{}))), nil
}

const starterHead = `; The zone %s
$ORIGIN %s
$TTL 3600       ; records may be cached for an hour where nothing else is said

@               SOA    %s %s (
                       %-10d ; serial: raised with every change, or secondaries will not see it
%s
; The servers that answer for this zone. The parent zone must list the same.
`

// timerLines are the times of the SOA, each with what it means.
func timerLines(values [4]uint32) string {
	var b strings.Builder
	for i, t := range soaTimers {
		value := fmt.Sprint(values[i])
		if i == len(soaTimers)-1 {
			value += " )"
		}
		fmt.Fprintf(&b, "                       %-10s ; %s\n", value, t.says(values[i]))
	}
	return b.String()
}

func starterServers(zone dnsname.Name, given []string) ([]starterServer, error) {
	if len(given) == 0 {
		given = []string{"ns1=" + checks.Placeholders[0].String(), "ns2=" + checks.Placeholders[1].String()}
	}
	var out []starterServer
	for _, g := range given {
		text, addrs, has := strings.Cut(g, "=")
		origin := zone
		if strings.Contains(text, ".") {
			origin = dnsname.Root // a whole name needs no final dot here
		}
		name, err := dnsname.Parse(text, origin)
		if err != nil {
			return nil, Usage("--ns %s: %v", g, err)
		}
		sv := starterServer{name: name}
		if has {
			for _, s := range strings.Split(addrs, ",") {
				ip, err := netip.ParseAddr(s)
				if err != nil {
					return nil, Usage("--ns %s: %q is not an address", g, s)
				}
				sv.addrs = append(sv.addrs, ip)
			}
		}
		if name.AtOrBelow(zone) && len(sv.addrs) == 0 {
			return nil, Usage("--ns %s: the server lies in the zone, so its address is needed: --ns %s=ADDRESS", g, text)
		}
		if !name.AtOrBelow(zone) && len(sv.addrs) > 0 {
			return nil, Usage("--ns %s: the server lies outside the zone, so its address does not belong in it: --ns %s", g, text)
		}
		out = append(out, sv)
	}
	return out, nil
}

// contactName turns a mailbox into the form of the SOA (RFC 1035 §3.3.13).
func contactName(zone dnsname.Name, text string) (dnsname.Name, error) {
	if text == "" {
		return zone.Child("hostmaster")
	}
	box, domain, mail := strings.Cut(text, "@")
	if !mail {
		n, err := dnsname.Parse(text, zone)
		if err != nil {
			return n, Usage("--contact %s: %v", text, err)
		}
		// A mailbox alone is of the zone; a whole name is one, with a final dot or not.
		if whole, err := dnsname.Parse(text, dnsname.Root); err == nil && whole.Labels() > 2 {
			return whole, nil
		}
		return n, nil
	}
	d, err := dnsname.Parse(domain, dnsname.Root)
	if err != nil || box == "" {
		return d, Usage("--contact %s is not a mailbox", text)
	}
	return d.Child(box)
}

// textLike makes a zone of another: the same records, with the new name in the
// place of the old wherever a name ends in it, and a first serial.
func (a *Files) textLike(zone dnsname.Name, s Starter) (string, error) {
	if len(s.Servers) > 0 || s.Contact != "" || s.Timers.given() {
		return "", Usage("--like takes servers, contact and timers from the pattern: leave --ns, --contact and the times out")
	}
	path, origin, err := a.ZoneFile(s.Like)
	if err != nil {
		return "", err
	}
	var src source.Set
	f, err := a.Reader().File(&src, path)
	if err != nil {
		return "", err
	}
	pattern := zonefile.Parse(f, zonefile.Options{Origin: origin, Open: a.Reader().Includes(&src, path, nil)}, &diag.List{})
	if pattern.SOA() == nil {
		return "", fmt.Errorf("%s has no SOA record that could be read; see: fencepost check %s", Shown(path), Shown(path))
	}
	ed := zonefile.NewEditor(pattern)
	if err := ed.SetSerial(zonefile.NextSerial(a.serialStyle(), 0, a.Now())); err != nil {
		return "", err
	}
	ed.Rename(pattern.Apex, zone)
	text := string(ed.Finish()[pattern.Source])
	return text, a.cleanText(zone, text)
}

// cleanText proves that a new file has nothing to be found.
func (a *Files) cleanText(zone dnsname.Name, text string) error {
	src := &source.Set{}
	f, err := src.Add(workspace.FileName(zone), []byte(text))
	if err != nil {
		return err
	}
	diags, err := a.checkText(zoneload.Text{Source: src, Main: f, Path: f.Name, Options: zonefile.Options{Origin: zone}})
	if err != nil {
		return err
	}
	for _, d := range diags.All {
		if d.Severity == diag.Error {
			return &RejectedError{src, diags}
		}
	}
	return nil
}

// NewSecret makes a random secret for TSIG, as long as the output of the hash
// (RFC 8945 §8), in base64.
func NewSecret() string {
	b := make([]byte, 32)
	_, _ = rand.Read(b) // never fails
	return base64.StdEncoding.EncodeToString(b)
}

// CreateZone writes a zone that the workspace does not have, and with listed enters it in the
// configuration.
func (a *Files) CreateZone(c *workspace.Config, zone dnsname.Name, text string, listed bool) (*Edited, error) {
	b, err := a.BeginIn(c.Dir)
	if err != nil {
		return nil, err
	}
	defer b.close()
	if err := b.create(c.File(zone), zone, text); err != nil {
		return nil, err
	}
	if listed {
		if err := b.list(zone); err != nil {
			return nil, err
		}
	}
	return b.finish(false)
}
