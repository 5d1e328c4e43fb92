package edit

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zonefile"
)

// RecordArg is a record as a person types it.
type RecordArg struct {
	Owner, Type string
	Data        []string
	TTL         string // empty: the file's default; "default" takes one away
	Line        int    // of standard input, from 1; 0 for arguments
}

// Subject is an owner that an edit is about, with the type of records; 0: of any.
type Subject struct {
	Owner dnsname.Name
	Type  rr.Type
}

// Owners are what an edit is about, ranges expanded.
func (o *Edit) Owners(apex dnsname.Name) (out []Subject, err error) {
	args, err := expandAll(o.Records)
	if err != nil {
		return nil, err
	}
	for _, r := range args {
		s := Subject{}
		owner, err := ALabels(r.Owner)
		if err != nil {
			return nil, err
		}
		if s.Owner, err = ownerIn(owner, apex); err != nil {
			return nil, err
		}
		if r.Type != "" {
			if s.Type, err = ParseType(r.Type); err != nil {
				return nil, err
			}
		}
		out = append(out, s)
	}
	return out, nil
}

// Lacks says what is missing in a record that is to be whole, or nil.
func (r *RecordArg) Lacks() error {
	if len(r.Data) > 0 {
		return nil
	}
	if ip, err := netip.ParseAddr(r.Type); err == nil {
		t, _ := AddressData(ip)
		return Usage("the type is missing in front of the address: write %s %s %s", r.Owner, t, ip)
	}
	if t, ok := rr.ParseType(r.Type); ok && rr.Lookup(t) != nil {
		return Usage("the %s record of %s has no data: write %s %s", t, r.Owner, r.Owner, rr.Lookup(t).Synopsis())
	}
	return Usage("%s has no type and data: write OWNER TYPE DATA", r.Owner)
}

// maxBadLines is how many lines with mistakes are told at once.
const maxBadLines = 20

// badLines are the mistakes in records from standard input.
type badLines []error

func (b *badLines) add(line int, err error) {
	*b = append(*b, fmt.Errorf("line %d of standard input: %w", line, err))
}

// err is all of it as one mistake in the use, or nil.
func (b badLines) err() error {
	if len(b) == 0 {
		return nil
	}
	words := make([]string, 0, maxBadLines+1)
	for i, e := range b {
		if i == maxBadLines {
			words = append(words, fmt.Sprintf("and %d more", len(b)-i))
			break
		}
		words = append(words, e.Error())
	}
	return Usage("%s", strings.Join(words, "\n"))
}

// ParseRecords reads records from text, one a line in the syntax of master files,
// relative to the zone that an edit is about. Owners are kept as they are
// written.
func ParseRecords(text []byte) (out []RecordArg, err error) {
	var src source.Set
	f, err := src.Add("standard input", text)
	if err != nil {
		return nil, err
	}
	var bad badLines
	for _, w := range zonefile.Words(f) {
		if w.Fault != "" {
			bad.add(w.Line, errors.New(w.Fault))
			continue
		}
		r, err := recordArg(w, out)
		if err != nil {
			bad.add(w.Line, err)
			continue
		}
		r.Line = w.Line
		out = append(out, r)
	}
	if err := bad.err(); err != nil {
		return nil, err
	}
	if len(out) == 0 {
		return nil, Usage("standard input holds no records: write OWNER TYPE DATA, one record a line")
	}
	return out, nil
}

// RecordFromWords reads a record from the words of a command: OWNER, TTL and class if
// wanted, TYPE, DATA.
func RecordFromWords(words []string) RecordArg {
	r, _ := recordArg(zonefile.Line{Words: words}, nil) // only a line without owner can be wrong
	return r
}

// recordArg takes a line apart: owner, TTL and class in either order, type, data.
func recordArg(w zonefile.Line, before []RecordArg) (r RecordArg, err error) {
	words := w.Words
	if w.Indented {
		if len(before) == 0 {
			return r, fmt.Errorf("the first line begins with a blank, so it has no owner")
		}
		r.Owner = before[len(before)-1].Owner
	} else {
		r.Owner, words = words[0], words[1:]
	}
	for len(words) > 0 {
		if _, _, isTTL := rr.ParseTTL([]byte(words[0])); isTTL && r.TTL == "" {
			r.TTL, words = words[0], words[1:]
			continue
		}
		if c, isClass := rr.ParseClass([]byte(words[0])); isClass && c == rr.ClassIN {
			words = words[1:]
			continue
		}
		break
	}
	if len(words) > 0 {
		r.Type, r.Data = words[0], words[1:]
	}
	return r, nil
}
