package audit_test

import (
	"encoding/base64"
	"fmt"
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"testing"

	"fencepost/audit"
	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/internal/testrun"
	"fencepost/internal/testworld"
	"fencepost/internal/worlds"
	"fencepost/resolve"
	"fencepost/rr"
)

func auditor(w *testworld.World) *audit.Auditor {
	return &audit.Auditor{Tracer: w.Tracer(), Walker: w.Walker(), Anchors: w.Anchors(), Now: w.Clock.Now()}
}

// audited is one audit of a world.
type audited struct {
	zone   string // empty: saltmarsh.example
	text   string // more of the world
	swap   []string
	change func(*audit.Auditor)
	want   string // codes of what is found
	says   string // what is said of it; empty: whatever it is
}

const (
	salty  = `zone = "saltmarsh.example"`
	first  = `server = "ns1.saltmarsh.example"`
	friend = `server = "ns.harbour.example"`
)

// differs has records of the zone in the place of others, at all its servers.
func differs(zone, records string) string {
	return testworld.Fault(`kind = "differs"`, `zone = "`+zone+`"`, "records = '''\n"+records+"\n'''")
}

// of is an audit of the observatory's zone with other records.
func of(want string, records ...string) audited {
	return audited{text: differs("saltmarsh.example", strings.Join(records, "\n")), want: want}
}

// island is one of a zone that is not signed.
func island(want string, records ...string) audited {
	return audited{zone: "island.example", text: differs("island.example", strings.Join(records, "\n")), want: want + " " + onIsland}
}

// onIsland is what is found of the island's zone as it is.
const onIsland = "contact-without-mail issuance-open mail-without-mx servers-in-one-network web-name-missing zone-unsigned"

func soa(fields string) string { return "@ SOA ns1 hostmaster " + fields }

// of all servers of the zone.
func odd(kind string) string { return testworld.Fault(`kind = "`+kind+`"`, first) }

// keyed is island with a key, which signs nothing, and more records.
func keyed(want string, records ...string) audited {
	return audited{zone: "island.example", text: differs("island.example", key+"\n"+strings.Join(records, "\n")), want: onKeyed + " " + want}
}

const (
	key     = "@ DNSKEY 257 3 13 oJMRESz5E4gYzS/q6XDrvU1qMPYIjCWzJaOau8XNEZeqCYKD5ar0IRd8KqXXFJkqmVfRvMGPmM1x8fGAa2XhSA=="
	zoneKey = "@ DNSKEY 256 3 13 oJMRESz5E4gYzS/q6XDrvU1qMPYIjCWzJaOau8XNEZeqCYKD5ar0IRd8KqXXFJkqmVfRvMGPmM1x8fGAa2XhSA=="
	other   = "@ DNSKEY 257 3 13 mdsswUyr3DPW132mOi8V9xESWE8jTo0dxCjjnopKl+GqJxpVXckHAeF+KkxLbxILfDLUT0rAK9iUzy1L53eKGQ=="
	// onKeyed is what is found of a zone that has keys and no signatures.
	onKeyed = "contact-without-mail denial-unproved issuance-open mail-without-mx servers-in-one-network signatures-bad-at-server web-name-missing"
)

func manyKeys() (out []string) {
	for i := range 12 {
		octets := make([]byte, 64)
		octets[0] = byte(i)
		out = append(out, "@ DNSKEY 257 3 15 "+base64.StdEncoding.EncodeToString(octets[:32]))
		out = append(out, "@ DNSKEY 256 3 13 "+base64.StdEncoding.EncodeToString(octets))
	}
	return out
}

// dsOf is the DS of the island's key.
func dsOf(line string) string {
	_, text, _ := strings.Cut(line, " 13 ")
	octets, _ := base64.StdEncoding.DecodeString(text)
	data := append([]byte{1, 0, 3, 13}, octets...)
	return "island DS " + rr.DataText(rr.TypeDS, dnssec.DS(dnsname.MustParse("island.example."), data, dnssec.DigestSHA256))
}

// audits are worlds with what is found in each: every test has one in which it finds something.
var audits = map[string]audited{
	"a server cuts off":              {text: testworld.Fault(`kind = "cuts-short"`, first), want: "server-without-tcp", says: "ns1.saltmarsh.example (198.51.100.53) truncates its answers over UDP"},
	"a name in a zone":               {zone: "www.saltmarsh.example", want: "delegation-missing", says: "www.saltmarsh.example is a name in the zone saltmarsh.example, and no zone of its own"},
	"a name that is nowhere":         {zone: "egret.example", want: "delegation-missing", says: "example says that there is no name egret.example: it is not delegated"},
	"nothing":                        {},
	"nothing, hashed":                {swap: hashed},
	"nothing, below":                 {zone: "gauges.saltmarsh.example", want: "contact-without-mail mail-without-mx"},
	"nothing, a reverse zone":        {zone: "100.51.198.in-addr.arpa", want: "contact-without-mail"},
	"nothing, the root":              {zone: ".", want: "contact-without-mail server-reverse-missing servers-in-one-network"},
	"an island":                      {zone: "island.example", want: onIsland},
	"a small size asked for":         {swap: hashed, text: odd("overfills"), want: "answer-over-size"},
	"cut off without EDNS":           {swap: hashed, text: odd("cut-off-without-edns"), want: "edns-lost-when-cut-off"},
	"no delegation":                  {text: testworld.Fault(`kind = "no-delegation"`, salty), want: "delegation-missing"},
	"no glue":                        {text: testworld.Fault(`kind = "no-glue"`, salty), want: "glue-missing"},
	"other glue":                     {text: testworld.Fault(`kind = "wrong-glue"`, salty, `host = "ns1.saltmarsh.example"`, `glue = ["203.0.113.77"]`), want: "glue-incomplete glue-other-address server-lame servers-in-one-network"},
	"half the glue":                  {text: testworld.Fault(`kind = "wrong-glue"`, salty, `host = "ns1.saltmarsh.example"`, `glue = ["198.51.100.53"]`), want: "glue-incomplete"},
	"a loop":                         {zone: "one.example", text: testworld.Astray + testworld.Fault(`kind = "no-glue"`, `zone = "one.example"`) + testworld.Fault(`kind = "no-glue"`, `zone = "two.example"`), want: "delegation-loop one-name-server server-without-address"},
	"other servers above":            {text: testworld.Fault(`kind = "wrong-ns"`, salty, `ns = ["ns1.saltmarsh.example"]`), want: "servers-differ-above"},
	"one parent differs":             {text: testworld.Fault(`kind = "no-delegation"`, `server = "ns2.nic.example"`, salty), want: "parents-disagree"},
	"one server":                     {swap: []string{`servers = ["ns1.saltmarsh.example", "ns.harbour.example"]`, `servers = ["ns1.saltmarsh.example"]`}, want: "one-name-server"},
	"eight servers":                  {swap: []string{`servers = ["ns1.saltmarsh.example", "ns.harbour.example"]`, `servers = [` + eight + `]`}, want: "server-reverse-missing too-many-servers"},
	"long names of servers":          {text: testworld.Fault(`kind = "wrong-ns"`, salty, `ns = ["ns1.saltmarsh.example", "ns.harbour.example"`+longNames+`]`), want: "referral-too-large server-without-address servers-differ-above"},
	"an alias for a server":          {swap: ownNS("alias.saltmarsh.example"), text: differs("saltmarsh.example", "alias CNAME ns.harbour.example."), want: "server-is-alias server-without-address servers-differ-above"},
	"a server with an underscore":    {swap: ownNS("ns_2.saltmarsh.example"), text: differs("saltmarsh.example", "ns_2 A 203.0.113.53"), want: "server-name-no-host servers-differ-above servers-on-one-address"},
	"an NS without address":          {swap: ownNS("nowhere.saltmarsh.example"), want: "server-without-address servers-differ-above"},
	"a short life of NS":             of("ns-ttl-short", "@ 60 NS ns1.saltmarsh.example."),
	"all away":                       {text: testworld.Fault(`kind = "away"`, salty), want: "server-silent zone-unreachable"},
	"one away":                       {text: testworld.Fault(`kind = "away"`, first), want: "server-silent"},
	"lame":                           {text: testworld.Fault(`kind = "refuses"`, first, salty), want: "server-lame"},
	"without authority":              {text: testworld.Fault(`kind = "no-authority"`, first), want: "server-lame"},
	"all lame":                       {text: testworld.Fault(`kind = "refuses"`, salty), want: "server-lame zone-unreachable"},
	"no TCP":                         {text: odd("no-tcp"), want: "server-without-tcp"},
	"no EDNS":                        {text: odd("drops-edns"), want: "server-without-edns"},
	"EDNS malformed":                 {text: odd("edns-formerr"), want: "server-without-edns"},
	"stale":                          {text: testworld.Fault(`kind = "stale"`, first, salty), want: "serials-differ"},
	"same serial":                    {text: testworld.Fault(`kind = "differs"`, first, salty, `records = "@ SOA ns1 hostmaster 2026112801 7200 901 1209600 300"`), want: "same-serial-other-content"},
	"an alias at the apex":           {text: testworld.Fault(`kind = "alias-at-apex"`, salty, `host = "cams.harbour.example"`), want: "apex-is-alias chain-broken issuance-open mail-without-mx soa-missing"},
	"recursion":                      {text: odd("offers-recursion"), want: "recursion-offered"},
	"transfers":                      {text: odd("gives-to-all"), want: "transfer-open"},
	"unknown types":                  {text: odd("drops-unknown-types"), want: "unknown-type-mishandled"},
	"unknown opcodes":                {text: odd("drops-unknown-opcodes"), want: "unknown-opcode-mishandled"},
	"flags":                          {text: odd("drops-flags"), want: "ad-flag-mishandled cd-flag-mishandled reserved-flag-mishandled"},
	"the reserved flag":              {text: odd("echoes-reserved-flag"), want: "reserved-flag-mishandled"},
	"RD":                             {text: odd("drops-rd"), want: "rd-flag-mishandled"},
	"case":                           {text: odd("changes-case"), want: "question-case-changed"},
	"EDNS unasked":                   {text: odd("adds-edns"), want: "edns-unasked"},
	"versions":                       {text: odd("takes-any-edns-version"), want: "edns-version-mishandled edns-version-with-flag-mishandled edns-version-with-option-mishandled"},
	"options malformed":              {text: odd("edns-options-formerr"), want: "edns-option-mishandled edns-several-options-mishandled edns-version-with-option-mishandled"},
	"options sent back":              {text: odd("echoes-edns-options"), want: "edns-option-mishandled"},
	"flags sent back":                {text: odd("echoes-edns-flags"), want: "edns-flag-mishandled"},
	"DO forgotten":                   {text: odd("forgets-do"), want: "do-flag-mishandled"},
	"one network":                    {zone: "island.example", want: onIsland},
	"one system":                     {change: table("198.51.100.0/24 64500 Saltmarsh\n203.0.113.0/24 AS64500\n2001:db8::/32 64500"), want: "servers-share-system"},
	"two systems":                    {change: table("198.51.100.0/24 64500\n203.0.113.0/24 64501\n2001:db8::/32 64500"), want: ""},
	"private":                        {swap: []string{"198.51.100.53\", \"2001:db8:5a17::53", "10.1.2.3\", \"2001:db8:5a17::53"}, want: "server-address-unusable"},
	"no IPv4":                        {swap: []string{`addresses = ["198.51.100.53", "2001:db8:5a17::53"]`, `addresses = ["2001:db8:5a17::53"]`, `addresses = ["203.0.113.53", "2001:db8:b0a7::53"]`, `addresses = ["2001:db8:b0a7::53"]`}, want: "servers-without-ipv4"},
	"no IPv6":                        {swap: []string{`addresses = ["198.51.100.53", "2001:db8:5a17::53"]`, `addresses = ["198.51.100.53"]`, `addresses = ["203.0.113.53", "2001:db8:b0a7::53"]`, `addresses = ["203.0.113.53"]`}, want: "servers-without-ipv6"},
	"no PTR":                         {swap: []string{"53  PTR  ns1.saltmarsh.example.\n", ""}, want: "server-reverse-missing"},
	"another's PTR":                  {swap: []string{"53  PTR  ns1.saltmarsh.example.\n", "53 PTR mail.saltmarsh.example.\n"}, want: "server-reverse-elsewhere"},
	"primary not a server":           of("primary-no-server", "@ SOA mail hostmaster 2026112801 7200 900 1209600 300"),
	"primary not there":              of("primary-does-not-exist primary-no-server", "@ SOA nowhere hostmaster 2026112801 7200 900 1209600 300"),
	"contact without mail":           of("contact-without-mail", "@ SOA ns1 hostmaster.nowhere 2026112801 7200 900 1209600 300"),
	"no contact":                     of("contact-shape contact-without-mail", "@ SOA ns1 . 2026112801 7200 900 1209600 300"),
	"no CAA":                         {swap: []string{"@        CAA   0 issue \"ca.example\"\n", ""}, want: "issuance-open"},
	"no www":                         {swap: []string{"www      A     198.51.100.80\n", "", "www      AAAA  2001:db8:5a17::80\n", "", "tides    CNAME www\n", ""}, want: "web-name-missing"},
	"no MX":                          {swap: []string{"@        MX    10 mail\n", ""}, want: "mail-without-mx"},
	"null MX":                        of("contact-without-mail", "@ MX 0 .", "hostmaster A 198.51.100.25"),
	"MX without address":             of("contact-without-mail mail-host-missing", "@ MX 10 nohost"),
	"MX is an alias":                 of("mail-host-is-alias", "@ MX 10 post", "post CNAME mail"),
	"MX private":                     of("mail-host-unusable", "mail A 10.0.0.25"),
	"mail without PTR":               {swap: []string{"25  PTR  mail.saltmarsh.example.\n", ""}, want: "mail-reverse-missing"},
	"mail with another's PTR":        {swap: []string{"25  PTR  mail.saltmarsh.example.\n", "25 PTR www.saltmarsh.example.\n"}, want: "mail-reverse-missing"},
	"no SPF":                         {swap: []string{"@        TXT   \"v=spf1 mx -all\"\n", ""}, want: "spf-missing"},
	"SPF includes nothing":           of("spf-fails", `@ TXT "v=spf1 include:island.example -all"`),
	"SPF includes itself":            of("spf-fails", `@ TXT "v=spf1 include:saltmarsh.example -all"`),
	"SPF with many lookups":          of("spf-fails", `@ TXT "v=spf1 `+strings.Repeat("a:www.island.example ", 11)+`-all"`),
	"SPF with ten lookups":           of("", `@ TXT "v=spf1 include:harbour.example `+strings.Repeat("a:www.island.example ", 8)+`-all"`),
	"SPF with eleven through":        of("spf-fails", `@ TXT "v=spf1 include:harbour.example `+strings.Repeat("a:www.island.example ", 9)+`-all"`),
	"SPF with nothing there":         of("spf-fails", `@ TXT "v=spf1 a:n1.saltmarsh.example a:n2.saltmarsh.example a:n3.saltmarsh.example -all"`),
	"SPF with nothing there twice":   of("", `@ TXT "v=spf1 a:n1.saltmarsh.example a:n2.saltmarsh.example -all"`),
	"no DMARC":                       {swap: []string{"_dmarc   TXT", "_other TXT"}, want: "dmarc-missing"},
	"DMARC that watches":             of("dmarc-only-watches", `_dmarc TXT "v=DMARC1; p=none"`),
	"reports to strangers":           of("dmarc-reports-refused", `_dmarc TXT "v=DMARC1; p=reject; rua=mailto:dmarc@harbour.example!10m"`),
	"MTA-STS":                        of("", `_mta-sts TXT "v=STSv1; id=20261128T1200;"`, "mta-sts A 198.51.100.80", `_smtp._tls TXT "v=TLSRPTv1; rua=mailto:tls@saltmarsh.example"`),
	"MTA-STS without id":             of("mta-sts-record", `_mta-sts TXT "v=STSv1;"`, "mta-sts A 198.51.100.80"),
	"MTA-STS without host":           of("mta-sts-host", `_mta-sts TXT "v=STSv1; id=1"`),
	"reports without place":          of("tls-reports", `_smtp._tls TXT "v=TLSRPTv1; rua=postmaster"`),
	"TLSA":                           of("", "_25._tcp.mail TLSA 3 1 1 8bd1da95272f7fa4ffb24137fc0ed03aae67e5c4d8b3c50734e1050a7920b922"),
	"TLSA of a web kind":             of("tlsa-usage", "_25._tcp.mail TLSA 1 1 1 8bd1da95272f7fa4ffb24137fc0ed03aae67e5c4d8b3c50734e1050a7920b922"),
	"TLSA unsigned":                  island("tlsa-unsigned spf-missing dmarc-missing mail-reverse-missing -mail-without-mx -contact-without-mail", "@ MX 10 www", "_25._tcp.www TLSA 3 1 1 8bd1da95272f7fa4ffb24137fc0ed03aae67e5c4d8b3c50734e1050a7920b922"),
	"old DS":                         {text: testworld.Fault(`kind = "old-ds"`, salty), want: "chain-broken ds-without-key"},
	"no DS":                          {text: testworld.Fault(`kind = "no-ds"`, salty), want: "signed-without-ds"},
	"no signatures":                  {text: testworld.Fault(`kind = "no-signatures"`, salty), want: "chain-broken"},
	"expired at one":                 {text: testworld.Fault(`kind = "expired-signatures"`, salty, first), want: "signatures-bad-at-server"},
	"wrong at one":                   {text: testworld.Fault(`kind = "wrong-signatures"`, salty, friend), want: "chain-broken signatures-bad-at-server"},
	"a second DS":                    {text: differs("example", "saltmarsh DS 12345 13 2 49FD46E6C4B45C55D4AC69CBD3CD34AC1AFE51DE00000000000000000000000000000000"), want: "ds-without-key"},
	"CDS of no key":                  keyed("cds-not-ours cds-waits signed-without-ds", "@ CDS 12345 13 2 49FD46E6C4B45C55D4AC69CBD3CD34AC1AFE51DE000000000000000000000000"),
	"CDS at one":                     {zone: "island.example", text: testworld.Fault(`kind = "differs"`, friend, `zone = "island.example"`, "records = '''"+key+"\n@ CDS 0 0 0 00'''") + differs("island.example", key), want: onKeyed + " cds-differ same-serial-other-content signed-without-ds"},
	"keys at one":                    {zone: "island.example", text: testworld.Fault(`kind = "differs"`, friend, `zone = "island.example"`, "records = '''"+other+"'''") + differs("island.example", key), want: onKeyed + " keys-differ same-serial-other-content signed-without-ds"},
	"a key of another algorithm":     keyed("key-algorithm-weak key-short signed-without-ds", "@ DNSKEY 257 3 5 AwEAAcNEU67LJI5GEgF9QLNqLO1SMq1EdoQ6E9f85ha0k0ewQGCblyW2836GiVsm6k8Kr5ECIoMJ6fZWf3CQSQ9ycWfTyOHfmI3eQ/1Covhb2y4bAmL/07PhrL7ozWBW3wBfM335Ft9xjtXHPy7ztCbV9qZ4TVDTW/Iyg0PiwgoXVesz"),
	"a short key":                    keyed("key-short signed-without-ds", "@ DNSKEY 257 3 8 AwEAAcNEU67LJI5GEgF9QLNqLO1SMq1EdoQ6E9f85ha0k0ewQGCblyW2836GiVsm6k8Kr5ECIoMJ6fZWf3CQSQ9ycWfTyOHfmI3eQ/1Covhb2y4bAmL/07PhrL7ozWBW3wBfM335Ft9xjtXHPy7ztCbV9qZ4TVDTW/Iyg0PiwgoXVesz"),
	"a malformed key":                keyed("dnskey-shape signed-without-ds", "@ DNSKEY 257 3 13 oJMRESz5E4gYzS/q6XDrvU1qMPYIjCWzJaOau8XNEZeqCYKD5ar0IRd8KqXXFJkqmVfRvMGPmM1x8fGAa2Xh"),
	"many keys":                      keyed("keys-need-tcp signed-without-ds too-many-keys", manyKeys()...),
	"salt and iterations":            keyed("nsec3-iterations nsec3-salt signed-without-ds", "@ NSEC3PARAM 1 0 10 aabbccdd"),
	"a weak digest":                  {text: differs("example", "saltmarsh DS 12345 13 1 2BB183AF5F22588179A53B0A98631FAD1A292118"), want: "ds-digest-weak ds-without-key"},
	"a key that is no entry":         {zone: "island.example", text: differs("island.example", zoneKey) + differs("example", dsOf(zoneKey)), want: onKeyed + " chain-broken ds-key-no-entry"},
	"signatures that end":            {text: testworld.Fault(`kind = "ending-signatures"`, salty, first), want: "signatures-end-soon"},
	"two kinds of denial":            {text: testworld.Fault(`kind = "other-denial"`, salty, first), want: "denial-by-nsec-and-nsec3"},
	"other over TCP":                 {text: odd("other-over-tcp"), want: "transports-disagree"},
	"missing names":                  {text: odd("fails-missing-names"), want: "no-such-name-mishandled"},
	"the zone an alias":              {zone: "island.example", text: differs("island.example", "@ CNAME www"), want: onIsland + " apex-is-alias -contact-without-mail -web-name-missing"},
	"expire too short":               of("expire-too-short", soa("2026112801 7200 900 3600 300")),
	"expire within a weekend":        of("expire-within-weekend", soa("2026112801 7200 900 86400 300")),
	"expire too long":                of("expire-too-long", soa("2026112801 7200 900 99999999 300")),
	"retry":                          of("retry-not-below-refresh", soa("2026112801 7200 7200 1209600 300")),
	"refresh too short":              of("refresh-too-short", soa("2026112801 60 30 1209600 300")),
	"refresh too long":               of("refresh-too-long", soa("2026112801 172800 900 1209600 300")),
	"minimum":                        of("minimum-too-long", soa("2026112801 7200 900 1209600 604800")),
	"at sign":                        of("contact-with-at-sign contact-without-mail", `@ SOA ns1 host\@saltmarsh.example. 2026112801 7200 900 1209600 300`),
	"serial zero":                    of("serial-zero", soa("0 7200 900 1209600 300")),
	"serial in the future":           of("serial-in-the-future", soa("2062112301 7200 900 1209600 300")),
	"TTL zero":                       of("ttl-zero", "www 0 A 198.51.100.80", "www 0 AAAA 2001:db8:5a17::80"),
	"TTL over a week":                of("ttl-over-a-week", "www 2592000 A 198.51.100.80"),
	"an address as a name":           of("address-as-name contact-without-mail mail-host-missing", "@ MX 10 198.51.100.25."),
	"loopback":                       of("unusable-address", "www A 127.0.0.1"),
	"private among others":           of("private-address", "www A 10.0.0.7"),
	"CAA flags":                      of("caa-flags", `@ CAA 1 issue "ca.example"`),
	"CAA tag":                        of("caa-unknown-tag", `@ CAA 0 isue "ca.example"`),
	"CAA value":                      of("caa-value", `@ CAA 0 issue "https://ca.example/"`),
	"HTTPS alias":                    of("svcb-alias-with-parameters", "@ HTTPS 0 www alpn=h2"),
	"HTTPS alias beside":             of("svcb-alias-beside-others", "@ HTTPS 0 www", "@ HTTPS 1 . alpn=h2"),
	"null MX beside":                 of("null-mx-beside-others", "@ MX 0 .", "@ MX 10 mail"),
	"SPF syntax":                     of("spf-syntax", `@ TXT "v=spf1 ipv4:198.51.100.25 -all"`),
	"two SPF":                        of("spf-several", `@ TXT "v=spf1 mx -all"`, `@ TXT "v=spf1 a -all"`),
	"SPF after all":                  of("spf-after-all", `@ TXT "v=spf1 -all mx"`),
	"SPF anyone":                     of("spf-passes-anyone", `@ TXT "v=spf1 mx +all"`),
	"SPF without end":                of("spf-without-end", `@ TXT "v=spf1 mx"`),
	"SPF ptr":                        of("spf-ptr", `@ TXT "v=spf1 ptr -all"`),
	"SPF without blanks":             of("spf-lost-blanks", `@ TXT v=spf1 mx -all`),
	"SPF version":                    of("spf-missing spf-version", `@ TXT "v=spf ip4:198.51.100.25 -all"`),
	"DMARC syntax":                   of("dmarc-syntax", `_dmarc TXT "v=DMARC1; p=refuse"`),
	"two DMARC":                      of("dmarc-several", `_dmarc TXT "v=DMARC1; p=reject"`, `_dmarc TXT "v=DMARC1; p=quarantine"`),
	"quotes":                         of("typographic-quotes", "@ TXT \"v=spf1 mx -all\"", "@ TXT \u201chello\u201d"),
	"TLSA digest":                    of("tlsa-fields", "_443._tcp.www TLSA 3 1 2 8bd1da95272f7fa4ffb24137fc0ed03aae67e5c4d8b3c50734e1050a7920b922"),
	"as if delegated":                {text: testworld.Fault(`kind = "no-delegation"`, salty), change: asIf("ns1.saltmarsh.example=198.51.100.53", "ns.harbour.example=203.0.113.53"), want: "servers-without-ipv6"},
	"the old address at one":         {text: testworld.Fault(`kind = "differs"`, first, salty, `records = "www A 198.51.100.99"`), want: "same-serial-other-content"},
	"the old mail host at another":   {text: testworld.Fault(`kind = "differs"`, first, salty, `records = "mail A 198.51.100.26"`), want: "same-serial-other-content"},
	"AAAA fails":                     {text: testworld.Fault(`kind = "fails-type"`, first, `type = "AAAA"`, `says = "SERVFAIL"`), want: "type-fails"},
	"AAAA denied":                    {text: testworld.Fault(`kind = "fails-type"`, first, `type = "AAAA"`, `says = "NXDOMAIN"`), want: "type-fails"},
	"AAAA unanswered":                {text: testworld.Fault(`kind = "fails-type"`, first, `type = "AAAA"`, `says = "nothing"`), want: "type-fails"},
	"the parent silent":              {text: testworld.Fault(`kind = "away"`, `zone = "example"`), want: "parent-silent"},
	"as if, with other keys":         {text: testworld.Fault(`kind = "old-ds"`, salty), change: asIf("ns1.saltmarsh.example=198.51.100.53", "ns.harbour.example=203.0.113.53"), want: "move-breaks-trust servers-without-ipv6"},
	"as if, unsigned":                {text: testworld.Fault(`kind = "no-signatures"`, salty), change: asIf("ns1.saltmarsh.example=198.51.100.53", "ns.harbour.example=203.0.113.53"), want: "move-breaks-trust servers-without-ipv6 zone-unsigned"},
	"as if, nobody above answers":    {text: testworld.Fault(`kind = "away"`, `zone = "example"`), change: asIf("ns1.saltmarsh.example=198.51.100.53", "ns.harbour.example=203.0.113.53"), want: "move-breaks-trust servers-without-ipv6"},
	"as if delegated, to a lame one": {text: testworld.Fault(`kind = "no-delegation"`, salty), change: asIf("ns1.saltmarsh.example=198.51.100.53", "ns.island.example=203.0.113.77"), want: "server-lame servers-differ-above"},
}

const longNames = `, "the-first-server-with-a-name-that-nobody-wants-to-type.the-first-of-the-provider-s-domains.example"` +
	`, "the-second-server-with-a-name-that-nobody-wants-to-type.the-second-of-the-provider-s-domains.example"` +
	`, "the-third-server-with-a-name-that-nobody-wants-to-type.the-third-of-the-provider-s-domains.example"`

const eight = `"ns1.saltmarsh.example", "ns.harbour.example", "ns.island.example", "ns.gauges.saltmarsh.example", "ns1.nic.example", "ns2.nic.example", "a.root.example", "b.root.example"`

var hashed = []string{"signed  = true\nserial  = 2026112801", "signed  = true\nnsec3   = true\nserial  = 2026112801"}

// ownNS has the zone name another server besides.
func ownNS(host string) []string {
	return []string{`serial  = 2026112801`, "serial  = 2026112801\n" + `own-ns  = ["ns1.saltmarsh.example", "ns.harbour.example", "` + host + `"]`}
}

func table(text string) func(*audit.Auditor) {
	return func(a *audit.Auditor) {
		n, err := audit.ParseNetworks([]byte(text))
		if err != nil {
			panic(err)
		}
		a.Networks = n
	}
}

func asIf(list ...string) func(*audit.Auditor) {
	return func(a *audit.Auditor) {
		for _, s := range list {
			name, addr, _ := strings.Cut(s, "=")
			a.AsIf = append(a.AsIf, resolve.Host{Name: dnsname.MustParse(name), Addrs: []netip.AddrPort{netip.AddrPortFrom(netip.MustParseAddr(addr), 53)}})
		}
	}
}

// codes are the words of a list, in order, without those that another word takes back.
func codes(list string) (out []string) {
	for _, w := range strings.Fields(list) {
		if w[0] != '-' && !slices.Contains(strings.Fields(list), "-"+w) {
			out = append(out, w)
		}
	}
	slices.Sort(out)
	return out
}

// In each world is found what is wrong with it and nothing else, and each test finds something
// in one of them.
func TestAudits(t *testing.T) {
	never := map[string]bool{}
	for _, x := range audit.Tests {
		never[x.Code] = x.Code != "server-slow" // for here the clock stands still
	}
	var all strings.Builder
	skipped := map[string]bool{}
	for i, what := range slices.Sorted(maps.Keys(audits)) {
		if testing.Short() && i%8 > 0 { // as under the race detector, which takes twenty times as long
			continue
		}
		c := audits[what]
		text := strings.NewReplacer(c.swap...).Replace(string(worlds.Demo)) + c.text
		if len(c.swap) > 0 && strings.HasPrefix(text, string(worlds.Demo)) {
			t.Fatalf("%s: nothing is replaced", what)
		}
		w := testworld.Play(t, text)
		a := auditor(w)
		if c.change != nil {
			c.change(a)
		}
		zone := c.zone
		if zone == "" {
			zone = "saltmarsh.example"
		}
		r, err := a.Audit(t.Context(), dnsname.MustParse(zone))
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		fmt.Fprintf(&all, "# %s\n", what)
		for _, x := range r.Results {
			if x.Skipped != "" && !skipped[x.Code+x.Skipped] {
				skipped[x.Code+x.Skipped] = true
				fmt.Fprintf(&all, "%s does not apply: %s\n", x.Code, x.Skipped)
			}
			for _, f := range x.Findings {
				fmt.Fprintf(&all, "%s: %s; %s\n", x.Code, f.Message, f.Advice)
			}
			if len(x.Findings) > 0 {
				got = append(got, x.Code)
				delete(never, x.Code)
			}
		}
		if said := fmt.Sprintf("%v", r.Results); !strings.Contains(said, c.says) {
			t.Errorf("%s: nothing says %q", what, c.says)
		}
		slices.Sort(got)
		if want := codes(c.want); !slices.Equal(got, want) {
			t.Errorf("%s: %s, want %s", what, got, want)
			for _, x := range r.Results {
				for _, f := range x.Findings {
					if !slices.Contains(want, x.Code) {
						t.Log(x.Code, f.Message)
					}
				}
			}
		}
	}
	if testing.Short() {
		return
	}
	chance := regexp.MustCompile(`nosuch-[0-9a-f]+|answers with [0-9]+ octets`) // what it picks by chance
	testrun.Golden(t, "testdata/findings.txt", chance.ReplaceAllString(all.String(), "…"))
	for code, yes := range never {
		if yes {
			t.Errorf("%s: no world has it", code)
		}
	}
}
