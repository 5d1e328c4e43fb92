package rr

import "strings"

// AlgorithmNumber is a DNSSEC algorithm (RFC 4034 App. A.1 and its registry).
type AlgorithmNumber uint8

// The algorithms in use.
const (
	RSAMD5          AlgorithmNumber = 1
	DSA             AlgorithmNumber = 3
	RSASHA1         AlgorithmNumber = 5
	DSANSEC3        AlgorithmNumber = 6
	RSASHA1NSEC3    AlgorithmNumber = 7
	ECCGOST         AlgorithmNumber = 12
	RSASHA256       AlgorithmNumber = 8
	RSASHA512       AlgorithmNumber = 10
	ECDSAP256SHA256 AlgorithmNumber = 13
	ECDSAP384SHA384 AlgorithmNumber = 14
	ED25519         AlgorithmNumber = 15
	ED448           AlgorithmNumber = 16
)

// algorithmNames are the mnemonics of the registry, by number.
var algorithmNames = map[AlgorithmNumber]string{
	RSAMD5: "RSAMD5", 2: "DH", DSA: "DSA", RSASHA1: "RSASHA1", DSANSEC3: "DSA-NSEC3-SHA1", RSASHA1NSEC3: "RSASHA1-NSEC3-SHA1",
	RSASHA256: "RSASHA256", RSASHA512: "RSASHA512", ECCGOST: "ECC-GOST",
	ECDSAP256SHA256: "ECDSAP256SHA256", ECDSAP384SHA384: "ECDSAP384SHA384", ED25519: "ED25519", ED448: "ED448",
	252: "INDIRECT", 253: "PRIVATEDNS", 254: "PRIVATEOID",
}

func (a AlgorithmNumber) String() string {
	if s := algorithmNames[a]; s != "" {
		return s
	}
	return string(printU8(nil, []byte{byte(a)}))
}

// ParseAlgorithm reads an algorithm's mnemonic, in either case, or its number.
func ParseAlgorithm(s string) (AlgorithmNumber, bool) {
	if n, ok := parseUint([]byte(s), 255); ok {
		return AlgorithmNumber(n), true
	}
	for a, name := range algorithmNames {
		if strings.EqualFold(name, s) {
			return a, true
		}
	}
	return 0, false
}

func parseAlgorithm(p *Parser) *FieldError {
	tok := p.next()
	a, ok := ParseAlgorithm(string(tok))
	if !ok {
		return p.failLast(RuleBadAlgorithm, "%q is not a DNSSEC algorithm", tok)
	}
	p.out = append(p.out, byte(a))
	return nil
}
