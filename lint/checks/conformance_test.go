package checks

import (
	"slices"
	"strings"
	"testing"
)

const apexOK = "@ SOA ns1.example.net. hostmaster 2026112301 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.org.\n"

// TestZoneSemantics goes through what the standards say of whole zones: what must
// be found, and what must not, each with where it is written.
func TestZoneSemantics(t *testing.T) {
	const none = ""
	for _, c := range []struct{ what, zone, found, not string }{
		{"a zone has a SOA (RFC 1035 5.2)", "@ NS ns1.example.net.\n@ NS ns2.example.net.\n", "missing-soa", none},
		{"and only one", apexOK + "@ SOA ns1.example.net. h 2 7200 900 1209600 300\n", "second-soa", none},
		{"and name servers (RFC 1034 4.2.2)", "@ SOA ns1.example.net. h 2 7200 900 1209600 300\n", "no-name-server", none},
		{"two of them (RFC 2182 5)", "@ SOA ns1.example.net. h 2 7200 900 1209600 300\n@ NS ns1.example.net.\n", "one-name-server", none},
		{"data lie in the zone (RFC 1034 4.2)", apexOK + "foo.test. A 192.0.2.1\n", "outside-zone", none},
		{"an alias stands alone (RFC 2181 10.1)", apexOK + "a CNAME b.other.\na TXT x\n", "alias-beside-data", none},
		{"but for DNSSEC (RFC 4035 2.5)", apexOK + "a CNAME b.other.\na RRSIG CNAME 13 3 60 20300101000000 20200101000000 1 example.com. AAAA\na NSEC b CNAME RRSIG NSEC\na KEY 256 3 13 AAAA\n", none, "alias-beside-data"},
		{"one alias a name", apexOK + "a CNAME b.other.\na CNAME c.other.\n", "several-aliases", none},
		{"none at the apex (RFC 1912 2.4)", apexOK + "@ CNAME b.other.\n", "alias-beside-data", none},
		{"DNAME beside others (RFC 6672 2.4)", apexOK + "a DNAME b.other.\na TXT x\n", none, "dname-beside-delegation"},
		{"DNAME at the apex beside NS", apexOK + "@ DNAME b.other.\n", none, "dname-beside-delegation"},
		{"DNAME beside NS below", apexOK + "a DNAME b.other.\na NS ns.other.\na NS ns2.other.\n", "dname-beside-delegation", none},
		{"nothing below DNAME", apexOK + "a DNAME b.other.\nb.a A 192.0.2.1\n", "data-below-dname", none},
		{"wildcard with DNAME (RFC 4592 4.4)", apexOK + "*.a DNAME b.other.\n", "wildcard-dname", none},
		{"wildcard with NS (RFC 4592 4.2)", apexOK + "* NS ns.other.\n* NS ns2.other.\n", "wildcard-delegation", none},
		{"an asterisk inside (RFC 4592 2.1.1)", apexOK + "a.*.b TXT x\n", "asterisk-inside", "host-name-shape"},
		{"a wildcard is one", apexOK + "*.b A 192.0.2.1\n", none, "asterisk-inside"},
		{"one TTL a set (RFC 2181 5.2)", apexOK + "a 60 A 192.0.2.1\na 300 A 192.0.2.2\n", "ttl-mismatch", none},
		{"equal records count once (RFC 2181 5)", apexOK + "a A 192.0.2.1\na A 192.0.2.1\n", "duplicate-record", none},
		{"data at a cut (RFC 2181 6.1)", apexOK + "sub NS ns.other.\nsub NS ns2.other.\nsub TXT x\n", "occluded-data", none},
		{"DS and NSEC at a cut (RFC 4035 2.6)", apexOK + "sub NS ns.other.\nsub NS ns2.other.\nsub DS 1 13 2 " + strings.Repeat("ab", 32) + "\nsub NSEC www NS DS RRSIG NSEC\n", none, "occluded-data"},
		{"data below a cut (RFC 5936 3.5)", apexOK + "sub NS ns.other.\nsub NS ns2.other.\nx.sub TXT x\n", "occluded-data", none},
		{"glue that is needed (RFC 1034 4.2.1)", apexOK + "sub NS ns.sub\nsub NS ns2.other.\n", "missing-glue", none},
		{"a server in the zone (RFC 1912 2.3)", apexOK + "@ NS ns3\n", "target-missing", none},
		{"an MX that is an alias (RFC 2181 10.3)", apexOK + "@ MX 10 m\nm CNAME b.other.\n", "target-is-alias", none},
		{"an NS that is an alias", apexOK + "@ NS m\nm CNAME b.other.\n", "target-is-alias", none},
		{"an SRV that is an alias (RFC 2782)", apexOK + "_s._tcp SRV 0 0 1 m\nm CNAME b.other.\n", "target-is-alias", none},
		{"an MX that is an address (RFC 1912 2.4)", apexOK + "@ MX 10 192.0.2.1\n", "address-as-name", none},
		{"an MX without an address", apexOK + "@ MX 10 m\nm TXT x\n", "target-without-address", none},
		{"null MX alone (RFC 7505 3)", apexOK + "@ MX 0 .\n", none, "null-mx-beside-others"},
		{"null MX beside another", apexOK + "@ MX 0 .\n@ MX 10 m.other.\n", "null-mx-beside-others", none},
		{"SRV none beside another", apexOK + "_s._tcp SRV 0 0 0 .\n_s._tcp SRV 0 0 1 m.other.\n", "srv-none-beside-others", none},
		{"TLSA at a host (RFC 6698 3)", apexOK + "www TLSA 3 1 1 " + strings.Repeat("ab", 32) + "\n", "service-at-wrong-name", none},
		{"an underscore in a host (RFC 1123 2.1)", apexOK + "a_b A 192.0.2.1\n", "underscore-in-host-name", "host-name-shape"},
		{"an underscore elsewhere", apexOK + "a_b TXT x\n", none, "underscore-in-host-name"},
		{"a hyphen in front", apexOK + "-a A 192.0.2.1\n", "host-name-shape", none},
		{"a hyphen at the end", apexOK + "a- A 192.0.2.1\n", "host-name-shape", none},
		{"a digit in front", apexOK + "3com A 192.0.2.1\n", none, "host-name-shape"},
		{"type SPF (RFC 7208 3.1)", apexOK + "@ SPF \"v=spf1 -all\"\n", "obsolete-type", none},
		{"two SPF records (RFC 7208 3.2)", apexOK + "@ TXT \"v=spf1 -all\"\n@ TXT \"v=spf1 ~all\"\n", "spf-several", none},
		{"SPF with many lookups (RFC 7208 4.6.4)", apexOK + "@ TXT \"v=spf1 include:s1.example.com include:s2.example.com -all\"\ns1 TXT \"v=spf1 a mx a:a.other a:b.other a:c.other -all\"\ns2 TXT \"v=spf1 a:a.other a:b.other a:c.other a:d.other -all\"\n", "spf-too-many-lookups", none},
		{"SPF that includes itself", apexOK + "@ TXT \"v=spf1 include:example.com -all\"\n", "spf-too-many-lookups", none},
		{"SPF with ten", apexOK + "@ TXT \"v=spf1 a mx a:a.other a:b.other a:c.other a:d.other a:e.other a:f.other a:g.other a:h.other -all\"\n", none, "spf-too-many-lookups"},
		{"CAA flags 1 (RFC 8659 4.1)", apexOK + "@ CAA 1 issue \"ca.example\"\n", "caa-flags", none},
		{"an unknown critical tag", apexOK + "@ CAA 128 tbs \"x\"\n", "caa-unknown-tag", none},
		{"TLSA with a short digest (RFC 6698 2.1)", apexOK + "_443._tcp.www TLSA 3 1 1 " + strings.Repeat("ab", 20) + "\n", "tlsa-fields", none},
		{"TLSA with usage 4", apexOK + "_443._tcp.www TLSA 4 1 1 " + strings.Repeat("ab", 32) + "\n", "tlsa-fields", none},
		{"SSHFP with a short digest (RFC 4255)", apexOK + "www SSHFP 1 2 " + strings.Repeat("ab", 20) + "\n", "sshfp-length", none},
		{"a bad A-label (RFC 5891 5.4)", apexOK + "xn--a A 192.0.2.1\n", "bad-a-label", none},
		{"reserved hyphens (RFC 5891 4.2)", apexOK + "ab--c A 192.0.2.1\n", "bad-a-label", none},
		{"a primary that is nobody (RFC 1035 3.3.13)", "@ SOA . h 2 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.net.\n", "primary-missing", none},
		{"a primary that need not be an NS (RFC 2181 7.3)", "@ SOA hidden.other. h 2 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.net.\n", none, "primary-missing"},
		{"a contact with @ (RFC 1912 2.2)", "@ SOA ns1.example.net. admin@example. 2 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.net.\n", "contact-with-at-sign", none},
		{"expire below refresh (RFC 1912 2.2)", "@ SOA ns1.example.net. h 2 7200 900 600 300\n@ NS ns1.example.net.\n@ NS ns2.example.net.\n", "expire-too-short", "expire-within-weekend"},
		{"serial 0 (RFC 2136 7.11)", "@ SOA ns1.example.net. h 0 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.net.\n", "serial-zero", none},
		{"a date to come", "@ SOA ns1.example.net. h 2027010100 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.net.\n", "serial-in-the-future", none},
		{"tomorrow, for it is that somewhere", "@ SOA ns1.example.net. h 2026112401 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.net.\n", none, "serial-in-the-future"},
		{"a count that looks like no date", "@ SOA ns1.example.net. h 2099999999 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.net.\n", none, "serial-in-the-future"},
		{"servers in one network (RFC 2182 3.1)", "@ SOA a h 2 7200 900 1209600 300\n@ NS a\n@ NS b\na A 192.0.2.1\nb A 192.0.2.2\n", "servers-in-one-network", "servers-on-one-address"},
		{"one in another by IPv6", "@ SOA a h 2 7200 900 1209600 300\n@ NS a\n@ NS b\na A 192.0.2.1\nb A 192.0.2.2\na AAAA 2001:db8:1::1\nb AAAA 2001:db8:2::1\n", none, "servers-in-one-network"},
		{"servers elsewhere are not known", "@ SOA a h 2 7200 900 1209600 300\n@ NS a\n@ NS b.other.\na A 192.0.2.1\n", none, "servers-in-one-network"},
		{"IPv6 only (RFC 3901 4)", "@ SOA a h 2 7200 900 1209600 300\n@ NS a\n@ NS b\na AAAA 2001:db8:1::1\nb AAAA 2001:db8:2::1\n", "servers-without-ipv4", none},
		{"DS at the apex (RFC 4035 2.4)", apexOK + "@ DS 1 13 2 " + strings.Repeat("ab", 32) + "\n", "ds-without-delegation", none},
		{"CDS below the apex (RFC 7344 4.1)", apexOK + "a CDS 1 13 2 " + strings.Repeat("ab", 32) + "\n", "only-at-apex", none},
		{"CDS that asks for removal (RFC 8078 4)", apexOK + "@ CDS 0 0 0 00\n@ CDNSKEY 0 3 0 AA==\n", none, "ds-digest-length"},
		{"NSEC3PARAM below the apex (RFC 5155 4)", apexOK + "a NSEC3PARAM 1 0 0 -\n", "only-at-apex", none},
		{"HTTPS alias to itself (RFC 9460 2.4.2)", apexOK + "@ HTTPS 0 @\n@ A 192.0.2.1\n", "svcb-alias-to-itself", none},
		{"HTTPS at the apex (RFC 9460 1.1)", apexOK + "@ HTTPS 0 svc.other.\n@ A 192.0.2.1\n", none, "https-without-address"},
		{"a made-up answer to ANY (RFC 8482 4.2)", apexOK + "@ HINFO RFC8482 \"\"\n", "any-answer-in-zone", none},
		{"a catalog of another version (RFC 9432 4.2.1)", "@ SOA invalid. h.other. 2 7200 900 1209600 300\n@ NS invalid.\nversion TXT \"3\"\na.zones PTR x.other.\n", "catalog-version", "one-name-server"},
		{"a catalog with a zone twice (RFC 9432 4.3)", "@ SOA invalid. h.other. 2 7200 900 1209600 300\n@ NS invalid.\nversion TXT \"2\"\na.zones PTR x.other.\nb.zones PTR X.other.\n", "catalog-member-twice", none},
		{"a host called zones is not a catalog", apexOK + "version TXT \"1.0\"\nzones A 192.0.2.1\n", none, "catalog-version"},
	} {
		var codes []string
		for _, f := range list(t, "$TTL 3600\n"+c.zone, "example.com.") {
			_, code, _ := strings.Cut(f, " ")
			codes = append(codes, code)
		}
		if c.found != none && !slices.Contains(codes, c.found) {
			t.Errorf("%s: %s is not among %v", c.what, c.found, codes)
		}
		if c.not != none && slices.Contains(codes, c.not) {
			t.Errorf("%s: %s is among %v", c.what, c.not, codes)
		}
	}
}

func TestSPFTerms(t *testing.T) {
	for term, fault := range map[string]string{
		"all": "", "-all": "", "?all": "", "a": "", "a/24": "", "a:x.example/24//64": "", "mx:x.example": "", "ip4:192.0.2.0/24": "", "ip6:2001:db8::/32": "",
		"include:x.example": "", "exists:%{i}.x.example": "", "redirect=x.example": "", "exp=x.example": "", "other=anything": "", "MX": "", "ptr:x.example": "",
		"include": "needs a domain", "exists:": "needs a domain", "ip4:192.0.2.300": "not an IPv4 address", "ip4:2001:db8::1": "not an IPv4 address", "ip6:192.0.2.1": "not an IPv6 address",
		"ip4:192.0.2.0/33": "not a prefix length", "ip6:2001:db8::/129": "not a prefix length", "all:x": "takes nothing", "inclde:x": "did you mean include?", "192.0.2.1": "no mechanism",
		"redirect=": "names no domain", "--all": "no mechanism",
	} {
		got := spfTermOf(term).fault
		if (fault == "") != (got == "") || !strings.Contains(got, fault) {
			t.Errorf("%s: %q, want %q", term, got, fault)
		}
	}
}

func TestDMARC(t *testing.T) {
	for text, fault := range map[string]string{
		"v=DMARC1; p=none": "", "v=DMARC1;p=reject;sp=none;adkim=s;aspf=r;pct=100;fo=1:d:s;ri=86400;x=unknown": "", "v=DMARC1; p=none; rua=mailto:a@x.example,mailto:b@x.example!10m": "",
		"p=none": "begin with", "v=DMARC2; p=none": "begin with", "v=DMARC1": "no policy", "v=DMARC1; p=block": "not one of", "v=DMARC1; p=none; adkim=x": "not one of",
		"v=DMARC1; p=none; rua=a@x.example": "mailto:a@x.example", "v=DMARC1; p": "not a tag=value", "": "begin with",
	} {
		got, _ := dmarcFault(text)
		if (fault == "") != (got == "") || !strings.Contains(got, fault) {
			t.Errorf("%s: %q, want %q", text, got, fault)
		}
	}
}

func TestDKIMKeys(t *testing.T) {
	for text, fault := range map[string]string{
		"v=DKIM1; p=": "", "k=ed25519; p=11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo=": "", "p= 11qY AYKx ; k=ed25519": "32 octets",
		"v=DKIM1": "no key", "v=DKIM2; p=": "must be v=DKIM1", "k=rsa; v=DKIM1; p=": "come first", "p=a*b": "not base64", "p=AAAA": "beginning may be lost", "p=MIIB": "may be lost",
		"k=dsa; p=AAAA": "neither rsa", "p=; p=": "twice", "nonsense": "not a tag=value",
	} {
		_, got := dkimKey(text)
		if (fault == "") != (got == "") || !strings.Contains(got, fault) {
			t.Errorf("%s: %q, want %q", text, got, fault)
		}
	}
}

func TestSubstitutions(t *testing.T) {
	for text, ok := range map[string]bool{"!^.*$!sip:x@y!": true, "!a!b!i": true, "/a/b/": true, `!a\!b!c!`: true, "!a!b": false, "!a!b!c!": false, "!a!b!x": false, "!": false} {
		if isSubstitution(text) != ok {
			t.Errorf("%s: %v", text, !ok)
		}
	}
}
