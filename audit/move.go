package audit

import (
	"fmt"
	"slices"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/roll"
	"fencepost/rr"
)

// TrustAfterMove says why validating resolvers would reject a zone once it is delegated to other servers:
// what the DS at its parent name has to sign there (RFC 4035 §5.2). ds and keys are the data of the DS
// set as it is and of the DNSKEY set that the other servers have; ttl is that of the DS set. Empty: they
// would not. ways are the ways round it, each with its waits (RFC 6781 §4.3.5).
func TrustAfterMove(zone dnsname.Name, ds, keys [][]byte, ttl uint32) (problem string, ways []string) {
	if len(ds) == 0 || slices.ContainsFunc(ds, func(d []byte) bool { leads, _ := dnssec.DSMatch(zone, d, keys); return leads }) {
		return "", nil
	}
	wait := roll.Span(time.Duration(ttl) * time.Second)
	out := fmt.Sprintf("take the DS out first: the parent's operator removes it; wait %s (its TTL), until caches have forgotten it; then move, and have the DS of the new servers' keys entered", wait)
	if len(keys) == 0 {
		return fmt.Sprintf("the parent has a DS, of key %d, and the new servers do not sign: validating resolvers would reject the zone", tagOf(ds[0])),
			[]string{"have the new servers sign the zone before it moves, with keys that the parent has a DS of", out}
	}
	return fmt.Sprintf("the DS at the parent, of key %d, matches no key of the new servers: validating resolvers would reject the zone", tagOf(ds[0])),
		[]string{fmt.Sprintf("let both sign: each side publishes the other's DNSKEY records, the parent's operator enters the DS of both; wait until caches have seen the keys (the TTL of DNSKEY) and the DS (%s); then move (RFC 8901 §2.1.2)", wait), out}
}

var moveTest = &Test{Rule: rule("move-breaks-trust", diag.Error, "the DS at the parent matches no key of the new servers", "RFC 4035 §5.2, RFC 6781 §4.3.5",
	"A DS says that the zone is signed, and with which key. Once the zone is delegated to servers that do not sign with it, validating resolvers reject every answer, for as long as caches hold the DS."),
	Area: DNSSEC, Skip: func(f *Facts) string {
		switch {
		case !f.AsIf:
			return "the zone is looked at where it is delegated to now"
		case f.dsNowErr != nil:
			return ""
		case len(f.dsNow) == 0:
			return "the parent has no DS"
		}
		return ""
	}, Look: func(f *Facts, l *Findings) {
		if f.dsNowErr != nil {
			l.add("ask again when the parent's servers answer, before anything moves", "it is unknown whether the parent has a DS: %v", f.dsNowErr)
			return
		}
		problem, ways := TrustAfterMove(f.Zone, f.dsNow, f.keys(), f.dsNowTTL)
		for i, way := range ways {
			if i > 0 {
				problem = "the other way"
			}
			l.add(way, "%s", problem)
		}
	}}

// lookAtDS finds the DS that the zone above has now, for servers that the zone will be delegated to.
func (f *Facts) lookAtDS() {
	found, err := f.finder.Find(f.Zone, rr.TypeDS)
	f.dsNow, f.dsNowTTL, f.dsNowErr = found.Data, found.TTL, err
}
