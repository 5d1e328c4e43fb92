package answer

import (
	"fmt"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

// StepKind is one thing that happened on the way to an answer.
type StepKind uint8

// The kinds of steps.
const (
	Matched          StepKind = iota + 1 // the name has the type
	MatchedWildcard                      // a wildcard supplies it
	Aliased                              // the name is an alias; it is followed
	AliasedWildcard                      // a wildcard says so
	Substituted                          // the name is below a DNAME
	TypeMissing                          // the name exists, the type does not
	NameMissing                          // the name does not exist
	EmptyWildcard                        // nor does it, and the wildcard for it is empty
	EmptyNonTerminal                     // only names below it exist
	Referral                             // the name is delegated away
	LeavesServer                         // the alias points out of the zones served
	NoZone                               // no zone for the name
	ZoneUnavailable                      // not loaded, or expired
)

// Step is one thing that happened. Which fields are set depends on the kind.
type Step struct {
	Kind     StepKind
	Zone     *zone.Snapshot
	Node     *zone.Node
	Type     rr.Type
	Name     []byte // target of an alias, in wire form
	Key      []byte
	Encloser int
	Wildcard bool
}

// Trace collects the steps of an answer in words.
type Trace struct {
	Kind    StepKind // of the last step
	Reasons []string // a sentence each
}

func (r *Responder) trace(s Step) {
	if r.Trace == nil {
		return
	}
	r.Trace.Kind = s.Kind
	r.Trace.Reasons = append(r.Trace.Reasons, s.words(r))
}

func matched(wildcard bool) StepKind {
	if wildcard {
		return MatchedWildcard
	}
	return Matched
}

func aliased(wildcard bool) StepKind {
	if wildcard {
		return AliasedWildcard
	}
	return Aliased
}

// words says what happened as a sentence.
func (s Step) words(r *Responder) string {
	asked, _ := dnsname.FromWire(r.q.Name)
	if r.owner != nil {
		asked, _ = dnsname.FromWire(r.owner)
	}
	var at dnsname.Name
	if s.Node != nil && s.Zone != nil {
		at = s.Zone.Owner(s.Node)
	}
	target, _ := dnsname.FromWire(s.Name)
	switch s.Kind {
	case Matched:
		if s.Type == rr.TypeANY {
			return fmt.Sprintf("%s exists; for ANY one set is given over UDP, all over TCP", asked)
		}
		return fmt.Sprintf("%s has %s records", asked, s.Type)
	case MatchedWildcard:
		return fmt.Sprintf("%s does not exist; the wildcard %s supplies the %s records", asked, at, s.Type)
	case Aliased:
		return fmt.Sprintf("%s is an alias of %s", asked, target)
	case AliasedWildcard:
		return fmt.Sprintf("%s does not exist; the wildcard %s makes it an alias of %s", asked, at, target)
	case Substituted:
		return fmt.Sprintf("%s lies below %s, whose DNAME replaces that ending by %s", asked, at, target)
	case TypeMissing:
		if s.Wildcard {
			return fmt.Sprintf("%s does not exist; the wildcard %s would supply data, and has no %s records", asked, at, s.Type)
		}
		return fmt.Sprintf("%s exists and has no %s records", asked, s.Type)
	case NameMissing:
		closest, _ := dnsname.FromWire(s.Zone.AppendKeyName(nil, dnsname.KeyPrefix(s.Key, s.Encloser)))
		return fmt.Sprintf("%s does not exist; the closest name that does is %s, and it has no wildcard below it", asked, closest)
	case EmptyWildcard:
		closest, _ := dnsname.FromWire(s.Zone.AppendKeyName(nil, dnsname.KeyPrefix(s.Key, s.Encloser)))
		return fmt.Sprintf("%s does not exist; the wildcard *.%s exists because names below it do, and has no records itself", asked, closest)
	case EmptyNonTerminal:
		return fmt.Sprintf("%s has no records itself; it exists because names below it do", asked)
	case Referral:
		return fmt.Sprintf("%s is delegated to other servers", at)
	case LeavesServer:
		return fmt.Sprintf("%s lies in no zone served here, so the answer ends with the alias", target)
	case NoZone:
		return fmt.Sprintf("%s lies in no zone served here", asked)
	default:
		return fmt.Sprintf("the zone of %s is not loaded", asked)
	}
}

// Single is a Source with one zone only.
type Single struct{ Snapshot *zone.Snapshot }

// Find implements Source.
func (s Single) Find(name []byte, above bool) (*zone.Snapshot, State) {
	apex := len(s.Snapshot.Apex().Wire())
	var buf [2 * dnsname.MaxWire]byte
	if _, ok := s.Snapshot.AppendKey(buf[:0], name); !ok || above && len(name) == apex {
		return nil, NotServed
	}
	return s.Snapshot, Served
}
