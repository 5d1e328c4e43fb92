package zonefile

import (
	"bytes"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/source"
)

// twice is the name of a zone that was written without its final dot, so that it stands twice in the
// owner of the SOA: the records of that owner are those of the zone's own name.
type twice struct {
	owner []byte // as it was read, in small letters; nil: it was written right
	found diag.Diagnostic
}

// half is the origin where an owner is that origin under itself: a whole name that has lost its final
// dot.
func half(owner, origin []byte) ([]byte, bool) {
	if len(origin) < 2 || len(owner) != 2*len(origin)-1 {
		return nil, false
	}
	return origin, bytes.EqualFold(owner[:len(origin)-1], origin[:len(origin)-1]) && bytes.EqualFold(owner[len(origin)-1:], origin)
}

// mend gives a record of the doubled name the owner that was meant. The first is the SOA, after which
// there is a doubled name at all.
func (t *twice) mend(e *Entry, soa bool) {
	if soa && t.owner == nil && e.OwnerTok >= 0 {
		if origin, is := half(e.Owner, e.Origin); is {
			name, _ := dnsname.FromWire(e.Owner)
			meant, _ := dnsname.FromWire(origin)
			t.owner = bytes.ToLower(e.Owner)
			t.found = RuleZoneTwice.At(e.TokenSpan(e.OwnerTok), "the SOA stands at %s: %s has lost its final dot", name, meant.Plain()).
				Suggest("write %s, or @", meant)
			t.found.Fix = &diag.Fix{}
		}
	}
	if t.owner == nil || !strings.EqualFold(string(e.Owner), string(t.owner)) {
		return
	}
	if e.OwnerTok >= 0 {
		end := e.TokenSpan(e.OwnerTok).End
		t.found.Fix.Edits = append(t.found.Fix.Edits, diag.Edit{Span: source.Span{Start: end, End: end}, New: "."})
	}
	e.Owner = e.Owner[(len(e.Owner)-1)/2:]
}
