package audit

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/binary"
	"fmt"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
)

// odd is a question that is unusual and allowed: whoever does not answer it, or not as it
// should, breaks something sooner or later (RFC 8906).
type probe struct {
	*diag.Rule
	edns   bool // it has EDNS
	advice string
	make   func(f *Facts) []byte
	// fault says what is wrong with an answer, empty if nothing is.
	fault func(q []byte, m *message.Message, raw []byte) string
}

type probeAnswer struct {
	query, raw []byte
	m          *message.Message
	err        error
}

func (ans *probeAnswer) ask(ctx context.Context, a *Auditor, f *Facts, s *Server, o *probe) {
	ans.query = o.make(f)
	ans.raw, ans.err = resolve.Raw(ctx, s.At, ans.query, resolve.Request{Net: a.Tracer.Net, Timeout: a.Tracer.Timeout, Tries: 2})
	if ans.err == nil {
		ans.m, ans.err = message.Decode(ans.raw)
	}
}

// tests makes a test of each odd question.
func probes() (out []*Test) {
	for _, o := range odds {
		out = append(out, &Test{Rule: o.Rule, Area: Behaviour, Skip: noAnswers, Look: func(f *Facts, l *Findings) {
			for _, s := range f.Servers {
				ans := s.odd[o]
				switch {
				case ans == nil || ans.query == nil:
				case ans.err != nil && ans.raw == nil:
					l.add(o.advice, "%s does not answer", s)
				case ans.err != nil:
					l.add(o.advice, "%s gives a malformed answer: %v", s, ans.err)
				default:
					if fault := o.fault(ans.query, ans.m, ans.raw); fault != "" {
						l.add(o.advice, "%s %s", s, fault)
					}
				}
			}
		}})
	}
	return out
}

const (
	privateType   = 65399 // for private use (RFC 6895 §3.1)
	privateOption = 65001 // for local use (RFC 6891 §9)
	reservedFlag  = 0x40  // Z in the fourth octet of the header (RFC 1035 §4.1.1)
	newProgram    = "update the server, or check whether a firewall in front of it drops what it does not know"
)

// question writes a query for the zone's name.
func question(f *Facts, t rr.Type, o message.QueryOptions) []byte { return questionOf(f.Zone, t, o) }

func questionOf(name dnsname.Name, t rr.Type, o message.QueryOptions) []byte {
	var id [2]byte
	_, _ = rand.Read(id[:]) // never fails (crypto/rand)
	o.ID = binary.BigEndian.Uint16(id[:])
	if o.EDNS && o.UDPSize == 0 {
		o.UDPSize = resolve.OurUDPSize
	}
	return message.AppendQuery(nil, name, t, o)
}

// header is a question without EDNS that has flags in the fourth octet of its header.
func header(flags byte) func(*Facts) []byte {
	return func(f *Facts) []byte {
		q := question(f, rr.TypeSOA, message.QueryOptions{})
		q[3] |= flags
		return q
	}
}

// opt is a question with EDNS that has a version and flags, and options.
func opt(version byte, flags uint16, options ...message.Option) func(*Facts) []byte {
	return func(f *Facts) []byte {
		q := question(f, rr.TypeSOA, message.QueryOptions{EDNS: true, Options: options})
		at := len(q) - 6 // of the extended code, where there are no options
		for _, o := range options {
			at -= 4 + len(o.Data)
		}
		q[at+1] = version
		binary.BigEndian.PutUint16(q[at+2:], binary.BigEndian.Uint16(q[at+2:])|flags)
		return q
	}
}

// plainly is the fault of an answer that should have been the usual one.
func plainly(_ []byte, m *message.Message, _ []byte) string {
	switch {
	case m.ExtendedRcode != message.NoError:
		return fmt.Sprintf("answers %s", m.ExtendedRcode)
	case m.Flags&message.FlagAA == 0:
		return "answers without authority"
	case len(m.Answer) == 0:
		return "answers with nothing"
	}
	return ""
}

// withEDNS is plainly, of an answer that has to have EDNS too.
func withEDNS(q []byte, m *message.Message, raw []byte) string {
	if fault := plainly(q, m, raw); fault != "" || m.EDNS != nil {
		return fault
	}
	return "answers a query with EDNS without EDNS"
}

// badVersion is the fault of an answer to a version of EDNS that there is not.
func badVersion(_ []byte, m *message.Message, _ []byte) string {
	switch {
	case m.EDNS == nil:
		return fmt.Sprintf("answers %s without EDNS; expected BADVERS", m.ExtendedRcode)
	case m.ExtendedRcode != message.BadVers:
		return fmt.Sprintf("answers %s; expected BADVERS", m.ExtendedRcode)
	case m.EDNS.Version != 0:
		return fmt.Sprintf("says that it knows version %d of EDNS", m.EDNS.Version)
	}
	return ""
}

// flagsOfOPT are the flags of the OPT record in an answer, of which Decode keeps DO only.
func flagsOfOPT(m *message.Message, raw []byte) uint16 {
	off, err := message.AfterQuestions(raw)
	if err != nil {
		return 0
	}
	var it message.Records
	it.Reset(raw, off, int(m.Counts[1])+int(m.Counts[2])+int(m.Counts[3]))
	for it.Next() {
		if it.Type == rr.TypeOPT {
			return uint16(it.TTL)
		}
	}
	return 0
}

const reservedEDNS = 0x0040

var odds = []*probe{
	{Rule: rule("unknown-type-mishandled", diag.Warning, "a server mishandles queries for types that it does not know", "RFC 3597 §3, RFC 8906 §3.1.2",
		"A type that the server does not know is a type of which the name has no records: the answer is NOERROR with nothing in it. An error or a timeout makes resolvers avoid the server when new types come into use."),
		advice: newProgram,
		make:   func(f *Facts) []byte { return question(f, privateType, message.QueryOptions{}) },
		fault: func(_ []byte, m *message.Message, _ []byte) string {
			if m.ExtendedRcode != message.NoError || m.Flags&message.FlagAA == 0 {
				return fmt.Sprintf("answers %s to a question for TYPE%d", m.ExtendedRcode, privateType)
			}
			if len(m.Answer) > 0 && m.Answer[0].Type != rr.TypeCNAME {
				return fmt.Sprintf("answers a query for TYPE%d, an unassigned type, with records", privateType)
			}
			return ""
		}},
	{Rule: rule("cd-flag-mishandled", diag.Warning, "a server mishandles queries with the flag CD", "RFC 4035 §3.1.6, RFC 8906 §3.1.3",
		"Validating resolvers set \"checking disabled\". It means nothing to an authoritative server: it answers as usual."),
		advice: newProgram, make: header(0x10), fault: plainly},
	{Rule: rule("ad-flag-mishandled", diag.Warning, "a server mishandles queries with the flag AD", "RFC 6840 §5.7, RFC 8906 §3.1.3",
		"A query with \"authentic data\" says that the flag is understood in the answer. An authoritative server answers as usual."),
		advice: newProgram, make: header(0x20), fault: plainly},
	{Rule: rule("reserved-flag-mishandled", diag.Warning, "a server mishandles queries with the reserved flag", "RFC 1035 §4.1.1, RFC 8906 §3.1.3",
		"The last reserved bit of the header may get a meaning one day. A server ignores it and does not send it back."),
		advice: newProgram, make: header(reservedFlag), fault: func(q []byte, m *message.Message, raw []byte) string {
			if fault := plainly(q, m, raw); fault != "" {
				return fault
			}
			if raw[3]&reservedFlag != 0 {
				return "sends the reserved flag back"
			}
			return ""
		}},
	{Rule: rule("rd-flag-mishandled", diag.Warning, "a server mishandles queries with the flag RD", "RFC 1034 §4.3.1, RFC 8906 §3.1.3",
		"\"Recursion desired\" is a wish: an authoritative server answers from its zones as usual, and copies the flag."),
		advice: newProgram, make: func(f *Facts) []byte { return question(f, rr.TypeSOA, message.QueryOptions{RD: true}) },
		fault: func(q []byte, m *message.Message, raw []byte) string {
			if fault := plainly(q, m, raw); fault != "" {
				return fault
			}
			if m.Flags&message.FlagRD == 0 {
				return "does not copy the flag RD"
			}
			return ""
		}},
	{Rule: rule("unknown-opcode-mishandled", diag.Warning, "a server mishandles messages with an opcode that it does not know", "RFC 1035 §4.1.1, RFC 8906 §3.1.4",
		"The answer to an unknown opcode is NOTIMP. Silence costs the requestor a timeout each time."),
		advice: newProgram, make: func(f *Facts) []byte {
			q := question(f, rr.TypeSOA, message.QueryOptions{})
			q[2] |= 15 << 3 // unassigned
			return q
		},
		fault: func(_ []byte, m *message.Message, _ []byte) string {
			if m.ExtendedRcode != message.NotImp {
				return fmt.Sprintf("answers %s, and not NOTIMP", m.ExtendedRcode)
			}
			return ""
		}},
	{Rule: rule("edns-unasked", diag.Warning, "a server answers queries without EDNS with EDNS", "RFC 6891 §7",
		"Old software treats an unexpected OPT record as an error. Only queries with EDNS are answered with EDNS."),
		advice: newProgram, make: func(f *Facts) []byte { return question(f, rr.TypeSOA, message.QueryOptions{}) },
		fault: func(q []byte, m *message.Message, raw []byte) string {
			if m.EDNS != nil {
				return "answers a query without EDNS with EDNS"
			}
			return plainly(q, m, raw)
		}},
	{Rule: rule("question-case-changed", diag.Warning, "a server changes upper and lower case of the query name", "RFC 1035 §4.1.1, RFC 4343 §4.1, RFC 5452 §9.1",
		"Resolvers mix upper and lower case into query names and compare, to detect forged answers. They reject the answers of a server that changes it."),
		advice: newProgram, make: func(f *Facts) []byte {
			q := question(f, rr.TypeSOA, message.QueryOptions{})
			for i := message.HeaderLen; i < len(q)-4; i++ {
				if c := q[i]; c >= 'a' && c <= 'z' && i%2 == 0 {
					q[i] = c - 'a' + 'A'
				}
			}
			return q
		},
		fault: func(q []byte, m *message.Message, raw []byte) string {
			if fault := plainly(q, m, raw); fault != "" {
				return fault
			}
			if len(raw) < len(q) || !bytes.Equal(raw[message.HeaderLen:len(q)], q[message.HeaderLen:]) {
				return "changes upper and lower case of the query name"
			}
			return ""
		}},
	{Rule: rule("edns-version-mishandled", diag.Warning, "a server mishandles versions of EDNS that it does not know", "RFC 6891 §6.1.3, RFC 8906 §3.2.2",
		"The answer to an unknown version is BADVERS, with the highest version that the server knows."),
		edns: true, advice: newProgram, make: opt(1, 0), fault: badVersion},
	{Rule: rule("edns-option-mishandled", diag.Warning, "a server mishandles EDNS options that it does not know", "RFC 6891 §6.1.2, RFC 8906 §3.2.3",
		"A server ignores unknown options and does not send them back. Cookies, padding and future options depend on it."),
		edns: true, advice: newProgram, make: opt(0, 0, message.Option{Code: privateOption, Data: []byte("fence")}), fault: func(q []byte, m *message.Message, raw []byte) string {
			if fault := withEDNS(q, m, raw); fault != "" {
				return fault
			}
			for _, o := range m.EDNS.Options {
				if o.Code == privateOption {
					return "sends an option back that it does not know"
				}
			}
			return ""
		}},
	{Rule: rule("edns-flag-mishandled", diag.Warning, "a server mishandles EDNS flags that it does not know", "RFC 6891 §6.1.4, RFC 8906 §3.2.4",
		"A server ignores unassigned EDNS flags and does not send them back."),
		edns: true, advice: newProgram, make: opt(0, reservedEDNS), fault: func(q []byte, m *message.Message, raw []byte) string {
			if fault := withEDNS(q, m, raw); fault != "" {
				return fault
			}
			if flagsOfOPT(m, raw)&reservedEDNS != 0 {
				return "sends a flag back that it does not know"
			}
			return ""
		}},
	{Rule: rule("edns-version-with-flag-mishandled", diag.Note, "a server mishandles unknown versions of EDNS with unknown flags", "RFC 6891 §6.1.3, RFC 8906 §3.2.4",
		"BADVERS comes first: flags of an unknown version have no meaning yet."),
		edns: true, advice: newProgram, make: opt(1, reservedEDNS), fault: badVersion},
	{Rule: rule("edns-version-with-option-mishandled", diag.Note, "a server mishandles unknown versions of EDNS with unknown options", "RFC 6891 §6.1.3, RFC 8906 §3.2.3",
		"BADVERS comes first: options of an unknown version have no meaning yet."),
		edns: true, advice: newProgram, make: opt(1, 0, message.Option{Code: privateOption, Data: []byte("fence")}), fault: badVersion},
	{Rule: rule("edns-several-options-mishandled", diag.Warning, "a server mishandles several EDNS options at once", "RFC 6891 §6.1.2, RFC 8906 §3.2.3",
		"Resolvers send a cookie, padding and more in one query. Each option is handled on its own."),
		edns: true, advice: newProgram, make: opt(0, 0, message.Option{Code: message.OptionNSID}, message.Option{Code: message.OptionCookie, Data: []byte("fencepos")},
			message.Option{Code: message.OptionExpire}, message.Option{Code: message.OptionPadding, Data: make([]byte, 16)}), fault: withEDNS},
	{Rule: rule("do-flag-mishandled", diag.Warning, "a server mishandles queries with the flag DO", "RFC 3225 §3, RFC 8906 §3.2.6",
		"\"DNSSEC answer OK\" is in nearly every query of a resolver. A server answers, and copies the flag, whether the zone is signed or not."),
		edns: true, advice: newProgram, make: opt(0, 0x8000), fault: func(q []byte, m *message.Message, raw []byte) string {
			if fault := withEDNS(q, m, raw); fault != "" {
				return fault
			}
			if !m.EDNS.DO {
				return "does not copy the flag DO"
			}
			return ""
		}},
	{Rule: rule("edns-lost-when-cut-off", diag.Warning, "a server leaves EDNS out of truncated answers", "RFC 6891 §7, RFC 8906 §3.2.5",
		"A truncated answer keeps its OPT record: it shows that the server understands EDNS, and the requestor uses it over TCP too."),
		edns: true, advice: newProgram, make: small, fault: func(_ []byte, m *message.Message, _ []byte) string {
			if m.Flags&message.FlagTC != 0 && m.EDNS == nil {
				return "leaves EDNS out of a truncated answer"
			}
			return ""
		}},
	{Rule: rule("answer-over-size", diag.Warning, "a server sends UDP answers larger than the requestor accepts", "RFC 6891 §6.2.5",
		"The query says how large an answer may be. A larger one is lost, or is sent in fragments, which can be forged and are often dropped."),
		edns: true, advice: newProgram, make: small, fault: func(_ []byte, _ *message.Message, raw []byte) string {
			if len(raw) > message.MinUDP {
				return fmt.Sprintf("answers with %d octets where the query allows %d", len(raw), message.MinUDP)
			}
			return ""
		}},
}

// small asks for a name that does not exist with the proof of that, in an answer of 512 octets
// at most.
func small(f *Facts) []byte {
	return questionOf(f.nosuch, rr.TypeA, message.QueryOptions{EDNS: true, UDPSize: message.MinUDP, DO: true})
}
