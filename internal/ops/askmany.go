package ops

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"fencepost/internal/edit"
	"fencepost/message"
	"fencepost/netio"
	"fencepost/resolve"
	"fencepost/wholefile"
)

// Run is many questions put to one server.
type Run struct {
	Question        // how they are put, and to whom; Name and Type are not heeded
	File     string // a line: a name, and if it is not A a type
	Rate     int    // questions a second
	Count    int    // in all, from the beginning again after the last; 0: each once
	Progress func(done, all int)
}

// RunResult is what came of them.
type RunResult struct {
	Server string
	Put    int // questions
	Wanted int // a second
	Codes  map[message.Rcode]int
	Silent int // without an answer
	TCP    int // answers that came over TCP
	// Times are how long each answer took, in order.
	Times []time.Duration
	Took  time.Duration // all together
	// Trouble are some of the questions that had no answer, or one that says that the server
	// would not or could not.
	Trouble []RunTrouble
}

// RunTrouble is a question that came to nothing.
type RunTrouble struct{ Question, What string }

// Limits of a run.
const (
	maxRate      = 100_000
	maxQuestions = 10_000_000
	maxInFlight  = 1024
	maxTroubles  = 10
)

// At is the time that a part of the answers took no longer than: 0.5 is the median, 1 the
// longest. 0 where there are none.
func (r *RunResult) At(part float64) time.Duration {
	if len(r.Times) == 0 {
		return 0
	}
	return r.Times[min(len(r.Times)-1, int(part*float64(len(r.Times))))]
}

// Rate is how many questions a second there were.
func (r *RunResult) Rate() float64 { return float64(r.Put) / max(r.Took.Seconds(), 1e-9) }

// Failed is how many questions came to nothing.
func (r *RunResult) Failed() (n int) {
	for code, count := range r.Codes {
		if code != message.NoError && code != message.NXDomain {
			n += count
		}
	}
	return n + r.Silent
}

// TooSlow reports whether the questions could not be put at the rate that was asked for.
func (r *RunResult) TooSlow() bool {
	return r.Put > r.Wanted/10 && r.Rate() < 0.9*float64(r.Wanted)
}

// ErrFailed says whether a question came to nothing.
func (r *RunResult) ErrFailed() error {
	if r.Silent == r.Put && r.Put > 0 {
		return fmt.Errorf("%s does not answer: %s", r.Server, r.Trouble[0].What)
	}
	if n := r.Failed(); n > 0 {
		return fmt.Errorf("%d of %d questions: %w", n, r.Put, edit.ErrFindings)
	}
	return nil
}

// AskMany puts the questions of a file to a server at a rate. When the context ends, so do
// the questions, and what came so far is the result.
func (a *App) AskMany(ctx context.Context, r Run) (*RunResult, error) {
	switch {
	case r.Rate < 1 || r.Rate > maxRate:
		return nil, edit.Usage("--rate %d: write 1 to %d questions a second", r.Rate, maxRate)
	case r.Count < 0 || r.Count > maxQuestions:
		return nil, edit.Usage("--count %d: write up to %d", r.Count, maxQuestions)
	case len(r.At) > 1 || len(r.At) == 1 && r.At[0] == allServers:
		return nil, edit.Usage("questions from a file go to one server: give one --at")
	case r.ZoneFile != "":
		return nil, edit.Usage("questions from a file go to a server; leave --zone out")
	}
	list, err := r.questions()
	if err != nil {
		return nil, err
	}
	at := ""
	if len(r.At) == 1 {
		at = r.At[0]
	}
	addrs, err := a.servers(ctx, at)
	if err != nil {
		return nil, err
	}
	run := &asking{out: &RunResult{Server: addrs[0].String(), Wanted: r.Rate, Codes: map[message.Rcode]int{}}}
	count := r.Count
	if count == 0 {
		count = len(list)
	}
	run.all(ctx, a, addrs[0], list, count, r)
	slices.Sort(run.out.Times)
	return run.out, nil
}

// questions reads the file.
func (r *Run) questions() (out []resolve.Request, err error) {
	text, err := wholefile.Read(r.File, 256<<20)
	if err != nil {
		return nil, err
	}
	lines := bufio.NewScanner(bytes.NewReader(text))
	for n := 1; lines.Scan(); n++ {
		line, _, _ := strings.Cut(lines.Text(), "#")
		words := strings.Fields(line)
		if len(words) == 0 {
			continue
		}
		if len(words) > 2 {
			return nil, edit.Usage("%s, line %d: a line is a name and a type; %q is too much", edit.Shown(r.File), n, words[2])
		}
		q := r.Question
		q.Name, q.Type = words[0], strings.Join(words[1:], "")
		mq, err := q.parse()
		if err != nil {
			return nil, fmt.Errorf("%s, line %d: %w", edit.Shown(r.File), n, err)
		}
		req, err := q.request(mq)
		if err != nil {
			return nil, err
		}
		out = append(out, req)
	}
	if err := lines.Err(); err != nil {
		return nil, fmt.Errorf("%s: %w", edit.Shown(r.File), err)
	}
	if len(out) == 0 {
		return nil, edit.Usage("%s has no questions", edit.Shown(r.File))
	}
	return out, nil
}

// asking is one run.
type asking struct {
	mu  sync.Mutex
	out *RunResult
}

// all puts count questions, each in its time: the i-th i/rate seconds after the first.
func (s *asking) all(ctx context.Context, a *App, at netip.AddrPort, list []resolve.Request, count int, r Run) {
	clock := netio.Or(a.Net).Clock()
	start := clock.Now()
	places := make(chan struct{}, maxInFlight)
	var wg sync.WaitGroup
	for i := 0; i < count && ctx.Err() == nil; i++ {
		due := start.Add(time.Duration(float64(i) / float64(r.Rate) * float64(time.Second)))
		if early := due.Sub(clock.Now()); early > time.Millisecond { // what is less, the system does not keep to
			select {
			case <-netio.After(clock, early):
			case <-ctx.Done():
			}
		}
		select {
		case places <- struct{}{}:
		case <-ctx.Done():
			continue
		}
		req := list[i%len(list)]
		req.Net = a.Net
		wg.Go(func() {
			defer func() { <-places }()
			resp, err := resolve.Ask(ctx, at, req)
			if err != nil && ctx.Err() != nil {
				return // nobody waited for it
			}
			s.take(&req, resp, err)
		})
		if r.Progress != nil && i%64 == 0 {
			r.Progress(i, count)
		}
	}
	wg.Wait()
	s.out.Took = clock.Now().Sub(start)
}

// take notes what came of a question.
func (s *asking) take(req *resolve.Request, resp *resolve.Response, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.out.Put++
	what := ""
	if err != nil {
		s.out.Silent++
		what = err.Error()
	} else {
		s.out.Codes[resp.ExtendedRcode]++
		s.out.Times = append(s.out.Times, resp.Elapsed)
		if resp.Transport == "tcp" {
			s.out.TCP++
		}
		if code := resp.ExtendedRcode; code != message.NoError && code != message.NXDomain {
			what = fmt.Sprintf("%s (%s)", code.Description(), code)
		}
	}
	if what == "" || len(s.out.Trouble) == maxTroubles {
		return
	}
	if t := (RunTrouble{fmt.Sprintf("%s %s", req.Name.Plain(), req.Type), what}); !slices.Contains(s.out.Trouble, t) {
		s.out.Trouble = append(s.out.Trouble, t)
	}
}
