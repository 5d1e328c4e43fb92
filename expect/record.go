package expect

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/zone"
)

// mostRecorded bounds how many questions of a zone are recorded: expectations are to be read.
const mostRecorded = 500

// recordedTypes are what somebody outside asks for; what a signer makes is not.
var recordedTypes = []rr.Type{rr.TypeNS, rr.TypeMX, rr.TypeA, rr.TypeAAAA, rr.TypeCNAME, rr.TypeTXT, rr.TypeSRV, rr.TypeCAA, rr.TypePTR, rr.TypeHTTPS, rr.TypeDNAME}

// Questions are what is asked to record what a zone answers.
func Questions(z *zone.Snapshot) (out []message.Question) {
	for node := range z.Nodes {
		if node.Occluded() || len(out) >= mostRecorded {
			continue
		}
		owner := z.Owner(node)
		if owner.IsWildcard() {
			continue
		}
		for _, t := range recordedTypes {
			if _, ok := node.Find(t); ok && (!node.IsCut() || t == rr.TypeNS) {
				out = append(out, message.Question{Name: owner, Type: t, Class: rr.ClassIN})
			}
		}
	}
	return out
}

// section is a part of a file that is recorded.
type section struct {
	title, comment string
	lines          []string
}

// Record writes expectations from today's answers, in groups.
func Record(apex dnsname.Name, list []message.Question, where string, now time.Time, ask func(message.Question) (*message.Message, error)) (string, error) {
	sections := []*section{
		{title: "The zone itself", comment: "who answers for it, and who takes its mail"},
		{title: "Hosts", comment: "addresses that people come to"},
		{title: "Aliases"},
		{title: "Services and texts"},
		{title: "Delegations", comment: "parts that others answer for"},
	}
	for _, q := range list {
		m, err := ask(q)
		if err != nil {
			return "", fmt.Errorf("%s %s: %w", q.Name.Plain(), q.Type, err)
		}
		at, line := statement(apex, q, m)
		if line != "" {
			sections[at].lines = append(sections[at].lines, line)
		}
	}
	var b strings.Builder
	fmt.Fprintf(&b, "# What must be answered, recorded on %s from %s.\n# Keep what must stay as it is; take out what may change. docs/expect.md says what can be written.\n\nzone %s\n",
		now.UTC().Format("2 January 2006"), where, apex.Plain())
	for _, s := range sections {
		if len(s.lines) == 0 {
			continue
		}
		fmt.Fprintf(&b, "\ngroup %s\n", s.title)
		if s.comment != "" {
			fmt.Fprintf(&b, "# %s\n", s.comment)
		}
		for _, l := range s.lines {
			b.WriteString(l + "\n")
		}
	}
	fmt.Fprintf(&b, "\ngroup What is not there\nno-such-name-here does not exist\n")
	return b.String(), nil
}

// statement is the line for an answer, and the section it belongs to.
func statement(apex dnsname.Name, q message.Question, m *message.Message) (section int, line string) {
	const own, hosts, aliases, services, cuts = 0, 1, 2, 3, 4
	name := q.Name.Relative(apex)
	if hosts := referral(m); len(hosts) > 0 {
		for i := range hosts {
			hosts[i] = dnsname.MustParse(hosts[i] + ".").Relative(apex)
		}
		return cuts, fmt.Sprintf("%-20s %-5s refers to %s", name, q.Type, strings.Join(hosts, " and "))
	}
	var data []string
	for _, r := range m.Answer {
		if r.Type == q.Type && r.Name.Equal(q.Name) {
			data = append(data, rr.DataText(r.Type, r.Data))
		}
	}
	if len(data) == 0 {
		return 0, ""
	}
	slices.Sort(data)
	switch at := map[rr.Type]int{rr.TypeA: hosts, rr.TypeAAAA: hosts, rr.TypeCNAME: aliases, rr.TypeDNAME: aliases, rr.TypePTR: hosts}; {
	case q.Name.Equal(apex):
		section = own
	default:
		var known bool
		if section, known = at[q.Type]; !known {
			section = services
		}
	}
	return section, fmt.Sprintf("%-20s %-5s is %s", name, q.Type, strings.Join(data, " and "))
}
