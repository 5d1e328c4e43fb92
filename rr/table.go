package rr

// The types that code elsewhere names.
const (
	TypeA          Type = 1
	TypeNS         Type = 2
	TypeCNAME      Type = 5
	TypeSOA        Type = 6
	TypeNULL       Type = 10
	TypePTR        Type = 12
	TypeMX         Type = 15
	TypeTXT        Type = 16
	TypeRP         Type = 17
	TypeKEY        Type = 25
	TypeAAAA       Type = 28
	TypeLOC        Type = 29
	TypeSRV        Type = 33
	TypeNAPTR      Type = 35
	TypeDNAME      Type = 39
	TypeOPT        Type = 41
	TypeDS         Type = 43
	TypeSSHFP      Type = 44
	TypeRRSIG      Type = 46
	TypeNSEC       Type = 47
	TypeDNSKEY     Type = 48
	TypeNSEC3      Type = 50
	TypeNSEC3PARAM Type = 51
	TypeTLSA       Type = 52
	TypeSMIMEA     Type = 53
	TypeCDS        Type = 59
	TypeCDNSKEY    Type = 60
	TypeOPENPGPKEY Type = 61
	TypeCSYNC      Type = 62
	TypeZONEMD     Type = 63
	TypeSVCB       Type = 64
	TypeHTTPS      Type = 65
	TypeSPF        Type = 99
	TypeTSIG       Type = 250
	TypeIXFR       Type = 251
	TypeAXFR       Type = 252
	TypeANY        Type = 255
	TypeURI        Type = 256
	TypeCAA        Type = 257
)

// table declares every record type known by name, in the order of the numbers.
// A new type is a new entry here and a vector in testdata; reading, printing,
// canonical form, help and the round-trip tests follow.
var table = []Info{
	{Type: TypeA, Mnemonic: "A", Ref: "RFC 1035 §3.4.1", Title: "IPv4 address of a host",
		Fields: []Field{{"address", IPv4, "four decimal numbers from 0 to 255, joined by dots"}}},
	{Type: TypeNS, Mnemonic: "NS", Ref: "RFC 1035 §3.3.11", Title: "a name server of the zone, or of the zone delegated here",
		Fields: []Field{{"nsdname", HostName, "name of the server; it must have an address and be no alias"}}},
	{Type: 3, Mnemonic: "MD", Ref: "RFC 1035 §3.3.4", Title: "mail destination", Instead: "MX",
		Fields: []Field{{"madname", CompressedName, "host with the mailbox"}}},
	{Type: 4, Mnemonic: "MF", Ref: "RFC 1035 §3.3.5", Title: "mail forwarder", Instead: "MX",
		Fields: []Field{{"madname", CompressedName, "host that forwards"}}},
	{Type: TypeCNAME, Mnemonic: "CNAME", Ref: "RFC 1035 §3.3.1", Title: "this name is an alias of another",
		Fields: []Field{{"cname", CompressedName, "the true name"}}},
	{Type: TypeSOA, Mnemonic: "SOA", Ref: "RFC 1035 §3.3.13", Title: "start of the zone: who runs it, its serial and timers",
		Fields: []Field{
			{"mname", HostName, "the primary server"},
			{"rname", Mailbox, "mailbox of the person responsible, the first dot standing for @"},
			{"serial", U32, "version of the zone; must grow with every change (RFC 1982)"},
			{"refresh", Seconds, "secondaries look for a new version this often"},
			{"retry", Seconds, "secondaries try again this often while the primary does not answer"},
			{"expire", Seconds, "secondaries stop answering after this long without the primary"},
			{"minimum", Seconds, "how long resolvers remember that a name or type does not exist (RFC 2308)"}}},
	{Type: 7, Mnemonic: "MB", Ref: "RFC 1035 §3.3.3", Title: "host of a mailbox (experimental)",
		Fields: []Field{{"madname", CompressedName, "the host"}}},
	{Type: 8, Mnemonic: "MG", Ref: "RFC 1035 §3.3.6", Title: "member of a mail group (experimental)",
		Fields: []Field{{"mgmname", Mailbox, "mailbox of the member"}}},
	{Type: 9, Mnemonic: "MR", Ref: "RFC 1035 §3.3.8", Title: "new name of a mailbox (experimental)",
		Fields: []Field{{"newname", Mailbox, "the mailbox"}}},
	{Type: TypeNULL, Mnemonic: "NULL", Ref: "RFC 1035 §3.3.10", Title: "anything (experimental); in the generic form only"},
	{Type: 11, Mnemonic: "WKS", Ref: "RFC 1035 §3.4.2", Title: "services of a host", Instead: "nothing: ask the host",
		Fields: []Field{
			{"address", IPv4, "of the host"},
			{"protocol", Protocol, "6 is TCP, 17 UDP"},
			{"ports", Ports, "the services"}}},
	{Type: TypePTR, Mnemonic: "PTR", Ref: "RFC 1035 §3.3.12", Title: "name that belongs to an address",
		Fields: []Field{{"ptrdname", CompressedName, "the host name"}}},
	{Type: 13, Mnemonic: "HINFO", Ref: "RFC 1035 §3.3.2, RFC 8482", Title: "hardware and system of a host; also the minimal answer to ANY",
		Fields: []Field{
			{"cpu", String, ""},
			{"os", String, ""}}},
	{Type: 14, Mnemonic: "MINFO", Ref: "RFC 1035 §3.3.7", Title: "mailboxes that look after a list (experimental)",
		Fields: []Field{
			{"rmailbx", Mailbox, "mailbox of the person responsible"},
			{"emailbx", Mailbox, "mailbox for errors"}}},
	{Type: TypeMX, Mnemonic: "MX", Ref: "RFC 1035 §3.3.9, RFC 7505", Title: "mail exchanger of the domain",
		Fields: []Field{
			{"preference", U16, "the lowest is tried first"},
			{"exchange", HostName, `name of the mail host; "." with preference 0 means: no mail here`}}},
	{Type: TypeTXT, Mnemonic: "TXT", Ref: "RFC 1035 §3.3.14", Title: "text",
		Fields: []Field{{"text", Strings, "one or more strings of at most 255 octets, in quotes when they hold blanks"}}},
	{Type: TypeRP, Mnemonic: "RP", Ref: "RFC 1183 §2", Title: "person responsible",
		Fields: []Field{
			{"mbox", OldOwnName, "mailbox, the first dot standing for @"},
			{"txt", OldName, "a name with TXT records about it, or ."}}},
	{Type: 18, Mnemonic: "AFSDB", Ref: "RFC 1183 §1, RFC 5864", Title: "server of an AFS cell",
		Fields: []Field{
			{"subtype", U16, "1 cell database, 2 DCE"},
			{"hostname", OldHostName, "the server"}}},
	{Type: 19, Mnemonic: "X25", Ref: "RFC 1183 §3.1", Title: "X.121 address",
		Fields: []Field{{"psdn-address", String, "decimal digits"}}},
	{Type: 20, Mnemonic: "ISDN", Ref: "RFC 1183 §3.2", Title: "ISDN number",
		Fields: []Field{
			{"isdn-address", String, "decimal digits"},
			{"sa", OptionalString, "subaddress"}}},
	{Type: 21, Mnemonic: "RT", Ref: "RFC 1183 §3.3", Title: "host that routes to this one",
		Fields: []Field{
			{"preference", U16, "the lowest is tried first"},
			{"intermediate", OldHostName, "the host"}}},
	{Type: 22, Mnemonic: "NSAP", Ref: "RFC 1706", Title: "OSI address of a host", Instead: "A or AAAA",
		Fields: []Field{{"address", DottedHex, ""}}},
	{Type: 23, Mnemonic: "NSAP-PTR", Ref: "RFC 1706, RFC 1348", Title: "name that belongs to an OSI address", Instead: "PTR",
		Fields: []Field{{"owner", PlainName, ""}}},
	{Type: 24, Mnemonic: "SIG", Ref: "RFC 2535 §4, RFC 2931", Title: "signature of the first DNSSEC", Instead: "RRSIG",
		Fields: []Field{
			{"type-covered", TypeCode, ""},
			{"algorithm", Algorithm, ""},
			{"labels", U8, ""},
			{"original-ttl", U32, ""},
			{"expiration", Time, ""},
			{"inception", Time, ""},
			{"key-tag", U16, ""},
			{"signer", OldOwnName, ""},
			{"signature", Base64, ""}}},
	{Type: TypeKEY, Mnemonic: "KEY", Ref: "RFC 2535 §3, RFC 3445", Title: "public key of the first DNSSEC; still that of SIG(0)", Instead: "DNSKEY",
		Fields: []Field{
			{"flags", U16, ""},
			{"protocol", U8, ""},
			{"algorithm", Algorithm, ""},
			{"key", OptionalBase64, ""}}},
	{Type: 26, Mnemonic: "PX", Ref: "RFC 2163 §4", Title: "mapping of X.400 addresses",
		Fields: []Field{
			{"preference", U16, "the lowest is tried first"},
			{"map822", OldName, "the internet side"},
			{"mapx400", OldName, "the X.400 side"}}},
	{Type: 27, Mnemonic: "GPOS", Ref: "RFC 1712", Title: "position of a host", Instead: "LOC",
		Fields: []Field{
			{"longitude", String, "degrees"},
			{"latitude", String, "degrees"},
			{"altitude", String, "metres"}}},
	{Type: TypeAAAA, Mnemonic: "AAAA", Ref: "RFC 3596 §2", Title: "IPv6 address of a host",
		Fields: []Field{{"address", IPv6, "hexadecimal groups joined by colons (RFC 5952)"}}},
	{Type: TypeLOC, Mnemonic: "LOC", Ref: "RFC 1876", Title: "position of a host on the earth",
		Fields: []Field{{"latitude longitude altitude [size [horizontal [vertical]]]", Location, ""}}},
	{Type: 30, Mnemonic: "NXT", Ref: "RFC 2535 §5", Title: "next name and types of the first DNSSEC", Instead: "NSEC",
		Fields: []Field{
			{"next", OldOwnName, ""},
			{"types", OldBitmap, ""}}},
	{Type: 31, Mnemonic: "EID", Ref: "no RFC (Nimrod)", Title: "endpoint identifier (experimental)",
		Fields: []Field{{"data", Hex, ""}}},
	{Type: 32, Mnemonic: "NIMLOC", Ref: "no RFC (Nimrod)", Title: "locator (experimental)",
		Fields: []Field{{"data", Hex, ""}}},
	{Type: TypeSRV, Mnemonic: "SRV", Ref: "RFC 2782", Title: "host and port of a service",
		Fields: []Field{
			{"priority", U16, "the lowest is tried first"},
			{"weight", U16, "share among equals"},
			{"port", U16, "port of the service"},
			{"target", OldHostName, `name of the host; "." means: service not offered`}}},
	{Type: 34, Mnemonic: "ATMA", Ref: "no RFC (ATM Forum)", Title: "ATM address (experimental); in the generic form only"},
	{Type: TypeNAPTR, Mnemonic: "NAPTR", Ref: "RFC 3403 §4", Title: "rule that turns a name or number into another",
		Fields: []Field{
			{"order", U16, "the lowest first"},
			{"preference", U16, "among equals"},
			{"flags", String, "what comes after: S a SRV, A an address, U a URI, P up to the protocol"},
			{"services", String, "what it is for"},
			{"regexp", String, "substitution, with ! for a delimiter"},
			{"replacement", OldName, "the next name, or . when there is a substitution"}}},
	{Type: 36, Mnemonic: "KX", Ref: "RFC 2230 §3", Title: "host that exchanges keys for this one",
		Fields: []Field{
			{"preference", U16, "the lowest is tried first"},
			{"exchanger", LowerHostName, "the host"}}},
	{Type: 37, Mnemonic: "CERT", Ref: "RFC 4398 §2", Title: "certificate or revocation list",
		Fields: []Field{
			{"type", CertType, "1 is PKIX, 3 PGP"},
			{"key-tag", U16, ""},
			{"algorithm", Algorithm, ""},
			{"certificate", Base64, ""}}},
	{Type: 38, Mnemonic: "A6", Ref: "RFC 2874 §3, RFC 6563", Title: "IPv6 address in parts", Instead: "AAAA",
		Fields: []Field{
			{"prefix-length suffix", A6Prefix, ""},
			{"prefix-name", OptionalName, ""}}},
	{Type: TypeDNAME, Mnemonic: "DNAME", Ref: "RFC 6672 §2", Title: "all names below are aliases of the same names below another",
		Fields: []Field{{"target", LowerName, "the other name"}}},
	{Type: 40, Mnemonic: "SINK", Ref: "no RFC", Title: "anything (experimental)",
		Fields: []Field{
			{"coding", U8, ""},
			{"subcoding", U8, ""},
			{"data", OptionalBase64, ""}}},
	{Type: TypeOPT, Mnemonic: "OPT", Ref: "RFC 6891 §6.1", Title: "EDNS in a message", Use: Meta},
	{Type: 42, Mnemonic: "APL", Ref: "RFC 3123 §4", Title: "list of address prefixes",
		Fields: []Field{{"prefixes", Prefixes, "family:address/length, ! in front for all but that"}}},
	{Type: TypeDS, Mnemonic: "DS", Ref: "RFC 4034 §5", Title: "digest of a key of the zone delegated here",
		Fields: []Field{
			{"key-tag", U16, "tag of the DNSKEY"},
			{"algorithm", Algorithm, "algorithm of the DNSKEY"},
			{"digest-type", U8, "2 is SHA-256, 4 is SHA-384"},
			{"digest", Hex, "the digest"}}},
	{Type: TypeSSHFP, Mnemonic: "SSHFP", Ref: "RFC 4255 §3, RFC 6594", Title: "fingerprint of an SSH host key",
		Fields: []Field{
			{"algorithm", U8, "1 RSA, 3 ECDSA, 4 Ed25519, 6 Ed448"},
			{"fingerprint-type", U8, "1 SHA-1, 2 SHA-256"},
			{"fingerprint", Hex, ""}}},
	{Type: 45, Mnemonic: "IPSECKEY", Ref: "RFC 4025 §2", Title: "public key for IPsec",
		Fields: []Field{
			{"precedence", U8, "the lowest is tried first"},
			{"gateway-type algorithm gateway", Gateway, "type 0 none, 1 IPv4, 2 IPv6, 3 name"},
			{"key", OptionalBase64, ""}}},
	{Type: TypeRRSIG, Mnemonic: "RRSIG", Ref: "RFC 4034 §3", Title: "signature over the records of one type at this name",
		Fields: []Field{
			{"type-covered", TypeCode, "the type that is signed"},
			{"algorithm", Algorithm, ""},
			{"labels", U8, "labels of the owner, without root and asterisk"},
			{"original-ttl", U32, "TTL in the signed zone"},
			{"expiration", Time, "valid until, UTC"},
			{"inception", Time, "valid from, UTC"},
			{"key-tag", U16, "tag of the DNSKEY that made it"},
			{"signer", SignerName, "name of the zone"},
			{"signature", Base64, ""}}},
	{Type: TypeNSEC, Mnemonic: "NSEC", Ref: "RFC 4034 §4", Title: "the next name of the zone and the types at this one",
		Fields: []Field{
			{"next", NextName, "next name in canonical order"},
			{"types", Bitmap, "types at this name"}}},
	{Type: TypeDNSKEY, Mnemonic: "DNSKEY", Ref: "RFC 4034 §2", Title: "public key of the zone",
		Fields: []Field{
			{"flags", U16, "256 zone key, 257 zone key and entry point"},
			{"protocol", U8, "always 3"},
			{"algorithm", Algorithm, ""},
			{"key", Base64, "the public key"}}},
	{Type: 49, Mnemonic: "DHCID", Ref: "RFC 4701 §3", Title: "client that a name was given to by DHCP",
		Fields: []Field{{"data", Base64, ""}}},
	{Type: TypeNSEC3, Mnemonic: "NSEC3", Ref: "RFC 5155 §3", Title: "the next hashed name and the types at this one",
		Fields: []Field{
			{"hash-algorithm", U8, "1 is SHA-1"},
			{"flags", U8, "1 opt-out"},
			{"iterations", U16, "0 is advised (RFC 9276)"},
			{"salt", Salt, ""},
			{"next", Hash32, "next hash"},
			{"types", Bitmap, "types at this name"}}},
	{Type: TypeNSEC3PARAM, Mnemonic: "NSEC3PARAM", Ref: "RFC 5155 §4", Title: "how the zone hashes its names",
		Fields: []Field{
			{"hash-algorithm", U8, "1 is SHA-1"},
			{"flags", U8, "0"},
			{"iterations", U16, "0 is advised (RFC 9276)"},
			{"salt", Salt, ""}}},
	{Type: TypeTLSA, Mnemonic: "TLSA", Ref: "RFC 6698 §2", Title: "certificate of a TLS server",
		Fields: []Field{
			{"usage", TLSUsage, "0 PKIX-TA, 1 PKIX-EE, 2 DANE-TA, 3 DANE-EE"},
			{"selector", TLSSelector, "0 whole certificate, 1 public key"},
			{"matching-type", TLSMatching, "0 all of it, 1 SHA-256, 2 SHA-512"},
			{"data", Hex, ""}}},
	{Type: TypeSMIMEA, Mnemonic: "SMIMEA", Ref: "RFC 8162 §2", Title: "certificate of a mail user",
		Fields: []Field{
			{"usage", TLSUsage, "0 PKIX-TA, 1 PKIX-EE, 2 DANE-TA, 3 DANE-EE"},
			{"selector", TLSSelector, "0 whole certificate, 1 public key"},
			{"matching-type", TLSMatching, "0 all of it, 1 SHA-256, 2 SHA-512"},
			{"data", Hex, ""}}},
	{Type: 55, Mnemonic: "HIP", Ref: "RFC 8005 §5", Title: "host identity",
		Fields: []Field{
			{"algorithm identity-tag key", HostID, "algorithm 1 DSA, 2 RSA, 3 ECDSA"},
			{"servers", Names, "rendezvous servers"}}},
	{Type: 56, Mnemonic: "NINFO", Ref: "no RFC", Title: "text about a zone",
		Fields: []Field{{"text", Strings, ""}}},
	{Type: 57, Mnemonic: "RKEY", Ref: "no RFC", Title: "public key for encrypting records",
		Fields: []Field{
			{"flags", U16, ""},
			{"protocol", U8, ""},
			{"algorithm", Algorithm, ""},
			{"key", Base64, ""}}},
	{Type: 58, Mnemonic: "TALINK", Ref: "no RFC", Title: "neighbours in a list of trust anchors",
		Fields: []Field{
			{"previous", PlainName, ""},
			{"next", PlainName, ""}}},
	{Type: TypeCDS, Mnemonic: "CDS", Ref: "RFC 7344 §3.1, RFC 8078", Title: "DS that the parent should publish",
		Fields: []Field{
			{"key-tag", U16, "tag of the DNSKEY"},
			{"algorithm", Algorithm, "algorithm of the DNSKEY; 0 asks for no DS at all"},
			{"digest-type", U8, "2 is SHA-256, 4 is SHA-384"},
			{"digest", Hex, ""}}},
	{Type: TypeCDNSKEY, Mnemonic: "CDNSKEY", Ref: "RFC 7344 §3.2, RFC 8078", Title: "key of which the parent should publish a DS",
		Fields: []Field{
			{"flags", U16, "257"},
			{"protocol", U8, "always 3"},
			{"algorithm", Algorithm, "0 asks for no DS at all"},
			{"key", Base64, ""}}},
	{Type: TypeOPENPGPKEY, Mnemonic: "OPENPGPKEY", Ref: "RFC 7929 §2", Title: "OpenPGP key of a mail user",
		Fields: []Field{{"data", Base64, "the key"}}},
	{Type: TypeCSYNC, Mnemonic: "CSYNC", Ref: "RFC 7477 §2", Title: "what the parent should copy from here",
		Fields: []Field{
			{"serial", U32, "not before this serial"},
			{"flags", U16, "1 at once, 2 when the serial is reached"},
			{"types", Bitmap, "NS, A, AAAA"}}},
	{Type: TypeZONEMD, Mnemonic: "ZONEMD", Ref: "RFC 8976 §2", Title: "digest of the whole zone",
		Fields: []Field{
			{"serial", U32, "of the SOA"},
			{"scheme", U8, "1 SIMPLE"},
			{"hash-algorithm", U8, "1 SHA-384, 2 SHA-512"},
			{"digest", Digest12, ""}}},
	{Type: TypeSVCB, Mnemonic: "SVCB", Ref: "RFC 9460 §2", Title: "where and how a service is reached",
		Fields: []Field{
			{"priority", U16, "0: alias of the target; else the lowest is tried first"},
			{"target", PlainHostName, "the host; . is the owner itself"},
			{"parameters", Params, "alpn=, port=, ipv4hint=, ipv6hint=, ech=, mandatory="}}},
	{Type: TypeHTTPS, Mnemonic: "HTTPS", Ref: "RFC 9460 §2", Title: "where and how the web site is reached; permitted at the zone's own name",
		Fields: []Field{
			{"priority", U16, "0: alias of the target; else the lowest is tried first"},
			{"target", PlainHostName, "the host; . is the owner itself"},
			{"parameters", Params, "alpn=, port=, ipv4hint=, ipv6hint=, ech=, mandatory="}}},
	{Type: 66, Mnemonic: "DSYNC", Ref: "RFC 9859", Title: "where to tell the parent of changes in the child",
		Fields: []Field{
			{"type", TypeCode, "CDS or CSYNC"},
			{"scheme", Scheme, "1 is NOTIFY"},
			{"port", U16, ""},
			{"target", PlainHostName, "the host"}}},
	{Type: 67, Mnemonic: "HHIT", Ref: "RFC 9886", Title: "hierarchical host identity tag",
		Fields: []Field{{"data", Base64, ""}}},
	{Type: 68, Mnemonic: "BRID", Ref: "RFC 9886", Title: "broadcast remote identity",
		Fields: []Field{{"data", Base64, ""}}},
	{Type: TypeSPF, Mnemonic: "SPF", Ref: "RFC 7208 §3.1", Title: "policy about who may send mail", Instead: "TXT with the same text",
		Fields: []Field{{"text", Strings, ""}}},
	{Type: 100, Mnemonic: "UINFO", Ref: "no RFC", Title: "reserved, without a format; in the generic form only"},
	{Type: 101, Mnemonic: "UID", Ref: "no RFC", Title: "reserved, without a format; in the generic form only"},
	{Type: 102, Mnemonic: "GID", Ref: "no RFC", Title: "reserved, without a format; in the generic form only"},
	{Type: 103, Mnemonic: "UNSPEC", Ref: "no RFC", Title: "reserved, without a format; in the generic form only"},
	{Type: 104, Mnemonic: "NID", Ref: "RFC 6742 §2.1", Title: "node identifier (experimental)",
		Fields: []Field{
			{"preference", U16, "the lowest is tried first"},
			{"node-id", NodeID, ""}}},
	{Type: 105, Mnemonic: "L32", Ref: "RFC 6742 §2.2", Title: "32-bit locator (experimental)",
		Fields: []Field{
			{"preference", U16, "the lowest is tried first"},
			{"locator", IPv4, ""}}},
	{Type: 106, Mnemonic: "L64", Ref: "RFC 6742 §2.3", Title: "64-bit locator (experimental)",
		Fields: []Field{
			{"preference", U16, "the lowest is tried first"},
			{"locator", NodeID, ""}}},
	{Type: 107, Mnemonic: "LP", Ref: "RFC 6742 §2.4", Title: "name that has locators (experimental)",
		Fields: []Field{
			{"preference", U16, "the lowest is tried first"},
			{"fqdn", PlainName, ""}}},
	{Type: 108, Mnemonic: "EUI48", Ref: "RFC 7043 §3", Title: "48-bit hardware address",
		Fields: []Field{{"address", EUI48, ""}}},
	{Type: 109, Mnemonic: "EUI64", Ref: "RFC 7043 §4", Title: "64-bit hardware address",
		Fields: []Field{{"address", EUI64, ""}}},
	{Type: 128, Mnemonic: "NXNAME", Ref: "RFC 9824", Title: "no such name, in type bitmaps only", Use: Meta},
	{Type: 249, Mnemonic: "TKEY", Ref: "RFC 2930", Title: "agreement on a key, in messages", Use: Meta},
	{Type: TypeTSIG, Mnemonic: "TSIG", Ref: "RFC 8945", Title: "signature of a message", Use: Meta},
	{Type: TypeIXFR, Mnemonic: "IXFR", Ref: "RFC 1995", Title: "incremental transfer", Use: Question},
	{Type: TypeAXFR, Mnemonic: "AXFR", Ref: "RFC 5936", Title: "transfer of the whole zone", Use: Question},
	{Type: 253, Mnemonic: "MAILB", Ref: "RFC 1035 §3.2.3", Title: "MB, MG and MR at once", Use: Question},
	{Type: 254, Mnemonic: "MAILA", Ref: "RFC 1035 §3.2.3", Title: "mail agents", Use: Question},
	{Type: TypeANY, Mnemonic: "ANY", Ref: "RFC 8482", Title: "whatever the server will give", Use: Question},
	{Type: TypeURI, Mnemonic: "URI", Ref: "RFC 7553 §4", Title: "address of a service as a URI",
		Fields: []Field{
			{"priority", U16, "the lowest is tried first"},
			{"weight", U16, "share among equals"},
			{"target", NonEmptyText, "the URI in quotes"}}},
	{Type: TypeCAA, Mnemonic: "CAA", Ref: "RFC 8659 §4", Title: "which authorities may issue certificates for the name",
		Fields: []Field{
			{"flags", U8, "128: an authority that does not know the tag must not issue"},
			{"tag", Tag, "issue, issuewild, iodef ..."},
			{"value", Text, "for issue: the authority's domain name, or ; for none"}}},
	{Type: 258, Mnemonic: "AVC", Ref: "no RFC", Title: "visibility and control of applications",
		Fields: []Field{{"text", Strings, ""}}},
	{Type: 259, Mnemonic: "DOA", Ref: "no RFC", Title: "digital object (expired draft)",
		Fields: []Field{
			{"enterprise", U32, ""},
			{"type", U32, ""},
			{"location", U8, ""},
			{"media-type", String, ""},
			{"data", Base64OrMinus, ""}}},
	{Type: 260, Mnemonic: "AMTRELAY", Ref: "RFC 8777 §4", Title: "relay for multicast",
		Fields: []Field{
			{"precedence", U8, "the lowest is tried first"},
			{"discovery-optional relay-type relay", Relay, "type 0 none, 1 IPv4, 2 IPv6, 3 name"}}},
	{Type: 261, Mnemonic: "RESINFO", Ref: "RFC 9606", Title: "what a resolver can do",
		Fields: []Field{{"text", Strings, "one key=value each"}}},
	{Type: 262, Mnemonic: "WALLET", Ref: "no RFC", Title: "address of a purse",
		Fields: []Field{{"text", Strings, ""}}},
	{Type: 263, Mnemonic: "CLA", Ref: "no RFC", Title: "convergence layer of delay-tolerant networks",
		Fields: []Field{{"text", Strings, ""}}},
	{Type: 264, Mnemonic: "IPN", Ref: "no RFC", Title: "node number of delay-tolerant networks",
		Fields: []Field{{"node", U64, ""}}},
	{Type: 32768, Mnemonic: "TA", Ref: "no RFC", Title: "trust anchor of the first attempts", Instead: "DS in the parent",
		Fields: []Field{
			{"key-tag", U16, ""},
			{"algorithm", Algorithm, ""},
			{"digest-type", U8, ""},
			{"digest", Hex, ""}}},
	{Type: 32769, Mnemonic: "DLV", Ref: "RFC 4431, RFC 8749", Title: "DS beside the hierarchy", Instead: "DS in the parent",
		Fields: []Field{
			{"key-tag", U16, ""},
			{"algorithm", Algorithm, ""},
			{"digest-type", U8, ""},
			{"digest", Hex, ""}}},
}

// MadeBySigner reports whether records of a type are what a signer puts into a zone:
// keys, signatures, proofs and digests (RFC 4034, RFC 5155, RFC 7344, RFC 8976).
func MadeBySigner(t Type) bool {
	switch t {
	case TypeRRSIG, TypeNSEC, TypeNSEC3, TypeNSEC3PARAM, TypeDNSKEY, TypeCDS, TypeCDNSKEY, TypeZONEMD:
		return true
	}
	return false
}
