package edit

import (
	"bytes"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/source"
	"fencepost/wholefile"
	"fencepost/workspace"
	"fencepost/zonefile"
	"fencepost/zoneload"
)

// partSuffix ends the names of files that several zones include.
const partSuffix = ".part"

// Audience says for which askers a zone gets answers of its own.
type Audience struct {
	Zone     string
	Name     string
	Networks []string // of a new audience
	Dry      bool
}

// AddAudience gives a zone a file of its own for the askers of an audience. What
// both files have is written once: the records of the zone go to a file that both
// include, and each keeps its SOA. Records for one audience only are then moved
// or added by hand, or with add ZONE@AUDIENCE.
func (a *Files) AddAudience(o Audience) (*Edited, error) {
	c, err := a.Config()
	if err != nil {
		return nil, err
	}
	b, err := a.BeginIn(c.Dir)
	if err != nil {
		return nil, err
	}
	defer b.close()
	e, err := b.open(o.Zone)
	if err != nil {
		return nil, err
	}
	zone := e.file.Apex
	z := c.Find(zone)
	if z == nil || !z.HasFile() {
		return nil, Usage("%s is not a zone of fencepost.toml with a file here", zone)
	}
	head, part, err := e.sharedPart(c)
	if err != nil {
		return nil, err
	}
	path := c.AudienceFile(zone, o.Name)
	intro := fmt.Sprintf("; The zone %s as the audience %s sees it. What all see is in %s.\n", strings.TrimSuffix(zone.String(), "."), o.Name, filepath.Base(part))
	if err := b.create(path, zone, intro+head); err != nil {
		return nil, err
	}
	if err := b.enterAudience(c, zone, o); err != nil {
		return nil, err
	}
	return b.finish(o.Dry)
}

// sharedPart moves the records of a zone but its SOA into a file that it includes,
// unless it has one already, and returns what stands in front of that: the head
// of a file for another audience.
func (e *ZoneEdit) sharedPart(c *workspace.Config) (head, part string, err error) {
	part = strings.TrimSuffix(c.File(e.file.Apex), workspace.ZoneSuffix) + partSuffix
	include := "$INCLUDE " + filepath.Base(part) + "\n"
	soa := e.file.SOA()
	if soa.File != e.file.Source {
		return "", "", fmt.Errorf("the SOA of %s stands in a file that it includes; each audience needs one of its own", e.file.Apex)
	}
	content := e.file.Source.Content
	end := e.file.Source.Offset(soa.Span.End)
	if _, err := os.Stat(part); err == nil {
		if !bytes.Contains(content, []byte(strings.TrimSpace(include))) {
			return "", "", fmt.Errorf("%s exists and %s does not include it; put $INCLUDE there first", Shown(part), Shown(e.path))
		}
		return string(content[:end]) + "\n" + include, part, nil
	}
	rest := bytes.TrimLeft(content[end:], "\n")
	if rest, err = ownersStated(e, end, rest); err != nil {
		return "", "", err
	}
	if err := e.b.create(part, dnsname.Name{}, "; What all askers see of "+strings.TrimSuffix(e.file.Apex.String(), ".")+"\n"+string(rest)); err != nil {
		return "", "", err
	}
	head = string(content[:end]) + "\n" + include
	e.ed.ReplaceFrom(end, "\n"+include)
	return head, part, nil
}

// ownersStated makes sure that the text after the SOA can stand alone: its first
// record states its owner.
func ownersStated(e *ZoneEdit, from int, rest []byte) ([]byte, error) {
	for _, r := range e.file.Entries {
		if r.Kind != zonefile.Record || e.file.Source.Offset(r.Span.Start) < from {
			continue
		}
		if r.OwnerTok >= 0 {
			return rest, nil
		}
		at := len(rest) - (len(e.file.Source.Content) - e.file.Source.Offset(r.Span.Start))
		if at < 0 {
			return nil, fmt.Errorf("%s is laid out in a way that cannot be taken apart", Shown(e.path))
		}
		owner, err := dnsname.FromWire(r.Owner)
		if err != nil {
			return nil, err
		}
		text := owner.Relative(e.file.Apex)
		line := rest[at:]
		blanks := len(line) - len(bytes.TrimLeft(line, " \t"))
		pad := strings.Repeat(" ", max(1, blanks-len(text)))
		return append(append(bytes.Clone(rest[:at]), text+pad...), line[blanks:]...), nil
	}
	return rest, nil
}

// enterAudience lists the audience in fencepost.toml: its section, and its name in
// that of the zone.
func (b *Transaction) enterAudience(c *workspace.Config, zone dnsname.Name, o Audience) error {
	path := filepath.Join(c.Dir, workspace.ConfigFile)
	old, err := wholefile.Read(path, zoneload.MaxFile)
	if err != nil {
		return err
	}
	text := string(old)
	if c.Audiences[o.Name] == nil {
		if len(o.Networks) == 0 {
			return Usage("%s is a new audience: say where its askers are with --network", o.Name)
		}
		var nets []string
		for _, n := range o.Networks {
			if _, err := netip.ParsePrefix(n); err != nil {
				return Usage("--network %s is not a network: write ADDRESS/LENGTH", n)
			}
			nets = append(nets, fmt.Sprintf("%q", n))
		}
		text += fmt.Sprintf("\n[audience.%s]\nnetworks = [%s]\n", o.Name, strings.Join(nets, ", "))
	}
	line := regexp.MustCompile(`(?mi)^(\s*name\s*=\s*"` + regexp.QuoteMeta(strings.TrimSuffix(zone.String(), ".")) + `\.?".*\n)(\s*audiences\s*=\s*\[)?`)
	if !line.MatchString(text) {
		return fmt.Errorf("the section of %s in %s is written in a way that cannot be changed from here; add: audiences = [%q]", zone, workspace.ConfigFile, o.Name)
	}
	text = line.ReplaceAllStringFunc(text, func(m string) string {
		if strings.HasSuffix(m, "[") {
			return m + fmt.Sprintf("%q, ", o.Name)
		}
		return m + fmt.Sprintf("audiences = [%q]\n", o.Name)
	})
	// What comes out must be a configuration.
	src, diags := &source.Set{}, &diag.List{}
	f, err := src.Add(Shown(path), []byte(text))
	if err != nil {
		return err
	}
	if again, err := workspace.LoadText(c.Dir, f, src, diags); err != nil || again == nil {
		return &ConfigError{src, diags}
	}
	file := &EditedFile{Path: Shown(path), Diags: &diag.List{}, path: path, old: old, text: []byte(text)}
	file.Removed, file.Added = lineChanges(old, []byte(text))
	b.fresh = append(b.fresh, file)
	return nil
}
