package message

import "fmt"

// word is a code as it is written, with what it means in plain English.
type word struct{ mnemonic, meaning string }

// named is a code as it is written, or its number after a prefix.
func named[C ~uint8 | ~uint16](table map[C]word, c C, prefix string) string {
	if w, ok := table[c]; ok {
		return w.mnemonic
	}
	return fmt.Sprintf("%s%d", prefix, c)
}

// Rcode is a response code, with the upper bits that EDNS adds (RFC 6895 §2.3).
type Rcode uint16

// The response codes in use.
const (
	NoError  Rcode = 0
	FormErr  Rcode = 1
	ServFail Rcode = 2
	NXDomain Rcode = 3
	NotImp   Rcode = 4
	Refused  Rcode = 5
	YXDomain Rcode = 6
	YXRRSet  Rcode = 7
	NXRRSet  Rcode = 8
	NotAuth  Rcode = 9
	NotZone  Rcode = 10
	BadVers  Rcode = 16
)

// rcodes are those of RFC 6895 §2.3; an empty meaning is not put into words here.
var rcodes = map[Rcode]word{
	NoError:  {"NOERROR", "no error"},
	FormErr:  {"FORMERR", "the server did not understand the question"},
	ServFail: {"SERVFAIL", "the server could not answer"},
	NXDomain: {"NXDOMAIN", "the name does not exist"},
	NotImp:   {"NOTIMP", "the server does not do this kind of request"},
	Refused:  {"REFUSED", "the server refuses to answer"},
	YXDomain: {"YXDOMAIN", "a name exists that should not"},
	YXRRSet:  {"YXRRSET", "a set of records exists that should not"},
	NXRRSet:  {"NXRRSET", "a set of records does not exist that should"},
	NotAuth:  {"NOTAUTH", "the server is not responsible for the zone, or the signature was wrong"},
	NotZone:  {"NOTZONE", "a name is not in the zone"},
	11:       {"DSOTYPENI", "the server does not do this kind of session"},
	BadVers:  {"BADVERS", "the server does not know this version of EDNS"},
	17:       {"BADKEY", "the server does not know the key"},
	18:       {"BADTIME", "the signature was made at another time than the server's clock says"},
	23:       {"BADCOOKIE", "the cookie is missing or not the server's"},
}

func (r Rcode) String() string { return named(rcodes, r, "RCODE") }

// Description says in plain English what the code means.
func (r Rcode) Description() string {
	if w := rcodes[r]; w.meaning != "" {
		return w.meaning
	}
	return r.String()
}

// Opcode is a kind of request.
type Opcode uint8

// The opcodes in use.
const (
	OpQuery  Opcode = 0
	OpNotify Opcode = 4
	OpUpdate Opcode = 5
)

// opcodes are those of RFC 6895 §2.2.
var opcodes = map[Opcode]word{
	OpQuery:  {"QUERY", "a question"},
	1:        {"IQUERY", "an inverse query, which is obsolete (RFC 3425)"},
	2:        {"STATUS", "the server's status"},
	OpNotify: {"NOTIFY", "a zone has changed"},
	OpUpdate: {"UPDATE", "a change of a zone"},
	6:        {"DSO", "a stateful operation"},
}

func (o Opcode) String() string { return named(opcodes, o, "OPCODE") }

// ExtendedError says more about a response code (RFC 8914).
type ExtendedError uint16

// Those that are sent.
const (
	NotReady         ExtendedError = 14
	Prohibited       ExtendedError = 18
	NotAuthoritative ExtendedError = 20
	NotSupported     ExtendedError = 21
	InvalidData      ExtendedError = 24
	InvalidQueryType ExtendedError = 30
)

// extendedErrors are those of RFC 8914 §5.2, and what was registered since (IANA, Extended DNS
// Error Codes).
var extendedErrors = map[ExtendedError]word{
	0:                {"Other Error", ""},
	1:                {"Unsupported DNSKEY Algorithm", "the zone is signed with algorithms that the resolver does not know"},
	2:                {"Unsupported DS Digest Type", "the parent's DS has digests that the resolver does not know"},
	3:                {"Stale Answer", "it is old, for no server could be asked"},
	4:                {"Forged Answer", "it was changed on purpose, by policy"},
	5:                {"DNSSEC Indeterminate", "it could not be told whether the answer is right"},
	6:                {"DNSSEC Bogus", "the signatures do not prove the answer"},
	7:                {"Signature Expired", "the signatures have expired"},
	8:                {"Signature Not Yet Valid", "the signatures are not valid yet"},
	9:                {"DNSKEY Missing", "no key of the zone fits the parent's DS"},
	10:               {"RRSIGs Missing", "the answer has no signatures"},
	11:               {"No Zone Key Bit Set", "no key of the zone is for zones"},
	12:               {"NSEC Missing", "that nothing is there was not proved"},
	13:               {"Cached Error", "an error from the cache"},
	NotReady:         {"Not Ready", "the server is not ready yet"},
	15:               {"Blocked", "it was blocked by the operator"},
	16:               {"Censored", "it was blocked by order of a third party"},
	17:               {"Filtered", "it was blocked on the asker's own wish"},
	Prohibited:       {"Prohibited", "the asker is not served here"},
	19:               {"Stale NXDOMAIN Answer", "it is old, for no server could be asked"},
	NotAuthoritative: {"Not Authoritative", "the server has no such zone"},
	NotSupported:     {"Not Supported", "the server does not do this"},
	22:               {"No Reachable Authority", "no server of the zone could be reached"},
	23:               {"Network Error", "a server could not be reached"},
	InvalidData:      {"Invalid Data", "the server has data that it cannot use, as of a zone that has expired"},
	25:               {"Signature Expired before Valid", "a signature ends before it begins"},
	26:               {"Too Early", "the question came as early data of a connection, which may be a repetition"},
	27:               {"Unsupported NSEC3 Iterations Value", "the zone hashes its names more often than the resolver follows"},
	28:               {"Unable to conform to policy", "the server cannot keep to the rules that were asked for"},
	29:               {"Synthesized", "the answer was made from what is in the cache"},
	InvalidQueryType: {"Invalid Query Type", "this type cannot be asked for"},
}

func (e ExtendedError) String() string { return named(extendedErrors, e, "extended error ") }

// Description says in plain English what it means; empty where there is no more to say.
func (e ExtendedError) Description() string { return extendedErrors[e].meaning }
