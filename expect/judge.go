package expect

import (
	"fmt"
	"slices"
	"strings"

	"fencepost/message"
	"fencepost/rr"
)

// Judge says what is wrong with an answer, in words that go after "instead"; empty: it is as
// expected. Signed and SameEvery take more than one answer: they are not judged here.
func (e *Expectation) Judge(m *message.Message) string {
	got := e.got(m)
	switch e.Kind {
	case Is, Contains, OneOf:
		return e.judgeData(m, got)
	case NoName:
		if m.ExtendedRcode == message.NXDomain {
			return ""
		}
	case NoData:
		if m.ExtendedRcode == message.NoError && len(m.Answer) == 0 && len(referral(m)) == 0 {
			return ""
		}
	case Refers:
		hosts := referral(m)
		if len(hosts) == 0 { // a server that has the child too names its servers itself
			hosts = e.named(m)
		}
		var want []string
		for _, h := range e.Hosts {
			want = append(want, h.Plain())
		}
		slices.Sort(want)
		if slices.Equal(hosts, want) {
			return ""
		}
	case TTL:
		return e.judgeTTL(m, got)
	}
	return got
}

// judgeData compares records.
func (e *Expectation) judgeData(m *message.Message, got string) string {
	var have [][]byte
	for _, r := range m.Answer {
		if r.Type == e.Type && (r.Name.Equal(e.Name) || e.Type != rr.TypeCNAME) {
			have = append(have, canonical(r.Type, r.Data))
		}
	}
	in := func(list [][]byte, d []byte) bool {
		return slices.ContainsFunc(list, func(o []byte) bool { return string(o) == string(d) })
	}
	all := func(a, b [][]byte) bool {
		return !slices.ContainsFunc(a, func(d []byte) bool { return !in(b, d) })
	}
	right := m.ExtendedRcode == message.NoError
	switch e.Kind {
	case Is:
		right = right && len(have) == len(e.Data) && all(e.Data, have)
	case Contains:
		right = right && all(e.Data, have)
	case OneOf:
		right = right && len(have) == 1 && all(have, e.Data)
	}
	if right {
		return ""
	}
	return got
}

func (e *Expectation) judgeTTL(m *message.Message, got string) string {
	found := false
	for _, r := range m.Answer {
		if r.Type != e.Type {
			continue
		}
		if found = true; r.TTL < e.Lo || r.TTL > e.Hi {
			return fmt.Sprintf("TTL %d", r.TTL)
		}
	}
	if !found {
		return got
	}
	return ""
}

// got is an answer in a line.
func (e *Expectation) got(m *message.Message) string {
	if m.ExtendedRcode != message.NoError && m.ExtendedRcode != message.NXDomain {
		return fmt.Sprintf("%s (%s)", m.ExtendedRcode.Description(), m.ExtendedRcode)
	}
	var parts []string
	for _, r := range m.Answer {
		if r.Type == e.Type || r.Type == rr.TypeCNAME {
			parts = append(parts, fmt.Sprintf("%s %s", r.Type, rr.DataText(r.Type, r.Data)))
		}
	}
	slices.Sort(parts)
	switch hosts := referral(m); {
	case len(parts) > 0:
		return strings.Join(parts, ", ")
	case m.ExtendedRcode == message.NXDomain:
		return "no such name"
	case len(hosts) > 0:
		return "a referral to " + strings.Join(hosts, ", ")
	}
	return fmt.Sprintf("no %s records", e.Type)
}

// referral are the servers that an answer refers to, in order; none: it does not.
func referral(m *message.Message) (out []string) {
	if m.Flags&message.FlagAA != 0 || len(m.Answer) > 0 {
		return nil
	}
	for _, r := range m.Authority {
		if r.Type == rr.TypeNS {
			out = append(out, strings.ToLower(strings.TrimSuffix(rr.DataText(r.Type, r.Data), ".")))
		}
	}
	slices.Sort(out)
	return out
}

// named are the servers that an answer has as NS records of the name, in order.
func (e *Expectation) named(m *message.Message) (out []string) {
	for _, r := range m.Answer {
		if r.Type == rr.TypeNS && r.Name.Equal(e.Name) {
			out = append(out, strings.ToLower(strings.TrimSuffix(rr.DataText(r.Type, r.Data), ".")))
		}
	}
	slices.Sort(out)
	return out
}
