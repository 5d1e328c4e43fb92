package rr

import "fencepost/diag"

// Rules for fields of record data. FieldError carries one of them.
var (
	RuleMissingField = &diag.Rule{Code: "missing-field", Severity: diag.Error,
		Title: "a record has too few fields", Ref: "RFC 1035 §5.1",
		Doc:  "Each record type has a fixed list of fields. See `fencepost explain TYPE` for what this one wants.",
		Bad:  "@ MX 10\n",
		Good: "@ MX 10 mail\nmail A 192.0.2.5\n"}
	RuleExtraField = &diag.Rule{Code: "extra-field", Severity: diag.Error,
		Title: "a record has too many fields", Ref: "RFC 1035 §5.1",
		Doc:  "Something stands after the last field of the type. Often a comment lost its semicolon, or two records ended up on one line.",
		Bad:  "www A 192.0.2.1 192.0.2.2\n",
		Good: "www A 192.0.2.1\nwww A 192.0.2.2\n"}
	RuleBadNumber = &diag.Rule{Code: "bad-number", Severity: diag.Error,
		Title: "a number is missing, malformed or out of range", Ref: "RFC 1035 §3.3",
		Doc:  "Numbers in record data are plain decimal, without sign. The field says how large it may be: 255, 65535 or 4294967295.",
		Bad:  "@ MX 70000 mail\nmail A 192.0.2.5\n",
		Good: "@ MX 10 mail\nmail A 192.0.2.5\n"}
	RuleBadAddress = &diag.Rule{Code: "bad-address", Severity: diag.Error,
		Title: "an address cannot be read", Ref: "RFC 1035 §3.4.1, RFC 3596 §2.4",
		Doc:  "An A record holds exactly four decimal numbers joined by dots; an AAAA record holds an IPv6 address without a zone index.",
		Bad:  "www A 192.0.2\n",
		Good: "www A 192.0.2.1\n"}
	RuleAddressRange = &diag.Rule{Code: "address-out-of-range", Severity: diag.Error,
		Title: "a part of an IPv4 address is over 255", Ref: "RFC 1035 §3.4.1",
		Doc:  "Each of the four numbers is one octet, so at most 255. Usually a digit was typed twice.",
		Bad:  "www A 192.0.2.256\n",
		Good: "www A 192.0.2.25\n"}
	RuleAddressZero = &diag.Rule{Code: "address-leading-zero", Severity: diag.Error,
		Title: "a part of an IPv4 address has a leading zero", Ref: "RFC 1035 §3.4.1",
		Doc: "Some programs read a number with a leading zero as octal: 192.0.2.010 is 192.0.2.8 to them and 192.0.2.10 to others. " +
			"To avoid a wrong address it is refused. Write the number without the zero.",
		Bad:  "www A 192.0.2.010\n",
		Good: "www A 192.0.2.10\n"}
	RuleEmptyLabel = &diag.Rule{Code: "empty-label", Severity: diag.Error,
		Title: "a name has two dots in a row, or one in front", Ref: "RFC 1035 §3.1",
		Doc:  "Every label of a name has at least one character; only the root at the very end is empty.",
		Bad:  "www CNAME web..example.com.\n",
		Good: "www CNAME web.example.com.\nweb A 192.0.2.1\n"}
	RuleLabelTooLong = &diag.Rule{Code: "label-too-long", Severity: diag.Error,
		Title: "a label is longer than 63 octets", Ref: "RFC 1035 §2.3.4",
		Doc:  "The length of a label is kept in six bits, so 63 is the most there can be.",
		Bad:  "a123456789b123456789c123456789d123456789e123456789f123456789g123456789 A 192.0.2.1\n",
		Good: "a123456789b123456789c123456789d123456789e123456789f1234567890 A 192.0.2.1\n"}
	RuleNameTooLong = &diag.Rule{Code: "name-too-long", Severity: diag.Error,
		Title: "a name is longer than 255 octets", Ref: "RFC 1035 §2.3.4",
		Doc: "A whole name, with the origin that completes it, has at most 255 octets in a message. A missing final dot can be the reason: " +
			"then the origin is added to a name that was already complete.",
		Bad: "a123456789b123456789c123456789d123456789e123456789f1234567890.a123456789b123456789c123456789d123456789e123456789f1234567890." +
			"a123456789b123456789c123456789d123456789e123456789f1234567890.a123456789b123456789c123456789d123456789e123456789f1234567890." +
			"a123456789 A 192.0.2.1\n",
		Good: "a123456789b123456789c123456789 A 192.0.2.1\n"}
	RuleBadEscape = &diag.Rule{Code: "bad-escape", Severity: diag.Error,
		Title: "a backslash is not followed by a character or three digits", Ref: "RFC 1035 §5.1",
		Doc:  `\. stands for a dot inside a label, \032 for the octet 32. Three digits are needed and at most 255. To write a backslash itself, double it.`,
		Bad:  `note TXT "costs \999"` + "\n",
		Good: `note TXT "costs \\999"` + "\n"}
	RuleNoOrigin = &diag.Rule{Code: "no-origin", Severity: diag.Error,
		Title: "a name has no final dot and no origin is known", Ref: "RFC 1035 §5.1",
		Doc: "A name without a final dot is completed with the origin. This file has not said one: begin it with $ORIGIN and the zone's name, " +
			"give the file the zone's name, or say --origin.",
		Bad:  "-- no origin --\nwww 300 A 192.0.2.1\n",
		Good: "$ORIGIN example.com.\nwww A 192.0.2.1\n"}
	RuleTextTooLong = &diag.Rule{Code: "text-too-long", Severity: diag.Error,
		Title: "a text string is longer than 255 octets", Ref: "RFC 1035 §3.3",
		Doc: "A string has one octet for its length. A longer text is written as several strings in quotes, one after another: readers of SPF, DKIM " +
			"and the like join them without a blank.",
		Bad:  `t TXT "` + long(256) + "\"\n",
		Good: `t TXT "` + long(200) + `" "` + long(56) + "\"\n"}
	RuleBadBase64 = &diag.Rule{Code: "bad-base64", Severity: diag.Error,
		Title: "base64 text cannot be read", Ref: "RFC 4648 §4",
		Doc:  "Keys and signatures are written in base64. A character is wrong or the end is missing, as happens when a line is lost in copying.",
		Bad:  "@ DNSKEY 257 3 13 not*base64\n",
		Good: "@ DNSKEY 257 3 13 oJMRESz5E4gYzS/q6XDrvU1qMPYIjCWzJaOau8XNEZeqCYKD5ar0IRd8KqXXFJkqmVfRvMGPmM1x8fGAa2XhSA==\n"}
	RuleBadHex = &diag.Rule{Code: "bad-hex", Severity: diag.Error,
		Title: "hexadecimal text cannot be read", Ref: "RFC 4034 §5.3, RFC 3597 §5",
		Doc:  "Digests are written as pairs of hexadecimal digits. A character is not one of 0-9 and a-f, or the count is odd: compare with the original.",
		Bad:  "sub NS ns.example.org.\nsub NS ns2.example.org.\nsub DS 12345 13 2 9ABCX\n",
		Good: "sub NS ns.example.org.\nsub NS ns2.example.org.\nsub DS 12345 13 2 2BB183AF5F22588179A53B0A98631FAD1A2921182BB183AF5F22588179A53B0A\n"}
	RuleBadTypeCode = &diag.Rule{Code: "bad-type-name", Severity: diag.Error,
		Title: "a list of types holds an unknown type", Ref: "RFC 4034 §4.2",
		Doc:  "Types are written by mnemonic, such as MX, or as TYPE and a number.",
		Bad:  "a NSEC b.example. A MXX\n",
		Good: "@ CSYNC 66 3 A NS AAAA\n"}
	RuleBadAlgorithm = &diag.Rule{Code: "bad-algorithm", Severity: diag.Error,
		Title: "a DNSSEC algorithm is not known by this name", Ref: "RFC 4034 App. A.1",
		Doc:  "Write the algorithm's number or its mnemonic, such as 13 or ECDSAP256SHA256.",
		Bad:  "sub NS ns.example.org.\nsub DS 1 ECDSA 2 2BB183AF5F22588179A53B0A98631FAD1A2921182BB183AF5F22588179A53B0A\n",
		Good: "sub NS ns.example.org.\nsub NS ns2.example.org.\nsub DS 1 ECDSAP256SHA256 2 2BB183AF5F22588179A53B0A98631FAD1A2921182BB183AF5F22588179A53B0A\n"}
	RuleBadTime = &diag.Rule{Code: "bad-time", Severity: diag.Error,
		Title: "the time of a signature cannot be read", Ref: "RFC 4034 §3.2",
		Doc:  "Times are YYYYMMDDHHmmSS in UTC, 14 digits, or seconds since 1970.",
		Bad:  "a RRSIG A 13 2 60 20260230000000 20260101000000 1 example. AAAA\n",
		Good: "@ DNSKEY 257 3 13 oJMRESz5E4gYzS/q6XDrvU1qMPYIjCWzJaOau8XNEZeqCYKD5ar0IRd8KqXXFJkqmVfRvMGPmM1x8fGAa2XhSA==\na A 192.0.2.1\na RRSIG A 13 2 60 20260228000000 20260101000000 1 example. AAAA\n"}
	RuleBadTag = &diag.Rule{Code: "bad-tag", Severity: diag.Error,
		Title: "a CAA tag is not made of letters and digits", Ref: "RFC 8659 §4.1",
		Doc:  "The tag is a word such as issue, issuewild or iodef.",
		Bad:  "@ CAA 0 is-sue \"ca.example\"\n",
		Good: "@ CAA 0 issue \"ca.example\"\n"}
	RuleBadGeneric = &diag.Rule{Code: "bad-generic-data", Severity: diag.Error,
		Title: `data in the \# form cannot be read`, Ref: "RFC 3597 §5",
		Doc:  `The generic form is \# then the number of octets, then that many octets in hexadecimal; each word has an even number of digits. For a known type the octets must fit the type.`,
		Bad:  `t TYPE731 \# 3 abcd` + "\n",
		Good: `t TYPE731 \# 2 abcd` + "\n"}
	RuleUnquoted = &diag.Rule{Code: "quoted-field", Severity: diag.Error,
		Title: "a field that is not a text stands in quotes", Ref: "RFC 1035 §5.1",
		Doc:  "Only text strings are written in quotes. Remove the quotes.",
		Bad:  "www A \"192.0.2.1\"\n",
		Good: "www A 192.0.2.1\n"}
)

// Rules for the fields of the rarer types.
var (
	RuleBadWord = &diag.Rule{Code: "bad-word", Severity: diag.Error,
		Title: "a field has a word that is not allowed there", Ref: "RFC 4398 §2.1, RFC 7218 §2",
		Doc:  "Some numbers may be written as a word, such as PKIX for certificate type 1. This word is not known; the number itself always is.",
		Bad:  "@ CERT PKXI 12345 8 AQID\n",
		Good: "@ CERT PKIX 12345 8 AQID\n"}
	RuleBadHash = &diag.Rule{Code: "bad-hash", Severity: diag.Error,
		Title: "a hash of a name cannot be read", Ref: "RFC 5155 §3.3",
		Doc:  "Hashes of names are written in base32hex: the digits 0 to 9 and the letters a to v, without padding.",
		Bad:  "0p9mhaveqvm6t7vbl5lop2u3t2rp3tom NSEC3 1 0 0 - 2vptu5timamqttgl4luu9kg21e0aor3w A\n",
		Good: "0p9mhaveqvm6t7vbl5lop2u3t2rp3tom NSEC3 1 0 0 - 2vptu5timamqttgl4luu9kg21e0aor3s A\n"}
	RuleBadPrefix = &diag.Rule{Code: "bad-prefix", Severity: diag.Error,
		Title: "an address prefix cannot be read", Ref: "RFC 3123 §5",
		Doc:  "A prefix is written family:address/length with family 1 for IPv4 and 2 for IPv6. An exclamation mark in front means all but that.",
		Bad:  "net APL 1:192.0.2.0/33\n",
		Good: "net APL 1:192.0.2.0/24 !1:192.0.2.64/26\n"}
	RuleBadLocation = &diag.Rule{Code: "bad-location", Severity: diag.Error,
		Title: "a position on the earth cannot be read", Ref: "RFC 1876 §3",
		Doc:  "Latitude in degrees, minutes and seconds with N or S, longitude the same with E or W, then the altitude in metres.",
		Bad:  "pier LOC 91 N 7 E 0m\n",
		Good: "pier LOC 53 40 12 N 7 30 0 E 3m\n"}
	RuleBadParam = &diag.Rule{Code: "bad-service-parameter", Severity: diag.Error,
		Title: "a parameter of an HTTPS or SVCB record cannot be used", Ref: "RFC 9460 §2.1, §7",
		Doc: "Parameters are written key=value, each key once: alpn=h2,h3 port=8443 ipv4hint=192.0.2.1. A client drops a record whose " +
			"parameters contradict each other.",
		Bad:  "@ HTTPS 1 . alpn\n@ A 192.0.2.1\n",
		Good: "@ HTTPS 1 . alpn=h2,h3\n@ A 192.0.2.1\n"}
)

// Rules lists the rules of this package for the catalogue.
var Rules = []*diag.Rule{
	RuleMissingField, RuleExtraField, RuleBadNumber, RuleBadAddress, RuleAddressRange, RuleAddressZero,
	RuleEmptyLabel, RuleLabelTooLong, RuleNameTooLong, RuleBadEscape, RuleNoOrigin, RuleTextTooLong, RuleBadBase64,
	RuleBadHex, RuleBadTypeCode, RuleBadAlgorithm, RuleBadTime, RuleBadTag, RuleBadGeneric, RuleUnquoted,
	RuleBadWord, RuleBadHash, RuleBadPrefix, RuleBadLocation, RuleBadParam,
}

func long(n int) string {
	b := make([]byte, n)
	for i := range b {
		b[i] = 'a' + byte(i%26)
	}
	return string(b)
}
