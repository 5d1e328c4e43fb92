package checks

import (
	"encoding/binary"
	"fmt"

	"fencepost/diag"
	"fencepost/lint"
	"fencepost/rr"
)

// dsDigests are the octets of a digest, by digest type (RFC 4034 App. A.2,
// RFC 4509, RFC 5933, RFC 6605).
var dsDigests = map[byte]int{1: 20, 2: 32, 3: 32, 4: 48}

var dsLength = &lint.Check{Rule: diag.Rule{
	Code: "ds-digest-length", Severity: diag.Error, Title: "the digest of a DS record has the wrong length", Ref: "RFC 4034 §5.1, RFC 4509 §2.1, RFC 6605 §2",
	Doc:  "Digest type 1 has 20 octets, type 2 has 32, type 4 has 48. A digest of another length was cut or has the wrong type: no key will ever match it, and the child cannot be validated.",
	Bad:  "sub NS ns1.example.net.\nsub NS ns2.example.net.\nsub DS 12345 13 2 2BB183AF5F22588179A53B0A98631FAD1A292118\n",
	Good: "sub NS ns1.example.net.\nsub NS ns2.example.net.\nsub DS 12345 13 2 2BB183AF5F22588179A53B0A98631FAD1A2921182BB183AF5F22588179A53B0A\n"},
	Types: types(rr.TypeDS, rr.TypeCDS), Set: perRecord(func(p *lint.Pass, set lint.Set, data []byte) (string, int, string) {
		if want := dsDigests[data[3]]; want > 0 && len(data)-4 != want && !(set.Type == rr.TypeCDS && data[2] == 0) {
			return fmt.Sprintf("the digest has %d octets; type %d has %d", len(data)-4, data[3], want), 3, "copy the whole DS again"
		}
		return "", 0, ""
	}),
}

// weakAlgorithms are those that validators no longer count on (RFC 8624 §3.1 and
// what replaced it).
var weakAlgorithms = map[byte]bool{1: true, 3: true, 5: true, 6: true, 7: true, 12: true}

var weakAlgorithm = &lint.Check{Rule: diag.Rule{
	Code: "weak-algorithm", Severity: diag.Warning, Title: "a DNSSEC algorithm or digest should no longer be used", Ref: "RFC 8624 §3.1, §3.3, RFC 9905",
	Doc: "Signatures with MD5, SHA-1, DSA or GOST are not to be made any more, and validators may treat the zone as unsigned. The same goes for DS records of digest type 1 (SHA-1). " +
		"Take algorithm 13 and digest type 2.",
	Bad:  "sub NS ns1.example.net.\nsub NS ns2.example.net.\nsub DS 12345 5 1 2BB183AF5F22588179A53B0A98631FAD1A292118\n",
	Good: "sub NS ns1.example.net.\nsub NS ns2.example.net.\nsub DS 12345 13 2 2BB183AF5F22588179A53B0A98631FAD1A2921182BB183AF5F22588179A53B0A\n"},
	Types: types(rr.TypeDS, rr.TypeCDS, rr.TypeDNSKEY, rr.TypeCDNSKEY), Set: func(p *lint.Pass, set lint.Set) {
		strong := false // a weak DS beside a good one does no harm
		eachData(set, func(i int, data []byte) { strong = strong || !isWeak(set.Type, data) })
		eachData(set, func(i int, data []byte) {
			if !isWeak(set.Type, data) || strong {
				return
			}
			algorithm, digest := keyFields(set.Type, data)
			if weakAlgorithms[algorithm] {
				p.Add(p.Report(set.Layout(i).Field(algorithmWord(set.Type)), "algorithm %d (%s) is not to be used any more", algorithm, rr.AlgorithmNumber(algorithm)))
				return
			}
			p.Add(p.Report(set.Layout(i).Field(2), "digest type %d is not to be used any more", digest).Suggest("have a DS of digest type 2 made"))
		})
	},
}

func isWeak(t rr.Type, data []byte) bool {
	algorithm, digest := keyFields(t, data)
	return weakAlgorithms[algorithm] || digest == 1 || digest == 3
}

// keyFields are the algorithm and, for DS, the digest type.
func keyFields(t rr.Type, data []byte) (algorithm, digest byte) {
	if t == rr.TypeDS || t == rr.TypeCDS {
		return data[2], data[3]
	}
	return data[3], 0
}

func algorithmWord(t rr.Type) int {
	if t == rr.TypeDS || t == rr.TypeCDS {
		return 1
	}
	return 2
}

// keyLengths are the octets of public keys of fixed length (RFC 6605 §4,
// RFC 8080 §3).
var keyLengths = map[byte]int{13: 64, 14: 96, 15: 32, 16: 57}

var dnskeyShape = &lint.Check{Rule: diag.Rule{
	Code: "dnskey-shape", Severity: diag.Error, Title: "a DNSKEY record cannot be a key", Ref: "RFC 4034 §2.1, RFC 6605 §4, RFC 8080 §3",
	Doc:  "The protocol is always 3, and a key of algorithm 13 has 64 octets, of 14 96, of 15 32, of 16 57. A part was lost, or the algorithm is another.",
	Bad:  "@ DNSKEY 257 3 13 oJMRESz5E4gYzS/q6XDrvU1qMPYIjCWzJaOau8XNEZeqCYKD5ar0IRd8KqXXFJkqmVfRvMGPmM1x8fGAa2Xh\n",
	Good: "@ DNSKEY 257 3 13 oJMRESz5E4gYzS/q6XDrvU1qMPYIjCWzJaOau8XNEZeqCYKD5ar0IRd8KqXXFJkqmVfRvMGPmM1x8fGAa2XhSA==\n"},
	Types: types(rr.TypeDNSKEY, rr.TypeCDNSKEY), Set: perRecord(func(p *lint.Pass, set lint.Set, data []byte) (string, int, string) {
		if data[2] != 3 {
			return fmt.Sprintf("the protocol is %d", data[2]), 1, "write 3"
		}
		if want := keyLengths[data[3]]; want > 0 && len(data)-4 != want {
			return fmt.Sprintf("the key has %d octets; algorithm %d has %d", len(data)-4, data[3], want), 3, ""
		}
		return "", 0, ""
	}),
}

var apexOnly = &lint.Check{Rule: diag.Rule{
	Code: "only-at-apex", Severity: diag.Warning, Title: "a record has a meaning only at the zone's own name", Ref: "RFC 4035 §2.1, RFC 7344 §4.1, RFC 7477 §2, RFC 5155 §4, RFC 8976 §2.1",
	Doc:  "DNSKEY, CDS, CDNSKEY, CSYNC, NSEC3PARAM and ZONEMD are about the zone as a whole. Elsewhere they are ignored.",
	Bad:  "www CSYNC 1 1 NS\nwww A 192.0.2.1\n",
	Good: "@ CSYNC 1 1 NS\n"},
	Types: types(rr.TypeDNSKEY, rr.TypeCDS, rr.TypeCDNSKEY, rr.TypeCSYNC, rr.TypeNSEC3PARAM, rr.TypeZONEMD), Set: func(p *lint.Pass, set lint.Set) {
		if !set.Name.IsApex() && !set.Name.Occluded() && !set.Name.IsCut() {
			p.Add(p.Report(set.Layout(0).Type, "a %s record has no meaning at %s", set.Type, set.Name.Owner()).Suggest("move it to the zone's own name"))
		}
	},
}

var nsec3Iterations = &lint.Check{Rule: diag.Rule{
	Code: "nsec3-iterations", Severity: diag.Warning, Title: "names are hashed more than once", Ref: "RFC 9276 §3.1, §3.2",
	Doc:  "More iterations cost every validator time and hide nothing. Validators treat a zone with many as unsigned, or refuse it. Use 0, and no salt.",
	Bad:  "@ NSEC3PARAM 1 0 10 aabbccdd\n",
	Good: "@ NSEC3PARAM 1 0 0 -\n"},
	Types: types(rr.TypeNSEC3PARAM), Set: perRecord(func(p *lint.Pass, set lint.Set, data []byte) (string, int, string) {
		if n := binary.BigEndian.Uint16(data[2:]); n > 0 {
			return fmt.Sprintf("names are hashed %d times more than once", n), 2, "sign with 0 iterations and no salt"
		}
		return "", 0, ""
	}),
}

var zonemdStale = &lint.Check{Rule: diag.Rule{
	Code: "zonemd-stale", Severity: diag.Warning, Title: "the digest of the zone is of another version, or cannot be one", Ref: "RFC 8976 §2.2, §4",
	Doc:  "A ZONEMD record holds the serial of the version it was made of, and a digest of 48 (SHA-384) or 64 octets (SHA-512). Let the signer write it; do not keep it in the file.",
	Bad:  "@ ZONEMD 2018031900 1 1 c68090d90a7aed716bc459f9340e3d7c1370d4d24b7e2fc3a1ddc0b9a87153b9a9713b3c9ae5cc27777f98b8e730044c\n",
	Good: "; the digest is written when the zone is signed: zonemd in its policy\nwww A 192.0.2.1\n"},
	Types: types(rr.TypeZONEMD), Set: perRecord(func(p *lint.Pass, set lint.Set, data []byte) (string, int, string) {
		if serial := binary.BigEndian.Uint32(data); set.Name.IsApex() && serial != p.Zone.Serial() {
			return fmt.Sprintf("this digest is of serial %d; the zone has %d", serial, p.Zone.Serial()), 0, "remove it and let the signer write it"
		}
		if want := map[byte]int{1: 48, 2: 64}[data[5]]; want > 0 && data[4] == 1 && len(data)-6 != want {
			return fmt.Sprintf("the digest has %d octets; hash algorithm %d has %d", len(data)-6, data[5], want), 3, ""
		}
		return "", 0, ""
	}),
}

// obsoleteTypes are the types that something else has replaced. KEY is left out:
// it still carries public keys of SIG(0).
var obsoleteTypes = func() (out []rr.Type) {
	for _, info := range rr.Table() {
		if info.Instead != "" && info.Type != rr.TypeKEY {
			out = append(out, info.Type)
		}
	}
	return out
}()

var obsoleteType = &lint.Check{Rule: diag.Rule{
	Code: "obsolete-type", Severity: diag.Warning, Title: "a record is of a type that is no longer used", Ref: "RFC 1035 §3.3.4, RFC 7208 §3.1, RFC 6563, RFC 4034",
	Doc:  "These types are not used any more; `fencepost explain TYPE` says what replaced each. An SPF policy, for example, belongs in a TXT record.",
	Bad:  "@ SPF \"v=spf1 -all\"\n",
	Good: "@ TXT \"v=spf1 -all\"\n"},
	Types: obsoleteTypes, Set: func(p *lint.Pass, set lint.Set) {
		p.Add(p.Report(set.Layout(0).Type, "the type %s is obsolete", set.Type).Suggest("use %s", rr.Lookup(set.Type).Instead))
	},
}

var minimalANY = &lint.Check{Rule: diag.Rule{
	Code: "any-answer-in-zone", Severity: diag.Note, Title: "the zone holds a made-up answer to a question for ANY", Ref: "RFC 8482 §4.2",
	Doc:  "HINFO with RFC8482 in it is what a server says when asked for everything. A copy of such an answer brought it into the file; remove it.",
	Bad:  "@ HINFO \"RFC8482\" \"\"\n",
	Good: "gauge HINFO \"ARM64\" \"LINUX\"\ngauge A 192.0.2.7\n"},
	Types: types(13), Set: perRecord(func(p *lint.Pass, set lint.Set, data []byte) (string, int, string) {
		if begins(data, "RFC8482") {
			return "this record is a server's refusal to answer ANY, not data", 0, "remove it"
		}
		return "", 0, ""
	}),
}
