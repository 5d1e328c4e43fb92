// Package sim is a stand-in Internet: root, registries, providers and resolvers, each a
// host with addresses of its own, which answer from real zones with the real packages. It
// lives on any netio.Network: on sockets of loopback, or in memory on a clock that stands
// still until somebody moves it. Faults are ordered for servers and zones, each for a time.
//
// A world is a value. Delegations follow from it: a zone is delegated from the longest zone
// above it, with the glue that is needed and, where it is signed, its DS.
package sim

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
)

// World says what there is.
type World struct {
	Seed      string // keys follow from it: one world, one set of keys
	Servers   []Server
	Zones     []Zone
	Resolvers []Resolver
	// Registries are zones that take requests; the others say what follows from the world.
	Registries []Registry
	Faults     []Fault
	// Told hears what registries enter; nil: nobody does.
	Told func(string)
}

// Server is a name server with the addresses under which the world reaches it.
type Server struct {
	Name  dnsname.Name
	Addrs []netip.Addr
	// GivesTo may transfer the zones it serves.
	GivesTo []netip.Addr
	// At is where somebody else's server stands in its place; invalid: the world has it.
	At netip.AddrPort
}

// Zone is a zone with the servers that it has, and that the zone above delegates it to.
type Zone struct {
	Name      dnsname.Name
	Servers   []dnsname.Name
	Signed    bool
	Algorithm rr.AlgorithmNumber // of its keys; 0 is ECDSAP256SHA256
	NSEC3     bool
	// Rolling is in the middle of changing its key: it has the former and the new one, asks for
	// the DS of the new one (RFC 7344), and the zone above has that of the former.
	Rolling bool
	Serial  uint32 // 0 is 1
	// Records are lines of a master file, without the SOA where the usual one does, and
	// without the NS of the zone itself and the addresses of the world's servers, which follow.
	Records string
	// OwnNS, if there are any, are the zone's own NS records in the place of Servers: what
	// the child says besides what the parent says.
	OwnNS []dnsname.Name
}

// Resolver is a caching, validating resolver.
type Resolver struct {
	Name  string
	Addrs []netip.Addr
	// Trusting takes answers without validating them.
	Trusting bool
}

// Fault is something wrong, for a time.
type Fault struct {
	Kind   Kind
	Server dnsname.Name // which server; the zero name: all that are concerned
	Addr   netip.Addr   // of a server with several addresses, one; invalid: all
	Zone   dnsname.Name // which zone; the zero name: all of the server
	// From and Until are times since the world began; Until 0 is for ever.
	From, Until time.Duration
	Delay       time.Duration // of Slow
	Size        int           // of LosesLarge, octets; 0 is 512
	Records     string        // of Differs and Lies: lines in the place of those of the same names
	Host        dnsname.Name  // of WrongGlue: which server has Glue at the parent
	Glue        []netip.Addr
	NS          []dnsname.Name // of WrongNS: what the parent says
	Type        rr.Type        // of FailsType
	Says        Says           // of FailsType
}

// Says is what a server says to questions of a type that it fails at.
type Says string

// Nothing is no answer.
const Nothing Says = "nothing"

// codes are the response codes that it may say.
var codes = map[Says]message.Rcode{"SERVFAIL": message.ServFail, "NXDOMAIN": message.NXDomain, "REFUSED": message.Refused, "NOTIMP": message.NotImp}

// Kind is a kind of fault.
type Kind string

// The kinds of faults. The first group is of servers, the second of what a server has of a
// zone, the third of what the zone above says of a zone.
const (
	Away       Kind = "away"             // answers nothing
	Slow       Kind = "slow"             // answers after Delay
	NoTCP      Kind = "no-tcp"           // takes no connections
	NoUDP      Kind = "no-udp"           // answers over TCP alone
	CutsShort  Kind = "cuts-short"       // answers over UDP are cut off, and there is no TCP
	DropsEDNS  Kind = "drops-edns"       // does not answer what has an OPT record
	BadEDNS    Kind = "edns-formerr"     // says FORMERR to what has an OPT record
	LosesLarge Kind = "loses-large"      // answers over UDP of more than Size octets are lost
	NoAuthor   Kind = "no-authority"     // answers are not authoritative
	Recurses   Kind = "offers-recursion" // says that it would ask others
	Gives      Kind = "gives-to-all"     // hands zones to anybody

	DropsTypes    Kind = "drops-unknown-types"   // answers no question for a type that is not assigned
	DropsOpcodes  Kind = "drops-unknown-opcodes" // answers no message with one
	DropsFlags    Kind = "drops-flags"           // answers nothing that has a flag of the fourth octet of the header
	DropsRD       Kind = "drops-rd"              // answers nothing that has the flag RD
	EchoesFlag    Kind = "echoes-reserved-flag"
	ChangesCase   Kind = "changes-case" // sends the name of a question back in lower case
	AddsEDNS      Kind = "adds-edns"    // sends EDNS to whoever did not
	AnyVersion    Kind = "takes-any-edns-version"
	NoOptions     Kind = "edns-options-formerr" // says FORMERR to what has an EDNS option
	EchoesOptions Kind = "echoes-edns-options"
	EchoesEDNS    Kind = "echoes-edns-flags"
	ForgetsDO     Kind = "forgets-do"
	CutsEDNS      Kind = "cut-off-without-edns" // leaves EDNS out of answers that are cut off
	Overfills     Kind = "overfills"            // takes no heed of the size that whoever asks takes
	FailsMissing  Kind = "fails-missing-names"  // says SERVFAIL where there is no such name
	OtherOverTCP  Kind = "other-over-tcp"       // has the next serial over TCP
	FailsType     Kind = "fails-type"           // answers questions for Type, below Zone or all, by what it Says
	AliasAtApex   Kind = "alias-at-apex"        // answers all questions for the name of Zone with a CNAME to Host

	Refuses           Kind = "refuses"    // does not have the zone: a lame delegation
	Empty             Kind = "not-loaded" // has it, and nothing to answer from
	Stale             Kind = "stale"      // has the version before: serial one less, without Records
	Differs           Kind = "differs"    // has other Records under the same serial, signed anew
	Lies              Kind = "lies"       // has other Records, and the signatures of the right ones
	WrongSignatures   Kind = "wrong-signatures"
	ExpiredSignatures Kind = "expired-signatures"
	EndingSignatures  Kind = "ending-signatures" // end within two days
	OtherDenial       Kind = "other-denial"      // NSEC3 records in the place of NSEC, or the other way round
	NoSignatures      Kind = "no-signatures"     // the zone went unsigned, and its parent does not know

	NoDelegation Kind = "no-delegation" // the parent has no NS records of the zone
	WrongNS      Kind = "wrong-ns"      // it has others
	NoGlue       Kind = "no-glue"       // it has no addresses of the zone's servers
	WrongGlue    Kind = "wrong-glue"    // it has other addresses of Host
	OldDS        Kind = "old-ds"        // it has the DS of a key that the zone had before
	NoDS         Kind = "no-ds"         // it has no DS
	DSAlone      Kind = "strange-ds"    // its DS is of an algorithm that nobody knows
)

// about says what a kind of fault is about.
type about uint8

const (
	ofServer about = iota
	ofContent
	ofParent
)

// kinds is all kinds of faults.
var kinds = map[Kind]about{
	Away: ofServer, Slow: ofServer, NoTCP: ofServer, NoUDP: ofServer, CutsShort: ofServer, DropsEDNS: ofServer, BadEDNS: ofServer,
	LosesLarge: ofServer, NoAuthor: ofServer, Recurses: ofServer, Gives: ofServer,
	DropsTypes: ofServer, DropsOpcodes: ofServer, DropsFlags: ofServer, DropsRD: ofServer, EchoesFlag: ofServer, ChangesCase: ofServer, AddsEDNS: ofServer,
	AnyVersion: ofServer, NoOptions: ofServer, EchoesOptions: ofServer, EchoesEDNS: ofServer, ForgetsDO: ofServer, CutsEDNS: ofServer, Overfills: ofServer, FailsMissing: ofServer, OtherOverTCP: ofServer, FailsType: ofServer, AliasAtApex: ofServer,
	Refuses: ofContent, Empty: ofContent, Stale: ofContent, Differs: ofContent, Lies: ofContent, WrongSignatures: ofContent, ExpiredSignatures: ofContent, EndingSignatures: ofContent, OtherDenial: ofContent, NoSignatures: ofContent,
	NoDelegation: ofParent, WrongNS: ofParent, NoGlue: ofParent, WrongGlue: ofParent, OldDS: ofParent, NoDS: ofParent, DSAlone: ofParent,
}

// Kinds lists the kinds of faults.
func Kinds() (out []string) {
	for k := range kinds {
		out = append(out, string(k))
	}
	slices.Sort(out)
	return out
}

// meant says which kind a word was probably meant for.
func meant(word string) string {
	if kind := diag.Closest(word, Kinds()); kind != "" {
		return "did you mean " + kind + "?"
	}
	return "there are " + strings.Join(Kinds(), ", ")
}

// during reports whether a fault is there at a time since the world began.
func (f *Fault) during(age time.Duration) bool {
	return age >= f.From && (f.Until == 0 || age < f.Until)
}

// ErrWorld is wrapped by what Check finds.
var ErrWorld = errors.New("the world does not hold together")

// Check says what in a world leads nowhere.
func (w *World) Check() error {
	fail := func(format string, args ...any) error {
		return fmt.Errorf("%w: %s", ErrWorld, fmt.Sprintf(format, args...))
	}
	servers, addrs, zones := map[string]bool{}, map[netip.Addr]bool{}, map[string]bool{}
	for _, s := range w.Servers {
		if servers[s.Name.Key()] {
			return fail("the server %s is there twice", s.Name.Plain())
		}
		if servers[s.Name.Key()] = true; len(s.Addrs) == 0 {
			return fail("the server %s has no address", s.Name.Plain())
		}
		for _, a := range s.Addrs {
			if addrs[a] {
				return fail("two hosts have the address %s", a)
			}
			addrs[a] = true
		}
	}
	for _, r := range w.Resolvers {
		for _, a := range r.Addrs {
			if addrs[a] {
				return fail("two hosts have the address %s", a)
			}
			addrs[a] = true
		}
	}
	for _, z := range w.Zones {
		if zones[z.Name.Key()] {
			return fail("the zone %s is there twice", z.Name.Plain())
		}
		if zones[z.Name.Key()] = true; len(z.Servers) == 0 {
			return fail("the zone %s has no server", z.Name.Plain())
		}
		for _, s := range z.Servers {
			if !servers[s.Key()] {
				return fail("the zone %s is served by %s, which is not a server here", z.Name.Plain(), s.Plain())
			}
		}
	}
	if !zones[dnsname.Root.Key()] {
		return fail("there is no root: a zone with the name \".\"")
	}
	for _, r := range w.Registries {
		if !zones[r.Zone.Key()] {
			return fail("there is a registry of %s, which is not a zone here", r.Zone.Plain())
		}
	}
	for _, f := range w.Faults {
		switch _, known := kinds[f.Kind]; {
		case !known:
			return fail("%q is not a kind of fault; %s", f.Kind, meant(string(f.Kind)))
		case !f.Server.IsZero() && !servers[f.Server.Key()]:
			return fail("a fault is ordered of %s, which is not a server here", f.Server.Plain())
		case !f.Zone.IsZero() && !zones[f.Zone.Key()]:
			return fail("a fault is ordered of %s, which is not a zone here", f.Zone.Plain())
		case f.Kind == FailsType && f.Says != Nothing && codes[f.Says] == 0:
			return fail("%s needs what the server says: nothing, SERVFAIL, NXDOMAIN, REFUSED or NOTIMP", f.Kind)
		case f.Kind == AliasAtApex && (f.Zone.IsZero() || f.Host.IsZero()):
			return fail("%s needs a zone, and a host that it leads to", f.Kind)
		case kinds[f.Kind] == ofParent && f.Zone.IsZero():
			return fail("%s needs a zone: whose delegation it is about", f.Kind)
		}
	}
	return nil
}
