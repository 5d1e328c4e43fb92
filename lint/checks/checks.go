// Package checks declares the checks of zones, one family a file. All is the
// list that is run; nothing registers itself.
package checks

import (
	"fencepost/diag"
	"fencepost/lint"
	"fencepost/rr"
	"fencepost/zonefile"
)

// All is every check, in the order in which the reference lists them.
var All = []*lint.Check{
	missingSOA, secondSOA, noNameServer, oneNameServer,
	soaExpire, soaRetry, soaMinimum, contactAt, serialZero,
	aliasBesideData, severalAliases,
	ttlMismatch, duplicateRecord,
	missingDotTarget, missingDotOwner,
	addressAsName, targetIsAlias, targetMissing, targetNoAddress, danglingAlias, nullMX,
	missingGlue, occludedData, dsWithoutDelegation, wildcardDelegation,
}

// Catalogue is every rule a zone file can break: of fields, of the language and
// of the checks.
func Catalogue() []*diag.Rule {
	var out []*diag.Rule
	out = append(out, zonefile.Rules...)
	out = append(out, rr.Rules...)
	for _, c := range All {
		out = append(out, &c.Rule)
	}
	return out
}
