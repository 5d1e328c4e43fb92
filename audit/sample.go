package audit

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
)

// sampled is a question that every server of the zone was asked.
type sampled struct {
	name dnsname.Name
	t    rr.Type
	by   map[*Server]*resolve.Response // nil: no answer
}

// maxSampled bounds the questions whose answers are compared.
const maxSampled = 40

// sample asks all servers for what people look up: the zone's own name, the usual ones, and hosts of the
// zone that it names itself.
func (a *Auditor) sample(ctx context.Context, f *Facts) {
	add := func(name dnsname.Name, types ...rr.Type) {
		for _, t := range types {
			known := slices.ContainsFunc(f.samples, func(s *sampled) bool { return s.t == t && s.name.Equal(name) })
			if !known && name.AtOrBelow(f.Zone) && len(f.samples) < maxSampled {
				f.samples = append(f.samples, &sampled{name, t, map[*Server]*resolve.Response{}})
			}
		}
	}
	add(f.Zone, rr.TypeA, rr.TypeAAAA, rr.TypeMX, rr.TypeTXT)
	for _, n := range []string{"www", "mail"} {
		add(f.under(n), rr.TypeA, rr.TypeAAAA)
	}
	for _, m := range f.mx() {
		add(m.host, rr.TypeA, rr.TypeAAAA)
	}
	for _, h := range f.Hosts {
		add(h.Name, rr.TypeA, rr.TypeAAAA)
	}
	var wg sync.WaitGroup
	var mu sync.Mutex
	places := make(chan struct{}, atOnce)
	for _, q := range f.samples {
		for _, s := range f.Servers {
			if !s.Answers() {
				continue
			}
			wg.Go(func() {
				places <- struct{}{}
				defer func() { <-places }()
				resp, err := resolve.Ask(ctx, s.At, resolve.Request{Net: a.Tracer.Net, Timeout: a.Tracer.Timeout, Silent: a.Tracer.Silent, Name: q.name, Type: q.t, NoEDNS: s.Plain})
				mu.Lock()
				defer mu.Unlock()
				if f.Asked++; err != nil {
					resp = nil
				}
				q.by[s] = resp
			})
		}
	}
	wg.Wait()
}

// said is an answer in words that are the same for the same records; delegated names, and what a server
// that has the zone below too says of them, say nothing here.
// denied tells that the server has records of another type of the name, see typeTest.
func (q *sampled) said(s *Server, denied bool) (text string, ok bool) {
	r := q.by[s]
	if r == nil || r.Flags&message.FlagAA == 0 {
		return "", false
	}
	switch r.Rcode() {
	case message.NXDomain:
		return "no such name", !denied
	case message.NoError:
	default:
		return "", false
	}
	var lines []string
	for _, rec := range r.Answer {
		if rec.Name.Equal(q.name) && (rec.Type == q.t || rec.Type == rr.TypeCNAME) {
			lines = append(lines, rec.Type.String()+" "+strings.ToLower(rr.DataText(rec.Type, rec.Data)))
		}
	}
	if len(lines) == 0 {
		return fmt.Sprintf("no %s records", q.t), true
	}
	slices.Sort(lines)
	return strings.Join(lines, ", "), true
}

// differing calls tell for each question that two servers with one serial answer differently.
func (f *Facts) differing(tell func(one, other *Server, serial uint32, what string)) {
	for _, q := range f.samples {
		type first struct {
			s    *Server
			said string
		}
		by := map[uint32]first{}
		for _, s := range f.Servers {
			serial, has := s.Serial(f.Zone)
			_, there := f.answered(s)[q.name.Key()]
			said, ok := q.said(s, there)
			if !has || !ok {
				continue
			}
			switch one, there := by[serial]; {
			case !there:
				by[serial] = first{s, said}
			case one.said != said:
				tell(one.s, s, serial, fmt.Sprintf("%s %s: %s says %s, %s says %s", q.name.Plain(), q.t, one.s, one.said, s, said))
			}
		}
	}
}

// answered are the names that a server has records of, each with a type.
func (f *Facts) answered(s *Server) map[string]rr.Type {
	out := map[string]rr.Type{}
	for _, q := range f.samples {
		if r := q.by[s]; r != nil && r.ExtendedRcode == message.NoError && len(r.Answer) > 0 {
			out[q.name.Key()] = q.t
		}
	}
	return out
}

var typeTest = &Test{Rule: rule("type-fails", diag.Error, "a server fails for queries of one type", "RFC 2308 §2, RFC 4074 §4, RFC 8020 §2",
	"Answers for other types show that the name exists. For a type without records the answer is NOERROR; NXDOMAIN denies the whole name, and an error or a timeout makes resolvers wait and try other servers. Often a load balancer answers in place of the name server."),
	Area: Servers, Skip: noAnswers, Look: func(f *Facts, l *Findings) {
		for _, s := range f.Servers {
			good := f.answered(s)
			for _, q := range f.samples {
				other, there := good[q.name.Key()]
				r := q.by[s]
				if !there || !s.Answers() || r != nil && r.ExtendedRcode == message.NoError {
					continue
				}
				says := "does not answer"
				if r != nil {
					says = "says " + r.ExtendedRcode.String()
				}
				l.add("the operator of that server has to act: for a type without records the answer is NOERROR", "%s %s for %s %s, and has %s records of it", s, says, q.name.Plain(), q.t, other)
			}
		}
	}}
