// Package rr holds the table of record types and everything that follows from
// it: reading and writing record data in text, wire and canonical form,
// checking it, and telling people which fields a type has.
//
// A record type is one declaration in table.go: number, mnemonic, reference and
// its fields by kind. Nothing else in the program switches over types to know
// what their data look like. Unknown types are handled as RFC 3597 asks.
package rr

import (
	"strconv"
	"strings"

	"fencepost/dnsname"
)

// Type is a record type or query type number (RFC 6895 §3.1).
type Type uint16

// Class is a class number; zones here are of class IN (RFC 1035 §3.2.4).
type Class uint16

// The classes that have a use here.
const (
	ClassIN   Class = 1
	ClassCH   Class = 3
	ClassNone Class = 254
	ClassAny  Class = 255
)

var classNames = map[string]Class{"IN": ClassIN, "CH": ClassCH, "HS": 4, "CS": 2, "NONE": ClassNone, "ANY": ClassAny}

func (c Class) String() string {
	for name, v := range classNames {
		if v == c {
			return name
		}
	}
	return "CLASS" + strconv.Itoa(int(c))
}

// Record is one resource record. Data is uncompressed wire form.
type Record struct {
	Name  dnsname.Name
	Type  Type
	Class Class
	TTL   uint32 // seconds, at most 2^31-1 (RFC 2181 §8)
	Data  []byte
}

// String is the record as a line of a master file, fields parted by tabs.
func (r Record) String() string {
	return string(r.AppendText(nil))
}

// AppendText appends the record as a line of a master file without a line end.
func (r Record) AppendText(b []byte) []byte {
	b = append(b, r.Name.String()...)
	b = append(b, '\t')
	b = strconv.AppendUint(b, uint64(r.TTL), 10)
	b = append(b, '\t')
	b = append(b, r.Class.String()...)
	b = append(b, '\t')
	b = append(b, r.Type.String()...)
	b = append(b, '\t')
	return AppendData(b, r.Type, r.Data)
}

// Field is one field of a type's data.
type Field struct {
	Name string // as the RFC calls it
	Kind *Kind
	Help string // what it means, for people; may be empty
}

// Info declares one record type.
type Info struct {
	Type     Type
	Mnemonic string
	Ref      string
	Title    string  // what the type is for, in a few words
	Fields   []Field // nil: no format is known, so the generic form is the only one
	Use      Use
	Instead  string // for an obsolete type: what took its place

	lower    bool // some field is put in lower case in canonical form
	hasNames bool
	unpacks  bool // a name in it is accepted compressed
}

// Use says where a type may stand.
type Use uint8

// The uses of a type.
const (
	Data     Use = iota // in zones
	Question            // in questions only: AXFR, ANY ... (RFC 6895 §3.1)
	Meta                // in messages only: OPT, TSIG ...
)

var (
	byNumber   = map[Type]*Info{}
	low        [512]*Info // byNumber for the types one meets, without hashing
	byMnemonic = map[string]*Info{}
	mnemonics  []string
)

func init() {
	for i := range table {
		info := &table[i]
		for _, f := range info.Fields {
			info.lower = info.lower || f.Kind.names&namesLower != 0
			info.hasNames = info.hasNames || f.Kind.names != 0
			info.unpacks = info.unpacks || f.Kind.names&namesUnpack != 0
		}
		byNumber[info.Type] = info
		if int(info.Type) < len(low) {
			low[info.Type] = info
		}
		byMnemonic[info.Mnemonic] = info
		if info.Use == Data {
			mnemonics = append(mnemonics, info.Mnemonic)
		}
	}
}

// Target is a name in a type's data that ought to exist: a host, the true name of
// an alias, but no mailbox and none of DNSSEC's own names.
type Target struct {
	Field int  // index in Info.Fields
	Word  int  // which word of the data it is, when each field is one word
	Host  bool // it ought to have an address
}

// Targets lists the targets in data of the type.
func (i *Info) Targets() (out []Target) {
	for n, f := range i.Fields {
		if k := f.Kind; k.names != 0 && !k.own && i.Type != TypeSOA {
			out = append(out, Target{n, n, k.host})
		}
	}
	return out
}

// nameWords are the results of NameWords, by type.
var nameWords = func() map[Type][]int {
	out := map[Type][]int{TypeSOA: {0}}
	for i := range table {
		for _, t := range table[i].Targets() {
			out[table[i].Type] = append(out[table[i].Type], t.Word)
		}
	}
	return out
}()

// NameWords are the words of a type's data that point to other names, from 0: those of
// Targets, and the primary in a SOA.
func NameWords(t Type) []int { return nameWords[t] }

// Lookup is the declaration of t, or nil for a type that has none.
func Lookup(t Type) *Info {
	if int(t) < len(low) {
		return low[t]
	}
	return byNumber[t]
}

// Table is all declarations in the order of their numbers. Do not change it.
func Table() []Info { return table }

// Mnemonics lists the types that may stand in a zone, in the order of their numbers.
func Mnemonics() []string { return mnemonics }

func (t Type) String() string {
	if info := Lookup(t); info != nil {
		return info.Mnemonic
	}
	return "TYPE" + strconv.Itoa(int(t))
}

// ParseType reads a mnemonic, in either case, or TYPEn (RFC 3597 §5). It does
// not allocate.
func ParseType[T []byte | string](s T) (Type, bool) {
	if len(s) == 1 && s[0]|0x20 == 'a' {
		return TypeA, true
	}
	var up [16]byte
	if len(s) == 0 || len(s) > len(up) {
		return 0, false
	}
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c >= 'a' && c <= 'z' {
			c -= 'a' - 'A'
		}
		up[i] = c
	}
	b := up[:len(s)]
	if info := byMnemonic[string(b)]; info != nil {
		return info.Type, true
	}
	if n, ok := numberAfter(b, "TYPE"); ok {
		return Type(n), true
	}
	return 0, false
}

// ParseClass reads a class mnemonic, in either case, or CLASSn.
func ParseClass(s []byte) (Class, bool) {
	if len(s) == 2 && s[0]|0x20 == 'i' && s[1]|0x20 == 'n' {
		return ClassIN, true
	}
	if len(s) < 2 || len(s) > 10 {
		return 0, false
	}
	up := strings.ToUpper(string(s))
	if c, ok := classNames[up]; ok && c < ClassNone {
		return c, true
	}
	n, ok := numberAfter([]byte(up), "CLASS")
	return Class(n), ok
}

func numberAfter(b []byte, prefix string) (uint16, bool) {
	if len(b) <= len(prefix) || len(b) > len(prefix)+5 || string(b[:len(prefix)]) != prefix {
		return 0, false
	}
	n := 0
	for _, c := range b[len(prefix):] {
		if c < '0' || c > '9' {
			return 0, false
		}
		n = n*10 + int(c-'0')
	}
	return uint16(n), n <= 0xffff
}

// Synopsis is the type with its fields as one would write them, such as
// "MX preference exchange".
func (i *Info) Synopsis() string {
	s := i.Mnemonic
	for _, f := range i.Fields {
		s += " " + f.Name
		if f.Kind.rest && f.Kind != Base64 && f.Kind != Hex {
			s += "…"
		}
	}
	return s
}
