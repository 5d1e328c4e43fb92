package ops

import (
	"context"
	"fmt"
	"net/netip"
	"path"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/internal/edit"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zone"
	"fencepost/zonefile"
)

// Find says what to look for: a name, where * and ? stand for anything, an
// address or a network, and perhaps only in records of one type or with a text
// in their data.
type Find struct {
	Pattern string
	Type    string
	Text    string
	Zones   []string // files or zones; none: all of the workspace
}

// Hit is a record that was found.
type Hit struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Zone   string `json:"zone"`
	Name   string `json:"name"`
	TTL    uint32 `json:"ttl"`
	Type   string `json:"type"`
	Data   string `json:"data"`
	Aside  string `json:"set_aside,omitempty"` // who set it aside, when and why; empty: it is in the zone
}

// finder is a search that has been understood.
type finder struct {
	net     netip.Prefix // for addresses
	pattern string       // for names, in lower case without final dot
	t       rr.Type
	text    string // in lower case
	reverse dnsname.Name
}

// Find looks through zone files and calls found for each record that fits, in the
// order of the zones. More than max are only counted; n is the number of all.
func (a *App) Find(ctx context.Context, f Find, max int, found func(Hit) error) (n int, err error) {
	fd, err := newFinder(f)
	if err != nil {
		return 0, err
	}
	paths, err := a.ZoneFiles(f.Zones)
	if err != nil {
		return 0, err
	}
	for _, path := range paths {
		if err := ctx.Err(); err != nil {
			return n, err
		}
		var src source.Set
		t, err := a.Reader().Open(&src, path, edit.OriginOf(path))
		if err != nil {
			return n, err
		}
		z, err := a.Reader().Read(t, &diag.List{})
		if err != nil { // check says what is wrong with it
			continue
		}
		one := func(h Hit) error {
			if n++; n > max {
				return nil
			}
			return found(h)
		}
		if err := fd.zone(z, &src, one); err != nil {
			return n, err
		}
		if len(z.Asides) > 0 {
			if err := a.asides(fd, z, path, one); err != nil {
				return n, err
			}
		}
	}
	return n, nil
}

func newFinder(f Find) (*finder, error) {
	fd := &finder{text: strings.ToLower(f.Text)}
	if f.Type != "" {
		t, err := edit.ParseType(f.Type)
		if err != nil {
			return nil, err
		}
		fd.t = t
	}
	if f.Pattern == "" {
		if f.Type == "" && f.Text == "" {
			return nil, edit.Usage("say what to look for: a name, an address, a network, --type or --text")
		}
		fd.pattern = "*"
		return fd, nil
	}
	if ip, err := netip.ParseAddr(f.Pattern); err == nil {
		fd.net = netip.PrefixFrom(ip, ip.BitLen())
		fd.reverse = dnsname.Reverse(ip)
		return fd, nil
	}
	if p, err := netip.ParsePrefix(f.Pattern); err == nil {
		fd.net = p.Masked()
		return fd, nil
	}
	pattern, err := edit.ALabels(f.Pattern)
	if err != nil {
		return nil, err
	}
	fd.pattern = strings.ToLower(strings.TrimSuffix(pattern, "."))
	if _, err := path.Match(fd.pattern, ""); err != nil {
		return nil, edit.Usage("%q is not a pattern: * stands for any characters, ? for one, [a-f] for one of several", f.Pattern)
	}
	return fd, nil
}

func (fd *finder) zone(z *zonefile.Loaded, src *source.Set, found func(Hit) error) error {
	at := 0
	for n := range z.Nodes {
		owner := z.Owner(n)
		for set := range n.RRsets {
			i := 0
			for data := range set.Data {
				if fd.fits(z, owner, set, data) {
					p := src.Position(z.Positions[at+i])
					if err := found(Hit{File: p.File, Line: p.Line, Column: p.Column, Zone: z.Apex().String(), Name: owner.String(), TTL: set.TTL, Type: set.Type.String(), Data: rr.DataText(set.Type, data)}); err != nil {
						return err
					}
				}
				i++
			}
			at += set.N
		}
	}
	return nil
}

// asides calls found for what is set aside in a file and fits.
func (a *App) asides(fd *finder, z *zonefile.Loaded, path string, found func(Hit) error) error {
	var src source.Set
	f, err := a.Reader().File(&src, path)
	if err != nil {
		return err
	}
	parsed := zonefile.Parse(f, zonefile.Options{Origin: z.Apex(), Open: a.Reader().Includes(&src, path, nil)}, &diag.List{})
	for _, x := range parsed.Asides() {
		set := zone.NewRRset(x.Type, 0, [][]byte{x.Data})
		if !fd.fits(z, x.Owner, set, x.Data) {
			continue
		}
		p := src.Position(x.Pos())
		if err := found(Hit{File: p.File, Line: p.Line, Column: p.Column, Zone: z.Apex().String(), Name: x.Owner.String(), Type: x.Type.String(), Data: rr.DataText(x.Type, x.Data),
			Aside: fmt.Sprintf("%s by %s, because %s", x.Day.UTC().Format("2006-01-02"), x.Who, x.Why)}); err != nil {
			return err
		}
	}
	return nil
}

func (fd *finder) fits(z *zonefile.Loaded, owner dnsname.Name, set zone.RRset, data []byte) bool {
	if fd.t != 0 && set.Type != fd.t {
		return false
	}
	if fd.text != "" && !strings.Contains(strings.ToLower(rr.DataText(set.Type, data)), fd.text) {
		return false
	}
	if fd.net.IsValid() {
		return fd.address(owner, set.Type, data)
	}
	if fd.name(owner, z.Apex()) {
		return true
	}
	for it := rr.NewParts(set.Type, data); it.Next(); {
		if is, _ := it.IsName(); is {
			if n, err := dnsname.FromWire(it.Bytes); err == nil && fd.pattern != "*" && fd.name(n, z.Apex()) {
				return true
			}
		}
	}
	return false
}

// address reports whether a record is about an address of the network: it holds
// one, or its owner is the reverse name of one.
func (fd *finder) address(owner dnsname.Name, t rr.Type, data []byte) bool {
	if ip, ok := edit.AddressOf(t, data); ok {
		return fd.net.Contains(ip)
	}
	if ip, ok := dnsname.AddrOf(owner); ok {
		return fd.net.Contains(ip)
	}
	return fd.net.IsSingleIP() && t != rr.TypeSOA && strings.Contains(rr.DataText(t, data), fd.net.Addr().String())
}

// name reports whether a name fits the pattern, as a whole or as it is written in
// the zone.
func (fd *finder) name(n, apex dnsname.Name) bool {
	whole := strings.ToLower(strings.TrimSuffix(n.String(), "."))
	if ok, _ := path.Match(fd.pattern, whole); ok {
		return true
	}
	if !n.Below(apex) {
		return false
	}
	ok, _ := path.Match(fd.pattern, strings.ToLower(n.Relative(apex)))
	return ok
}
