// Package worlds reads worlds of stand-in Internets from files, and plays them on loopback.
package worlds

import (
	"bytes"
	"context"
	_ "embed" // the demo's world
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"sync"
	"time"

	"github.com/pelletier/go-toml/v2"

	"fencepost/dnsname"
	"fencepost/netio"
	"fencepost/rr"
	"fencepost/sim"
)

// Demo is the world of the Saltmarsh Observatory, as a file.
//
//go:embed saltmarsh.toml
var Demo []byte

// form is a world as it is written. docs/worlds.md says what the keys mean.
type form struct {
	Seed   string `toml:"seed"`
	Server []struct {
		Name      string   `toml:"name"`
		Addresses []string `toml:"addresses"`
		GivesTo   []string `toml:"gives-to"`
		At        string   `toml:"at"`
	} `toml:"server"`
	Zone []struct {
		Name      string   `toml:"name"`
		Servers   []string `toml:"servers"`
		OwnNS     []string `toml:"own-ns"`
		Signed    bool     `toml:"signed"`
		Algorithm string   `toml:"algorithm"`
		NSEC3     bool     `toml:"nsec3"`
		Rolling   bool     `toml:"rolling"`
		Serial    uint32   `toml:"serial"`
		Records   string   `toml:"records"`
	} `toml:"zone"`
	Resolver []struct {
		Name      string   `toml:"name"`
		Addresses []string `toml:"addresses"`
		Trusting  bool     `toml:"trusting"`
	} `toml:"resolver"`
	Registry []struct {
		Zone  string `toml:"zone"`
		Every string `toml:"every"`
		First bool   `toml:"first"`
	} `toml:"registry"`
	Fault []struct {
		Kind    string   `toml:"kind"`
		Server  string   `toml:"server"`
		Address string   `toml:"address"`
		Zone    string   `toml:"zone"`
		From    string   `toml:"from"`
		Until   string   `toml:"until"`
		Delay   string   `toml:"delay"`
		Size    int      `toml:"size"`
		Records string   `toml:"records"`
		Host    string   `toml:"host"`
		Glue    []string `toml:"glue"`
		NS      []string `toml:"ns"`
		Type    string   `toml:"type"`
		Says    string   `toml:"says"`
	} `toml:"fault"`
}

// Read reads a world. Errors say where in the file.
func Read(text []byte) (*sim.World, error) {
	var in form
	d := toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields()
	if err := d.Decode(&in); err != nil {
		return nil, explain(err)
	}
	r := reader{}
	w := &sim.World{Seed: in.Seed}
	for _, s := range in.Server {
		server := sim.Server{Name: r.name(s.Name), Addrs: r.addrs(s.Addresses), GivesTo: r.addrs(s.GivesTo)}
		if s.At != "" {
			server.At = r.place(s.At)
		}
		w.Servers = append(w.Servers, server)
	}
	for _, z := range in.Zone {
		w.Zones = append(w.Zones, sim.Zone{Name: r.name(z.Name), Servers: r.names(z.Servers), OwnNS: r.names(z.OwnNS), Signed: z.Signed,
			Algorithm: r.algorithm(z.Algorithm), NSEC3: z.NSEC3, Rolling: z.Rolling, Serial: z.Serial, Records: z.Records})
	}
	for _, s := range in.Resolver {
		w.Resolvers = append(w.Resolvers, sim.Resolver{Name: s.Name, Addrs: r.addrs(s.Addresses), Trusting: s.Trusting})
	}
	for _, g := range in.Registry {
		w.Registries = append(w.Registries, sim.Registry{Zone: r.name(g.Zone), Every: r.duration(g.Every), First: g.First})
	}
	for _, f := range in.Fault {
		fault := sim.Fault{Kind: sim.Kind(f.Kind), Server: r.optional(f.Server), Zone: r.optional(f.Zone), From: r.duration(f.From), Until: r.duration(f.Until),
			Delay: r.duration(f.Delay), Size: f.Size, Records: f.Records, Host: r.optional(f.Host), Glue: r.addrs(f.Glue), NS: r.names(f.NS)}
		fault.Says = sim.Says(f.Says)
		if f.Type != "" {
			t, known := rr.ParseType(f.Type)
			if !known {
				r.fail(fmt.Errorf("%q is not a record type", f.Type))
			}
			fault.Type = t
		}
		if f.Address != "" {
			fault.Addr = r.addr(f.Address)
		}
		w.Faults = append(w.Faults, fault)
	}
	if r.err != nil {
		return nil, r.err
	}
	return w, w.Check()
}

// explain says where a file cannot be read.
func explain(err error) error {
	var syntax *toml.DecodeError
	var unknown *toml.StrictMissingError
	switch {
	case errors.As(err, &unknown) && len(unknown.Errors) > 0:
		line, _ := unknown.Errors[0].Position()
		return fmt.Errorf("line %d: worlds have no key %s", line, strings.Join(unknown.Errors[0].Key(), "."))
	case errors.As(err, &syntax):
		line, column := syntax.Position()
		return fmt.Errorf("line %d, column %d: %s", line, column, syntax.Error())
	}
	return err
}

// reader reads values and keeps the first error.
type reader struct{ err error }

func (r *reader) fail(err error) {
	if r.err == nil {
		r.err = err
	}
}

func (r *reader) optional(text string) dnsname.Name {
	if text == "" {
		return dnsname.Name{}
	}
	return r.name(text)
}

func (r *reader) name(text string) dnsname.Name {
	n, err := dnsname.Parse(text, dnsname.Root)
	if err != nil {
		r.fail(fmt.Errorf("%q is not a name: %w", text, err))
	}
	return n
}

func (r *reader) names(texts []string) (out []dnsname.Name) {
	for _, t := range texts {
		out = append(out, r.name(t))
	}
	return out
}

func (r *reader) addr(text string) netip.Addr {
	a, err := netip.ParseAddr(text)
	if err != nil {
		r.fail(fmt.Errorf("%q is not an address", text))
	}
	return a
}

func (r *reader) place(text string) netip.AddrPort {
	at, err := netip.ParseAddrPort(text)
	if err != nil {
		r.fail(fmt.Errorf("%q is not an address with a port; write 127.0.0.1:5300", text))
	}
	return at
}

func (r *reader) addrs(texts []string) (out []netip.Addr) {
	for _, t := range texts {
		out = append(out, r.addr(t))
	}
	return out
}

func (r *reader) duration(text string) time.Duration {
	if text == "" {
		return 0
	}
	d, err := time.ParseDuration(text)
	if err != nil {
		r.fail(fmt.Errorf("%q is not a time; write 90m or 48h", text))
	}
	return d
}

func (r *reader) algorithm(text string) rr.AlgorithmNumber {
	if text == "" {
		return 0
	}
	n, ok := rr.ParseAlgorithm(text)
	if !ok || n != 13 && n != 15 {
		r.fail(fmt.Errorf("a world has keys of ECDSAP256SHA256 and ED25519, not %q", text))
	}
	return n
}

// World is a world on loopback.
type World struct {
	*sim.Internet
	Places map[netip.Addr]netip.AddrPort // where each address of the world is reached
	stop   func()
}

// Play brings a world up on ports of loopback that the system chooses, in which it is the time of
// clock.
func Play(ctx context.Context, w *sim.World, clock netio.Clock) (*World, error) {
	n, err := sim.New(w, clock)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(ctx)
	var wg sync.WaitGroup
	place := func(netip.Addr) sim.Place {
		return sim.Place{Net: netio.System, At: netip.AddrPortFrom(netip.AddrFrom4([4]byte{127, 0, 0, 1}), 0)}
	}
	reach := func(_ netip.Addr, places map[netip.Addr]netip.AddrPort) netio.Network {
		return netio.Redirect(netio.Loopback(netio.System), places)
	}
	places, err := n.Serve(ctx, place, reach, &wg)
	if err != nil {
		cancel()
		return nil, err
	}
	return &World{n, places, func() { cancel(); wg.Wait() }}, nil
}

// Net is the network on which the world is reached.
func (p *World) Net() netio.Network { return netio.Redirect(netio.Loopback(netio.System), p.Places) }

// Stop ends it.
func (p *World) Stop() { p.stop() }
