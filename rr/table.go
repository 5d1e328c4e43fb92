package rr

// The types that code elsewhere names.
const (
	TypeA      Type = 1
	TypeNS     Type = 2
	TypeCNAME  Type = 5
	TypeSOA    Type = 6
	TypePTR    Type = 12
	TypeMX     Type = 15
	TypeTXT    Type = 16
	TypeAAAA   Type = 28
	TypeSRV    Type = 33
	TypeDNAME  Type = 39
	TypeOPT    Type = 41
	TypeDS     Type = 43
	TypeRRSIG  Type = 46
	TypeNSEC   Type = 47
	TypeDNSKEY Type = 48
	TypeTSIG   Type = 250
	TypeIXFR   Type = 251
	TypeAXFR   Type = 252
	TypeANY    Type = 255
	TypeCAA    Type = 257
)

// table declares every record type known by name, in the order of the numbers.
// A new type is a new entry here and a vector in testdata; reading, printing,
// canonical form, help and the round-trip tests follow.
var table = []Info{
	{Type: TypeA, Mnemonic: "A", Ref: "RFC 1035 §3.4.1", Title: "IPv4 address of a host",
		Fields: []Field{{"address", IPv4, "four decimal numbers from 0 to 255, joined by dots"}}},
	{Type: TypeNS, Mnemonic: "NS", Ref: "RFC 1035 §3.3.11", Title: "a name server of the zone, or of the zone delegated here",
		Fields: []Field{{"nsdname", HostName, "name of the server; it must have an address and be no alias"}}},
	{Type: TypeCNAME, Mnemonic: "CNAME", Ref: "RFC 1035 §3.3.1", Title: "this name is an alias of another",
		Fields: []Field{{"cname", CompressedName, "the true name"}}},
	{Type: TypeSOA, Mnemonic: "SOA", Ref: "RFC 1035 §3.3.13", Title: "start of the zone: who runs it, its serial and timers",
		Fields: []Field{
			{"mname", HostName, "the primary server"},
			{"rname", CompressedName, "mailbox of the person responsible, the first dot standing for @"},
			{"serial", U32, "version of the zone; must grow with every change (RFC 1982)"},
			{"refresh", Seconds, "secondaries look for a new version this often"},
			{"retry", Seconds, "and this often while the primary does not answer"},
			{"expire", Seconds, "after this long without the primary they stop answering"},
			{"minimum", Seconds, "how long resolvers remember that a name or type does not exist (RFC 2308)"}}},
	{Type: TypePTR, Mnemonic: "PTR", Ref: "RFC 1035 §3.3.12", Title: "name that belongs to an address",
		Fields: []Field{{"ptrdname", CompressedName, "the host name"}}},
	{Type: TypeMX, Mnemonic: "MX", Ref: "RFC 1035 §3.3.9, RFC 7505", Title: "mail exchanger of the domain",
		Fields: []Field{
			{"preference", U16, "the lowest is tried first"},
			{"exchange", HostName, `name of the mail host; "." with preference 0 means: no mail here`}}},
	{Type: TypeTXT, Mnemonic: "TXT", Ref: "RFC 1035 §3.3.14", Title: "text",
		Fields: []Field{{"text", Strings, "one or more strings of at most 255 octets, in quotes when they hold blanks"}}},
	{Type: TypeAAAA, Mnemonic: "AAAA", Ref: "RFC 3596 §2", Title: "IPv6 address of a host",
		Fields: []Field{{"address", IPv6, "hexadecimal groups joined by colons (RFC 5952)"}}},
	{Type: TypeSRV, Mnemonic: "SRV", Ref: "RFC 2782", Title: "host and port of a service",
		Fields: []Field{
			{"priority", U16, "the lowest is tried first"},
			{"weight", U16, "share among equals"},
			{"port", U16, "port of the service"},
			{"target", OldHostName, `name of the host; "." means: service not offered`}}},
	{Type: TypeDNAME, Mnemonic: "DNAME", Ref: "RFC 6672 §2", Title: "all names below are aliases of the same names below another",
		Fields: []Field{{"target", LowerName, "the other name"}}},
	{Type: TypeOPT, Mnemonic: "OPT", Ref: "RFC 6891 §6.1", Title: "EDNS in a message", Use: Meta},
	{Type: TypeDS, Mnemonic: "DS", Ref: "RFC 4034 §5", Title: "digest of a key of the zone delegated here",
		Fields: []Field{
			{"key-tag", U16, "tag of the DNSKEY"},
			{"algorithm", Algorithm, "algorithm of the DNSKEY"},
			{"digest-type", U8, "2 is SHA-256, 4 is SHA-384"},
			{"digest", Hex, "the digest"}}},
	{Type: TypeRRSIG, Mnemonic: "RRSIG", Ref: "RFC 4034 §3", Title: "signature over the records of one type at this name",
		Fields: []Field{
			{"type-covered", TypeCode, "the type that is signed"},
			{"algorithm", Algorithm, ""},
			{"labels", U8, "labels of the owner, without root and asterisk"},
			{"original-ttl", U32, "TTL in the signed zone"},
			{"expiration", Time, "valid until, UTC"},
			{"inception", Time, "valid from, UTC"},
			{"key-tag", U16, "tag of the DNSKEY that made it"},
			{"signer", LowerName, "name of the zone"},
			{"signature", Base64, ""}}},
	{Type: TypeNSEC, Mnemonic: "NSEC", Ref: "RFC 4034 §4", Title: "the next name of the zone and the types at this one",
		Fields: []Field{
			{"next", PlainName, "next name in canonical order"},
			{"types", Bitmap, "types at this name"}}},
	{Type: TypeDNSKEY, Mnemonic: "DNSKEY", Ref: "RFC 4034 §2", Title: "public key of the zone",
		Fields: []Field{
			{"flags", U16, "256 zone key, 257 zone key and entry point"},
			{"protocol", U8, "always 3"},
			{"algorithm", Algorithm, ""},
			{"key", Base64, "the public key"}}},
	{Type: TypeTSIG, Mnemonic: "TSIG", Ref: "RFC 8945", Title: "signature of a message", Use: Meta},
	{Type: TypeIXFR, Mnemonic: "IXFR", Ref: "RFC 1995", Title: "incremental transfer", Use: Question},
	{Type: TypeAXFR, Mnemonic: "AXFR", Ref: "RFC 5936", Title: "transfer of the whole zone", Use: Question},
	{Type: TypeANY, Mnemonic: "ANY", Ref: "RFC 8482", Title: "whatever the server will give", Use: Question},
	{Type: TypeCAA, Mnemonic: "CAA", Ref: "RFC 8659 §4", Title: "which authorities may issue certificates for the name",
		Fields: []Field{
			{"flags", U8, "128: an authority that does not know the tag must not issue"},
			{"tag", Tag, "issue, issuewild, iodef ..."},
			{"value", Text, "for issue: the authority's domain name, or ; for none"}}},
}
