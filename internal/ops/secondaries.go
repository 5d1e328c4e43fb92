package ops

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"sync"
	"time"

	"fencepost/dnsname"
	"fencepost/internal/edit"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
)

// ServerSerial is what one server of a zone says.
type ServerSerial struct {
	Name    string `json:"name"`
	Address string `json:"address"`
	Serial  uint32 `json:"serial,omitempty"`
	State   string `json:"state"` // in step, behind, silent, wrong, or source
	Problem string `json:"problem,omitempty"`
	Millis  int64  `json:"milliseconds"`
}

// feeds is the state of a primary whose zone is signed here: it serves the unsigned zone
// with a serial of its own, which is compared with none.
const feeds = "source"

// InStep is the result of Secondaries.
type InStep struct {
	Zone    dnsname.Name
	Serial  uint32 // the newest that was seen, or that of the reference
	Servers []ServerSerial
}

// ErrBehind says that not all servers have the newest version.
var ErrBehind = errors.New("not all servers are in step")

// Secondaries compares the serials at all servers of a zone: the one of this
// workspace, the peers it is sent to or fetched from, and those given.
func (a *App) Secondaries(ctx context.Context, zoneName string, extra []string, timeout time.Duration) (*InStep, error) {
	name, err := dnsname.Parse(zoneName, dnsname.Root)
	if err != nil {
		return nil, edit.Usage("the zone %q: %v", zoneName, err)
	}
	type target struct {
		name  string
		addr  netip.AddrPort
		feeds bool // we sign what comes from it: its serial is its own
	}
	var targets []target
	if c, err := a.Config(); err == nil {
		if z := c.Find(name); z != nil {
			targets = append(targets, target{"here", listening(ctx, c), false})
			for _, p := range z.SendTo {
				targets = append(targets, target{p.Name, p.Address, false})
			}
			for _, p := range z.FetchFrom {
				targets = append(targets, target{p.Name, p.Address, z.Sign != nil})
			}
		}
	}
	for _, s := range extra {
		addrs, err := a.servers(ctx, s)
		if err != nil {
			return nil, err
		}
		targets = append(targets, target{s, addrs[0], false})
	}
	if len(targets) == 0 {
		return nil, edit.Usage("the zone %s is not in this workspace: say which servers to ask with --at HOST", name)
	}
	res := &InStep{Zone: name, Servers: make([]ServerSerial, len(targets))}
	var wg sync.WaitGroup
	for i, t := range targets {
		wg.Go(func() {
			s := a.serialAt(ctx, name, t.name, t.addr, timeout)
			if t.feeds && s.State == "" {
				s.State = feeds
			}
			res.Servers[i] = s
		})
	}
	wg.Wait()
	return res, res.judge()
}

func (a *App) serialAt(ctx context.Context, zoneName dnsname.Name, name string, addr netip.AddrPort, timeout time.Duration) ServerSerial {
	s := ServerSerial{Name: name, Address: addr.String()}
	resp, err := resolve.Ask(ctx, addr, resolve.Request{Net: a.Net, Name: zoneName, Type: rr.TypeSOA, Timeout: timeout})
	if err != nil {
		s.State, s.Problem = "silent", err.Error()
		return s
	}
	s.Millis = resp.Elapsed.Milliseconds()
	for _, r := range resp.Answer {
		if soa, err := rr.ParseSOA(r.Data); r.Type == rr.TypeSOA && err == nil && resp.Flags&message.FlagAA != 0 {
			s.Serial = soa.Serial
			return s
		}
	}
	s.State, s.Problem = "wrong", "it does not answer for the zone: "+resp.Rcode().Description()
	if resp.Rcode() == message.NoError {
		s.Problem = "its answer is not authoritative"
	}
	return s
}

// judge compares the serials.
func (r *InStep) judge() error {
	first := true
	for _, s := range r.Servers {
		if s.State == "" && (first || rr.NewerSerial(s.Serial, r.Serial)) {
			r.Serial, first = s.Serial, false
		}
	}
	behind := false
	for i := range r.Servers {
		s := &r.Servers[i]
		switch {
		case s.State == feeds:
		case s.State != "":
			behind = true
		case s.Serial == r.Serial:
			s.State = "in step"
		default:
			s.State = "behind"
			behind = true
		}
	}
	if behind {
		return fmt.Errorf("%s: %w: %w", strings.TrimSuffix(r.Zone.String(), "."), ErrBehind, edit.ErrFindings)
	}
	return nil
}
