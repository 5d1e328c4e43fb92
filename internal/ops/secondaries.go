package ops

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/expect"
	"fencepost/internal/edit"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/source"
)

// InStepOptions of Secondaries.
type InStepOptions struct {
	Zone    string
	At      []string // further servers; "all": every address of the zone's servers, by its delegation
	Serial  string   // that all must have: a number, or "file" for that of the zone's file; empty: the newest seen
	Timeout time.Duration
}

// ServerSerial is what one server of a zone says.
type ServerSerial struct {
	Name    string `json:"name"`
	Address string `json:"address"`
	Serial  uint32 `json:"serial,omitempty"`
	State   string `json:"state"` // in step, behind, other content, silent, wrong, or source
	Problem string `json:"problem,omitempty"`
	Millis  int64  `json:"milliseconds"`
	// Answers stands for what it answers to some questions of the zone: equal where that is.
	Answers string `json:"answers,omitempty"`
	TCP     bool   `json:"tcp"` // it answers over TCP
}

// isSource is the state of a primary whose zone is signed here: it serves the unsigned zone
// with a serial of its own, which is compared with none.
const isSource = "source"

// inStep is the state of a server that has the version.
const inStep = "in sync"

// InStep is the result of Secondaries.
type InStep struct {
	Zone    dnsname.Name
	Serial  uint32 // the newest that was seen, or that of the reference
	Servers []ServerSerial
	Asked   int // questions that Answers is of
}

// ErrBehind says that not all servers have the newest version.
var ErrBehind = errors.New("not all servers are in sync")

// asksServer is a server of a zone.
type asksServer struct {
	target
	feeds bool // we sign what comes from it: its serial is its own
}

// Secondaries compares the serials at all servers of a zone, and what they answer: the one of
// this workspace, the peers it is sent to or fetched from, and those given.
func (a *App) Secondaries(ctx context.Context, o InStepOptions) (*InStep, error) {
	name, err := edit.WholeName(o.Zone)
	if err != nil {
		return nil, edit.Usage("the zone %q: %v", o.Zone, err)
	}
	targets, err := a.zoneServers(ctx, name, o)
	if err != nil {
		return nil, err
	}
	want, given, err := a.wantedSerial(name, o.Serial)
	if err != nil {
		return nil, err
	}
	questions := a.sample(name)
	res := &InStep{Zone: name, Servers: make([]ServerSerial, len(targets)), Asked: len(questions)}
	var wg sync.WaitGroup
	places := make(chan struct{}, 32)
	for i, t := range targets {
		wg.Go(func() {
			places <- struct{}{}
			defer func() { <-places }()
			s := a.serialAt(ctx, name, t, o.Timeout)
			if s.State == "" {
				s.Answers = a.answersAt(ctx, t.at, questions, o.Timeout)
			}
			if t.feeds && s.State == "" {
				s.State = isSource
			}
			res.Servers[i] = s
		})
	}
	wg.Wait()
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	return res, res.judge(want, given)
}

// Await asks until all servers are in step or patience ends. tell is told the serial and who is
// waited for, when that changes. The result and error are those of Secondaries.
func (a *App) Await(ctx context.Context, o InStepOptions, patience time.Duration, tell func(serial uint32, late string) error) (*InStep, error) {
	const between = 500 * time.Millisecond
	a = a.Holding()
	told := ""
	for end := time.Now().Add(patience); ; {
		r, err := a.Secondaries(ctx, o)
		if r == nil || err == nil || time.Now().After(end) {
			return r, err
		}
		o.Serial = fmt.Sprint(r.Serial) // the file is read once
		if late := r.Late(); late != told {
			if err := tell(r.Serial, late); err != nil {
				return nil, err
			}
			told = late
		}
		if err := Pause(ctx, min(between, time.Until(end))); err != nil {
			return nil, err
		}
	}
}

// Pause waits, unless it is interrupted.
func Pause(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-t.C:
		return nil
	}
}

// Late are the servers that are not in step, with what they are.
func (r *InStep) Late() string {
	var late []string
	for _, s := range r.Servers {
		if s.State != inStep && s.State != isSource {
			late = append(late, fmt.Sprintf("%s: %s", s.Name, s.State))
		}
	}
	return strings.Join(late, ", ")
}

// zoneServers are the servers to compare.
func (a *App) zoneServers(ctx context.Context, name dnsname.Name, o InStepOptions) (out []asksServer, err error) {
	if c, err := a.Config(); err == nil {
		if z := c.Find(name); z != nil && !slices.Contains(o.At, allServers) {
			out = append(out, asksServer{target{"here", listening(ctx, c)}, false})
			for _, p := range z.SendTo {
				out = append(out, asksServer{target{p.Name, p.Address}, false})
			}
			for _, p := range z.FetchFrom {
				out = append(out, asksServer{target{p.Name, p.Address}, z.Sign != nil})
			}
		}
	}
	for _, s := range o.At {
		if s == allServers {
			all, err := a.serversOfName(ctx, name, rr.TypeSOA, o.Timeout)
			if err != nil {
				return nil, err
			}
			for _, t := range all {
				out = append(out, asksServer{t, false})
			}
			continue
		}
		addrs, err := a.servers(ctx, s)
		if err != nil {
			return nil, err
		}
		out = append(out, asksServer{target{s, addrs[0]}, false})
	}
	if len(out) == 0 {
		return nil, edit.Usage("the zone %s is not in this workspace: say which servers to ask with --at HOST, or --at all", name)
	}
	return out, nil
}

// wantedSerial is the serial that all must have.
func (a *App) wantedSerial(name dnsname.Name, text string) (serial uint32, given bool, err error) {
	switch text {
	case "":
		return 0, false, nil
	case "file":
		in, err := a.input(name.String(), "", &source.Set{}, &diag.List{})
		if err != nil {
			return 0, false, err
		}
		if in.Zone == nil {
			return 0, false, edit.Usage("the file of %s has no serial", name.Plain())
		}
		return in.Zone.Serial(), true, nil
	}
	n, err := strconv.ParseUint(text, 10, 32)
	if err != nil {
		return 0, false, edit.Usage("%q is not a serial; write a number, or file for that of the zone's file", text)
	}
	return uint32(n), true, nil
}

// sample are questions whose answers are compared: of the zone at hand, spread over its names.
func (a *App) sample(name dnsname.Name) (out []message.Question) {
	const most = 400
	if z := a.zoneAtHand(name); z != nil && z.Apex().Equal(name) {
		// Of a delegation a server that has the zone below too says something else, rightly.
		all := slices.DeleteFunc(expect.Questions(z), func(q message.Question) bool { return q.Type == rr.TypeNS && !q.Name.Equal(name) })
		for i := 0; i < len(all); i += max(1, (len(all)+most-1)/most) {
			out = append(out, all[i])
		}
	}
	if len(out) == 0 {
		for _, t := range []rr.Type{rr.TypeNS, rr.TypeMX, rr.TypeTXT, rr.TypeA, rr.TypeAAAA, rr.TypeCAA} {
			out = append(out, message.Question{Name: name, Type: t, Class: rr.ClassIN})
		}
		for _, label := range []string{"www", "mail"} { // where somebody has the old address
			if n, err := name.Child(label); err == nil {
				out = append(out, message.Question{Name: n, Type: rr.TypeA, Class: rr.ClassIN}, message.Question{Name: n, Type: rr.TypeAAAA, Class: rr.ClassIN})
			}
		}
	}
	return out
}

// questionsAtOnce is how many questions one server is asked at a time.
const questionsAtOnce = 16

// answersAt stands for what a server answers; empty where it leaves one out.
func (a *App) answersAt(ctx context.Context, at netip.AddrPort, questions []message.Question, timeout time.Duration) string {
	said := make([]string, len(questions))
	var g errgroup.Group
	g.SetLimit(questionsAtOnce)
	for i, q := range questions {
		g.Go(func() error {
			resp, err := resolve.Ask(ctx, at, resolve.Request{Net: a.Net, Name: q.Name, Type: q.Type, Timeout: timeout})
			if err != nil {
				return err
			}
			says, _ := (&Asked{Question: q, Message: resp.Message}).says()
			said[i] = fmt.Sprintln(q.Name.Key(), q.Type, says)
			return nil
		})
	}
	if g.Wait() != nil {
		return ""
	}
	sum := sha256.New()
	for _, s := range said {
		sum.Write([]byte(s))
	}
	const enough = 4
	return hex.EncodeToString(sum.Sum(nil)[:enough])
}

func (a *App) serialAt(ctx context.Context, zoneName dnsname.Name, t asksServer, timeout time.Duration) ServerSerial {
	s := ServerSerial{Name: t.host, Address: t.at.String()}
	ask := resolve.Request{Net: a.Net, Name: zoneName, Type: rr.TypeSOA, Timeout: timeout}
	over := ask
	over.TCP = true
	tcp := make(chan bool, 1)
	go func() {
		_, err := resolve.Ask(ctx, t.at, over)
		tcp <- err == nil
	}()
	resp, err := resolve.Ask(ctx, t.at, ask)
	s.TCP = <-tcp
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
	alias, _ := resp.Set(zoneName, rr.TypeCNAME)
	switch {
	case resp.Rcode() != message.NoError:
	case len(alias) > 0:
		s.Problem = "it answers with a CNAME at the zone's own name, and no SOA"
	case resp.Flags&message.FlagAA == 0:
		s.Problem = "its answer is not authoritative"
	default:
		s.Problem = "it has no SOA record of the zone"
	}
	return s
}

// judge compares the serials with the one that is wanted, else with the newest, and the answers
// of those that have it with what most of them say.
func (r *InStep) judge(want uint32, given bool) error {
	first := !given
	r.Serial = want
	for _, s := range r.Servers {
		if s.State == "" && !given && (first || rr.NewerSerial(s.Serial, r.Serial)) {
			r.Serial, first = s.Serial, false
		}
	}
	usual := r.usualAnswers()
	behind := false
	for i := range r.Servers {
		s := &r.Servers[i]
		switch {
		case s.State == isSource:
		case s.State != "":
			behind = true
		case s.Serial != r.Serial && !(given && rr.NewerSerial(s.Serial, r.Serial)):
			s.State, s.Problem = "behind", "it needs "+fmt.Sprint(r.Serial)
			behind = true
		case s.Serial == r.Serial && s.Answers != usual && s.Answers != "" && usual != "":
			s.State, s.Problem = "other content", "it has the serial, and answers otherwise than most"
			behind = true
		default:
			s.State = inStep
		}
		if s.State == inStep && !s.TCP {
			s.Problem = "not over TCP"
		}
	}
	if behind {
		return fmt.Errorf("%s: %w: %w", strings.TrimSuffix(r.Zone.String(), "."), ErrBehind, edit.ErrFindings)
	}
	return nil
}

// usualAnswers is what most servers with the serial answer; of as many, what the first says.
func (r *InStep) usualAnswers() string {
	votes := map[string]int{}
	var order []string
	for _, s := range r.Servers {
		if s.State == "" && s.Serial == r.Serial && s.Answers != "" {
			if votes[s.Answers] == 0 {
				order = append(order, s.Answers)
			}
			votes[s.Answers]++
		}
	}
	if len(order) == 0 {
		return ""
	}
	return slices.MaxFunc(order, func(a, b string) int { return cmp.Compare(votes[a], votes[b]) })
}
