// Package update carries out changes of a zone that come as a message (RFC 2136): what a
// request asks for, whether what it takes for granted holds, who may do it, and what becomes of the
// zone; and the way back, from a difference to a request. When it is stored and what is answered is
// somebody else's business.
package update

import (
	"fmt"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
)

// Request is a request to change a zone. Its steps come in the order of RFC 2136 §3: Read, Check,
// the rights of whoever asks, Scan, Apply.
type Request struct {
	Zone dnsname.Name
	// Prerequisites are what has to hold (§2.4), Changes what is to be done (§2.5), both as records
	// whose class says what they mean: of the zone, ANY or NONE.
	Prerequisites, Changes []rr.Record
}

// Refusal is why a request is not carried out.
type Refusal struct {
	Code message.Rcode
	Why  string
}

func (r *Refusal) Error() string { return r.Code.String() + ": " + r.Why }

// RefusedError is what a server said to a request in place of carrying it out.
type RefusedError struct {
	Server string // that was asked
	Key    string // that the request was signed with; empty: none
	*Refusal
}

func (e *RefusedError) Error() string {
	return fmt.Sprintf("%s refused the update: %s (%s)", e.Server, e.Why, e.Code)
}

func refuse(code message.Rcode, format string, args ...any) *Refusal {
	return &Refusal{code, fmt.Sprintf(format, args...)}
}

// Read takes a request from a message with opcode UPDATE (RFC 2136 §3.1.1).
func Read(m *message.Message) (*Request, *Refusal) {
	if len(m.Question) != 1 || m.Question[0].Type != rr.TypeSOA {
		return nil, refuse(message.FormErr, "the zone section has to name one zone, with type SOA")
	}
	if c := m.Question[0].Class; c != rr.ClassIN {
		return nil, refuse(message.NotAuth, "zones of class %s are not served", c)
	}
	return &Request{m.Question[0].Name, m.Answer, m.Authority}, nil
}

// Append appends the request as a message.
func (r *Request) Append(dst []byte, id uint16) []byte {
	flags := uint16(message.OpUpdate) << 11
	np, nc := len(r.Prerequisites), len(r.Changes)
	dst = append(dst, byte(id>>8), byte(id), byte(flags>>8), byte(flags), 0, 1, byte(np>>8), byte(np), byte(nc>>8), byte(nc), 0, 0)
	dst = r.Zone.AppendWire(dst)
	dst = append(dst, byte(rr.TypeSOA>>8), byte(rr.TypeSOA), 0, byte(rr.ClassIN))
	for _, section := range [][]rr.Record{r.Prerequisites, r.Changes} {
		for _, x := range section {
			n := len(x.Data)
			dst = x.Name.AppendWire(dst)
			dst = append(dst, byte(x.Type>>8), byte(x.Type), byte(x.Class>>8), byte(x.Class),
				byte(x.TTL>>24), byte(x.TTL>>16), byte(x.TTL>>8), byte(x.TTL), byte(n>>8), byte(n))
			dst = append(dst, x.Data...)
		}
	}
	return dst
}

// form is what a record of a class may be like.
type form struct {
	empty bool // it has no data
	any   bool // its type may be ANY
	ttl   bool // it has a TTL
}

// The forms of records by their class (RFC 2136 §3.2, §3.4.1.2).
var (
	prerequisites = map[rr.Class]form{rr.ClassAny: {empty: true, any: true}, rr.ClassNone: {empty: true, any: true}, rr.ClassIN: {}}
	changes       = map[rr.Class]form{rr.ClassAny: {empty: true, any: true}, rr.ClassNone: {}, rr.ClassIN: {ttl: true}}
)

// wrong says what is wrong with the form of a record; nil: nothing.
func (r *Request) wrong(x *rr.Record, forms map[rr.Class]form) *Refusal {
	f, known := forms[x.Class]
	switch {
	case !x.Name.AtOrBelow(r.Zone):
		return refuse(message.NotZone, "%s is not in the zone %s", x.Name, r.Zone)
	case !known:
		return refuse(message.FormErr, "%s %s has class %s", x.Name, x.Type, x.Class)
	case x.TTL != 0 && !f.ttl:
		return refuse(message.FormErr, "%s %s of class %s has a TTL", x.Name, x.Type, x.Class)
	case len(x.Data) > 0 && f.empty:
		return refuse(message.FormErr, "%s %s of class %s has data", x.Name, x.Type, x.Class)
	case notData(x.Type) && !(x.Type == rr.TypeANY && f.any):
		return refuse(message.FormErr, "%s %s: nothing in a zone has this type", x.Name, x.Type)
	}
	if !f.empty {
		if err := rr.Validate(x.Type, x.Data); err != nil {
			return refuse(message.FormErr, "%s %s: %v", x.Name, x.Type, err)
		}
	}
	return nil
}

// notData reports whether a type is for questions and messages alone (RFC 6895 §3.1).
func notData(t rr.Type) bool { return t == 0 || t == rr.TypeOPT || t >= 128 && t <= 255 }

// made are the types that the signer alone makes (RFC 3007 §4.3).
var made = map[rr.Type]bool{rr.TypeRRSIG: true, rr.TypeNSEC: true, rr.TypeNSEC3: true}

// Scan looks for what is malformed in the changes before anything is done (RFC 2136 §3.4.1).
func (r *Request) Scan() *Refusal {
	for i := range r.Changes {
		x := &r.Changes[i]
		if bad := r.wrong(x, changes); bad != nil {
			return bad
		}
		if made[x.Type] {
			return refuse(message.Refused, "%s %s: such records are made where the zone is signed", x.Name, x.Type)
		}
	}
	return nil
}
