package signer

import "fencepost/diag"

// Rules of signed zones.
var (
	RuleNotSigned = &diag.Rule{Code: "not-signed", Severity: diag.Error, Title: "the zone has no DNSKEY records", Ref: "RFC 4035 §2.1",
		Doc: "A signed zone publishes its public keys at its own name. Sign the zone with `fencepost sign`."}
	RuleBadKey = &diag.Rule{Code: "bad-key", Severity: diag.Error, Title: "a DNSKEY record cannot be used", Ref: "RFC 4034 §2.1",
		Doc: "The key is malformed, or its flags do not make it a key of the zone. Make it again or copy it again."}
	RuleNoSignature = &diag.Rule{Code: "missing-signature", Severity: diag.Error, Title: "records that must be signed are not", Ref: "RFC 4035 §2.2",
		Doc: "Every set of records the zone is responsible for needs a signature with each algorithm among its keys. Sign the zone again."}
	RuleBadSignature = &diag.Rule{Code: "bad-signature", Severity: diag.Error, Title: "a signature does not fit its records", Ref: "RFC 4035 §5.3",
		Doc: "The records were changed after signing, or the signature belongs to other records or keys. Validating resolvers reject the answer. Sign the zone again."}
	RuleExpired = &diag.Rule{Code: "signature-expired", Severity: diag.Error, Title: "a signature has expired", Ref: "RFC 4034 §3.1.5",
		Doc: "Validating resolvers reject it from that moment on. Sign the zone again; a server that signs by itself does so in time."}
	RuleEarly = &diag.Rule{Code: "signature-not-yet-valid", Severity: diag.Error, Title: "a signature is not valid yet", Ref: "RFC 4034 §3.1.5",
		Doc: "Its time of inception lies in the future. Look at the clock of the machine that signed."}
	RuleTTL = &diag.Rule{Code: "signed-ttl-mismatch", Severity: diag.Error, Title: "a TTL is not the one that was signed", Ref: "RFC 4034 §3, §3.1.4, RFC 4035 §2.2",
		Doc: "The TTL of a set, that of its signatures and the original TTL in them have to be the same. A TTL was changed after signing. Sign the zone again."}
	RuleDenialTTL = &diag.Rule{Code: "denial-ttl", Severity: diag.Warning, Title: "NSEC or NSEC3 records live longer or shorter than negative answers", Ref: "RFC 9077 §3",
		Doc: "Their TTL is to be the least of the SOA's TTL and its last number. Where it is larger, resolvers may deny names for longer than the zone says. Sign the zone again."}
	RuleStraySignature = &diag.Rule{Code: "stray-signature", Severity: diag.Error, Title: "a signature stands where none belongs", Ref: "RFC 4035 §2.2",
		Doc: "NS records of a delegation, glue and signatures themselves are not signed, and a signature without its records has no use."}
	RuleNoDenial = &diag.Rule{Code: "missing-nsec", Severity: diag.Error, Title: "a name has no NSEC or NSEC3 record", Ref: "RFC 4035 §2.3",
		Doc: "Each name the zone is responsible for has an NSEC or, by its hash, an NSEC3 record, so that what does not exist can be proved not to. Sign the zone again."}
	RuleBadChain = &diag.Rule{Code: "broken-nsec-chain", Severity: diag.Error, Title: "an NSEC or NSEC3 record does not point to the next name", Ref: "RFC 4034 §4.1.1",
		Doc: "The NSEC records form a ring through all names in canonical order. A gap or a detour makes names vanish or appear. Sign the zone again."}
	RuleBadTypes = &diag.Rule{Code: "wrong-nsec-types", Severity: diag.Error, Title: "an NSEC or NSEC3 record lists other types than the name has", Ref: "RFC 4034 §4.1.2",
		Doc: "A type that is not listed can be proved not to exist although it does. Sign the zone again."}
	RuleStrayDenial = &diag.Rule{Code: "stray-nsec", Severity: diag.Error, Title: "an NSEC or NSEC3 record stands where none belongs", Ref: "RFC 4035 §2.3",
		Doc: "Names below a delegation have no NSEC: they belong to the child zone. An NSEC3 record that belongs to no name is left over from one that is gone."}
	RuleNoKey = &diag.Rule{Code: "signature-without-key", Severity: diag.Warning, Title: "a signature was made with a key that is not in the zone", Ref: "RFC 6840 §5.12",
		Doc: "Resolvers ignore it, so it does no harm beside a good one. During an algorithm rollover this is normal; otherwise it is left over: sign the zone again."}
	RuleWeakKey = &diag.Rule{Code: "weak-key", Severity: diag.Warning, Title: "a key of the zone is weaker than it should be", Ref: "RFC 8624 §3.1, RFC 9905, RFC 6781 §3.4.2",
		Doc: "Its signatures are valid, but somebody might be able to forge others, or resolvers may treat the zone as unsigned. Roll to a key of algorithm 13 with `fencepost roll start`."}
	RuleParams = &diag.Rule{Code: "nsec3-parameters", Severity: diag.Error, Title: "the parameters of NSEC3 records do not agree", Ref: "RFC 5155 §4, §7.1, RFC 9276 §3.1",
		Doc: "NSEC3PARAM at the zone's own name says how names are hashed; one chain of NSEC3 records has to have just these parameters. Sign the zone again."}
	RuleCDS = &diag.Rule{Code: "cds-unsafe", Severity: diag.Error, Title: "what the zone tells its parent would break it", Ref: "RFC 7344 §4, §4.1, §5, RFC 8078 §4",
		Doc: "CDS and CDNSKEY have to mean the same keys, each CDS a key in the zone that signs the DNSKEY set, and the request to delete stands alone. A parent that followed these would make the zone unreachable for validating resolvers."}
	RuleZonemd = &diag.Rule{Code: "zonemd-mismatch", Severity: diag.Error, Title: "the digest of the zone is not that of its records", Ref: "RFC 8976 §4",
		Doc: "The zone was changed after the digest was made, or it belongs to another serial. Software that verifies it rejects the whole zone. Sign the zone again with --zonemd."}
	RuleNoAnchor = &diag.Rule{Code: "untrusted-keys", Severity: diag.Error, Title: "no DS or anchor matches the zone's keys", Ref: "RFC 4035 §5.2",
		Doc: "A DS in the parent must be the digest of a key of the zone that signs its DNSKEY set. If it is not, validating resolvers reject the whole zone."}
)

// Rules lists the rules of this package for the catalogue.
var Rules = []*diag.Rule{RuleNotSigned, RuleBadKey, RuleNoSignature, RuleBadSignature, RuleTTL, RuleDenialTTL, RuleExpired, RuleEarly,
	RuleStraySignature, RuleNoDenial, RuleBadChain, RuleBadTypes, RuleStrayDenial, RuleNoAnchor, RuleNoKey, RuleWeakKey, RuleParams, RuleCDS, RuleZonemd}
