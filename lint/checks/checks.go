// Package checks declares the checks of zones, one family a file. All is the
// list that is run; nothing registers itself.
package checks

import (
	"slices"

	"fencepost/diag"
	"fencepost/lint"
	"fencepost/rr"
	"fencepost/zonefile"
)

// All is every check, in the order in which the reference lists them.
var All = []*lint.Check{
	missingSOA, secondSOA, noNameServer, oneNameServer,
	soaExpire, expireWeekend, soaRetry, refreshShort, refreshLong, soaMinimum, expireLong, asideLong, contactAt, contactShape, contactDot, mnameMissing, serialZero, serialFuture, serialNoDate,
	ttlMismatch, ttlLong, ttlZero, duplicateRecord, obsoleteType, minimalANY, severalOfOne,
	aliasBesideData, severalAliases, aliasLoop, aliasChain, dnameHides, dnameBesideNS, dnameLoop,
	missingDotTarget, missingDotOwner, extraDot, addressAsOwner, urlAsName, placeholder,
	addressAsName, targetIsAlias, targetMissing, targetByWildcard, targetNoAddress, targetShape, danglingAlias, nullMX,
	hostShape, hostUnderscore, aLabel, asteriskInside, wildcardDNAME, wildcardDelegation, specialUse, privateReverseZone,
	unusableAddress, privateAddress, serversOneAddress, serversOneNetwork, serversIPv6Only, reverseShape, ptrStaysInside,
	missingGlue, occludedData, oneServerCut, dsWithoutDelegation, dsLength, weakAlgorithm, dnskeyShape, apexOnly, nsec3Iterations, zonemdStale, leftoverSignatures,
	spfSyntax, spfSeveral, spfLookups, spfAfterAll, spfAnyone, spfNoEnd, spfPtr, spfBlanks, spfVersionTypo,
	dmarcSyntax, dmarcSeveral, dmarcPlace, dkimSyntax, dkimWeak, dkimPlace, textQuotes, singleQuotes, caaFlags, caaTag, caaValue,
	serviceOwner, noneBesideOthers, srvPort, naptrRule, sshLength, tlsaFields, uriScheme,
	svcbAliasParams, svcbAliasOthers, svcbSelf, httpsNoAddress, dohPath,
	catalogVersion, catalogMember, catalogTwice, catalogServer,
	notDelegated, delegationDiffers, glueDiffers, dsNoKey, dsMissing, ptrMismatch, elsewhereMissing, elsewhereAlias, elsewhereNoAddress,
	audienceShown, audienceLacks, audienceOnly,
}

// Adjustable is the rules whose severity may be set, and whose findings may be
// allowed: the checks, and what is worth no error in the language. What cannot be
// read stays an error, for there is no record.
func Adjustable() (out []*diag.Rule) {
	for _, r := range slices.Concat(zonefile.Rules, rr.Rules) {
		if r.Severity != diag.Error {
			out = append(out, r)
		}
	}
	for _, c := range All {
		out = append(out, &c.Rule)
	}
	return out
}
