package ops

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/internal/edit"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/transfer"
	"fencepost/wholefile"
	"fencepost/workspace"
	"fencepost/zone"
	"fencepost/zonefile"
	"fencepost/zoneload"
)

// Pull says what zone to take over from where.
type Pull struct {
	Zone string
	From string // a peer's name or a host; its server hands the zone over
	File string // or a master file, taken as it is; - is Stdin
	// Stdin is what is read for File = "-".
	Stdin io.Reader
	// Unsigned leaves out of File what a signer made.
	Unsigned bool
	Key      string // name of the secret for the transfer
	Out      string // where to write; empty: the workspace; - is left to the caller
}

// Pulled is a zone that was taken over.
type Pulled struct {
	Zone    dnsname.Name
	Serial  uint32
	Records int
	Left    map[string]int // records left out, by type
	Notes   []string       // what else was changed on the way
	Files   []string       // written
	Text    []byte         // the master file
	Source  *source.Set
	Diags   *diag.List // what check says of it
}

// Pull takes a zone over: by transfer, written as a tidy master file without the
// records that a signer made, or from a file, octet for octet. It goes into the
// workspace and is listed in fencepost.toml, or to a file of its own. What check
// finds comes with it; the error wraps ErrFindings when there are errors.
func (a *App) Pull(ctx context.Context, o Pull) (*Pulled, error) {
	name, err := edit.WholeName(o.Zone)
	if err != nil {
		return nil, edit.Usage("the zone %q: %v", o.Zone, err)
	}
	if (o.From == "") == (o.File == "") {
		return nil, edit.Usage("say where to get the zone: --from HOST for a transfer, or --file FILE")
	}
	if edit.IsFile(o.From) {
		return nil, edit.Usage("--from %s is a file, not a server: write --file %s", o.From, o.From)
	}
	p := &Pulled{Zone: name, Left: map[string]int{}, Source: &source.Set{}}
	if o.File != "" {
		if err := a.takeFile(o, p); err != nil {
			return nil, err
		}
	} else if err := a.pullFrom(ctx, o, p); err != nil {
		return nil, err
	}
	path, err := a.pullTo(o, p)
	if err != nil {
		return nil, err
	}
	includes := pulledIncludes{}
	if o.File != "" && o.File != "-" {
		includes = includesOf(p, o.File)
	}
	f, err := p.Source.Add(edit.Shown(path), p.Text)
	if err != nil {
		return nil, err
	}
	found, settings := &diag.List{}, a.Settings()
	t := a.Reader().Text(p.Source, f, path, name, includes.at(path))
	t.Want = name
	if z, err := a.Reader().ReadAndCheck(t, found); err == nil {
		p.Serial, p.Records = z.Serial(), z.Records()
	}
	p.Diags = settings.Settle(found, p.Source.Files(), false)
	p.Diags.Sort()
	if err := a.writePulled(o, p, path, includes); err != nil {
		return nil, err
	}
	if p.Diags.Count(diag.Error) > 0 {
		return p, edit.ErrFindings
	}
	return p, nil
}

func (a *App) pullFrom(ctx context.Context, o Pull, p *Pulled) error {
	z, err := a.fetch(ctx, p.Zone, o.From, o.Key)
	var refused *transfer.RefusedError
	if errors.As(err, &refused) {
		z, err = a.readFrom(ctx, o, p, refused)
	}
	if err != nil {
		return err
	}
	p.Text, err = masterFile(z, o.From, p.Left)
	return err
}

// readFrom reads a zone by asking, where it is not handed over: along its NSEC records, or by
// usual names. How complete it is stands in the notes.
func (a *App) readFrom(ctx context.Context, o Pull, p *Pulled, refused error) (*zone.Snapshot, error) {
	servers, err := a.servers(ctx, o.From)
	if err != nil {
		return nil, err
	}
	got, err := (&resolve.Asker{Net: a.Net}).Read(ctx, servers[0], p.Zone)
	if err != nil {
		return nil, fmt.Errorf("%w; and asking for names: %w", refused, err)
	}
	p.Notes = append(p.Notes, refused.Error())
	if got.Complete {
		p.Notes = append(p.Notes, fmt.Sprintf("it was read by asking instead, along its NSEC records: the server proves that these %d names are all there are", got.Names))
	} else {
		p.Notes = append(p.Notes, fmt.Sprintf("%s; so %d usual names were asked for, and %d have records: whatever has another name IS MISSING", got.Why, len(resolve.Usual), got.Names))
	}
	return snapshotOf(p.Zone, got.Records)
}

// takeFile takes a master file over as it is, but for ranges, which are written out,
// and with Unsigned what a signer made. Comments stay, and so does what cannot be
// read, for check to tell.
func (a *App) takeFile(o Pull, p *Pulled) error {
	text, err := a.pulledText(o)
	if err != nil {
		return err
	}
	src := &source.Set{}
	f, err := src.Add(fileName(o.File), text)
	if err != nil {
		return err
	}
	if _, cut := zonefile.CutOff(text); cut {
		p.Notes = append(p.Notes, fmt.Sprintf("the last line of %s has no end: look whether the file was cut off while it was copied", fileName(o.File)))
	}
	var done []zonefile.Expanded
	if p.Text, done = zonefile.ExpandRanges(f); len(done) > 0 {
		for _, d := range done {
			p.Notes = append(p.Notes, fmt.Sprintf("line %d of %s, which no standard knows, was written out as %d records", d.Line, fileName(o.File), d.Records))
		}
	}
	if !o.Unsigned {
		return nil
	}
	if f, err = src.Add(fileName(o.File), p.Text); err != nil {
		return err
	}
	file := zonefile.Parse(f, zonefile.Options{Origin: p.Zone, Open: a.Reader().Includes(src, o.File, nil)}, &diag.List{})
	ed := zonefile.NewEditor(file)
	for _, e := range file.Entries {
		if e.Kind == zonefile.Record && rr.MadeBySigner(e.Type) {
			ed.Remove(e)
			p.Left[e.Type.String()]++
		}
	}
	if text, changed := ed.Finish()[f]; changed {
		p.Text = text
	}
	if f, err = src.Add(fileName(o.File), p.Text); err != nil {
		return err
	}
	p.Text = zonefile.Tidy(zonefile.Parse(f, zonefile.Options{Origin: p.Zone, Open: a.Reader().Includes(src, o.File, nil)}, &diag.List{}))
	return nil
}

// pulledText is the master file to be taken.
func (a *App) pulledText(o Pull) ([]byte, error) {
	if o.File != "-" {
		return wholefile.Read(o.File, zoneload.MaxFile)
	}
	text, err := io.ReadAll(io.LimitReader(o.Stdin, zoneload.MaxFile+1))
	if err == nil && len(text) > zoneload.MaxFile {
		err = fmt.Errorf("%s has more than %d octets", edit.StdinName, zoneload.MaxFile)
	}
	return text, err
}

// pullTo is the path that a zone is written to.
func (a *App) pullTo(o Pull, p *Pulled) (string, error) {
	switch o.Out {
	case "-":
		return workspace.FileName(p.Zone), nil
	case "":
		c, err := a.Config()
		if err != nil {
			return "", fmt.Errorf("the zone goes into a workspace, or to a file with -o FILE: %w", err)
		}
		o.Out = c.File(p.Zone)
	}
	if _, err := os.Stat(o.Out); err == nil {
		return "", fmt.Errorf("%s exists already; nothing was written over it", edit.Shown(o.Out))
	}
	return o.Out, nil
}

// writePulled writes the file with what it includes, and lists the zone unless it has errors: a server
// would refuse to load it, and edits of all zones would meet them.
func (a *App) writePulled(o Pull, p *Pulled, path string, includes pulledIncludes) error {
	if o.Out == "-" {
		return nil
	}
	if err := includes.write(p, path); err != nil {
		return err
	}
	if o.Out != "" {
		p.Files = append(p.Files, edit.Shown(path))
		return edit.WriteFile(path, p.Text)
	}
	c, err := a.Config()
	if err != nil {
		return err
	}
	broken := p.Diags.Count(diag.Error) > 0
	done, err := a.CreateZone(c, p.Zone, string(p.Text), !broken)
	if err != nil {
		return err
	}
	for _, f := range done.Files {
		p.Files = append(p.Files, f.Path)
	}
	if broken {
		p.Notes = append(p.Notes, fmt.Sprintf("NOT LISTED in fencepost.toml, for it has errors: mend them (fencepost check %s), then add a section [[zone]] with name = %q", edit.Shown(path), p.Zone.Plain()))
	}
	return nil
}

// masterFile writes a zone as a person would: the most frequent TTL once at the
// head, the SOA with its numbers explained, names relative to the zone. Records
// that a signer makes are left out and counted.
func masterFile(z *zone.Snapshot, from string, left map[string]int) ([]byte, error) {
	soa, ok := z.SOA()
	if !ok {
		return nil, fmt.Errorf("the zone came without its SOA record")
	}
	ttl := commonTTL(z)
	plain := strings.TrimSuffix(z.Apex().String(), ".")
	var b bytes.Buffer
	w := bufio.NewWriter(&b)
	fmt.Fprintf(w, "; The zone %s, taken over from %s at serial %d\n$ORIGIN %s\n$TTL %d\n\n", plain, from, soa.Serial, z.Apex(), ttl)
	fmt.Fprintf(w, "@ SOA %s %s (\n%d ; serial\n%d ; refresh: secondaries look for a new version this often\n%d ; retry: and this often while the primary does not answer\n"+
		"%d ; expire: after so long without the primary they stop answering\n%d ) ; minimum: so long a missing name is remembered as missing\n",
		soa.MName.Relative(z.Apex()), soa.RName.Relative(z.Apex()), soa.Serial, soa.Refresh, soa.Retry, soa.Expire, soa.Minimum)
	for n := range z.AllNodes {
		owner := z.Owner(n).Relative(z.Apex())
		for set := range n.RRsets {
			if set.Type == rr.TypeSOA {
				continue
			}
			if rr.MadeBySigner(set.Type) {
				left[set.Type.String()] += set.N
				continue
			}
			for data := range set.Data {
				fmt.Fprintf(w, "%s ", owner)
				if set.TTL != ttl {
					fmt.Fprintf(w, "%d ", set.TTL)
				}
				fmt.Fprintf(w, "%s %s\n", set.Type, edit.RelativeData(z.Apex(), set.Type, data))
			}
		}
	}
	if err := w.Flush(); err != nil {
		return nil, err
	}
	var src source.Set
	f, err := src.Add(plain, b.Bytes())
	if err != nil {
		return nil, err
	}
	return zonefile.Tidy(zonefile.Parse(f, zonefile.Options{Origin: z.Apex()}, &diag.List{})), nil
}

// commonTTL is the TTL that most record sets of a zone have.
func commonTTL(z *zone.Snapshot) (ttl uint32) {
	count := map[uint32]int{}
	for n := range z.Nodes {
		for set := range n.RRsets {
			if rr.MadeBySigner(set.Type) {
				continue
			}
			if count[set.TTL]++; count[set.TTL] > count[ttl] {
				ttl = set.TTL
			}
		}
	}
	return ttl
}
