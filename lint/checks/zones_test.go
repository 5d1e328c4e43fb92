package checks

import (
	"fmt"
	"strings"
	"testing"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/internal/vectors"
	"fencepost/lint"
	"fencepost/source"
	"fencepost/zonefile"
)

// list is what is found in a whole zone, as line:column code.
func list(t *testing.T, text, origin string) (out []string) {
	t.Helper()
	var src source.Set
	var diags diag.List
	f, err := src.Add("x.zone", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	z := zonefile.Load(f, zonefile.Options{Origin: dnsname.MustParse(origin)}, &diags)
	lint.Run(All, z, &src, present, nil, &diags)
	diags.Sort()
	for _, d := range diags.All {
		p := src.Position(d.Span.Start)
		out = append(out, fmt.Sprintf("%d:%d %s", p.Line, p.Column, d.Rule.Code))
	}
	return out
}

// Zones that are right as they are have nothing to be found.
func TestNoFalseAlarms(t *testing.T) {
	big := strings.Builder{}
	big.WriteString(head)
	for i := range 20000 {
		switch i % 5 {
		case 0:
			fmt.Fprintf(&big, "h%d A 192.0.2.%d\n", i, i%250+1)
		case 1:
			fmt.Fprintf(&big, "h%d CNAME h%d\n", i, i-1)
		case 2:
			fmt.Fprintf(&big, "h%d MX 10 h%d\n  TXT \"v=spf1 mx -all\"\n", i, i-2)
		case 3:
			fmt.Fprintf(&big, "h%d NS ns.h%d\n  NS ns1.example.net.\nns.h%d A 192.0.2.53\n", i, i, i)
		case 4:
			fmt.Fprintf(&big, "_sip._tcp.h%d SRV 0 5 5060 h%d\n*.h%d CNAME h%d\n", i, i-4, i, i-4)
		}
	}
	for what, c := range map[string]struct{ text, origin string }{
		"twenty thousand names":             {big.String(), "example.com."},
		"classless delegation (RFC 2317 4)": {strings.Replace(string(vectors.Text(t, "rfc2317.zone")), "IN NS   ns.my-domain.", "IN NS   ns.my-domain.\n\tIN NS ns.other.", 1), "."},
		"servers of one family each":        {"$TTL 3600\n@ SOA ns1 hostmaster 2026112301 7200 900 1209600 300\n@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 AAAA 2001:db8::1\n", "example.com."},
		"targets elsewhere":                 {head + "@ MX 10 mail.example.net.\n@ MX 20 mail.sub\nsub NS ns.other.\nsub NS ns2.other.\nwww CNAME www.example.org.\n", "example.com."},
		"a host called like a type":         {head + "mx A 192.0.2.1\n@ MX 10 mx\nns A 192.0.2.2\n", "example.com."},
		"the root as target":                {head + "@ MX 0 .\n_x._tcp SRV 0 0 0 .\n", "example.com."},
		"a server of a sibling delegation":  {head + "a NS ns.b\na NS ns.other.\nb NS ns.b\nb NS ns.other.\nns.b A 192.0.2.1\n", "example.com."},
		"an alias that is signed":           {head + "@ DNSKEY 257 3 13 oJMRESz5E4gYzS/q6XDrvU1qMPYIjCWzJaOau8XNEZeqCYKD5ar0IRd8KqXXFJkqmVfRvMGPmM1x8fGAa2XhSA==\nwww CNAME web\nweb A 192.0.2.1\nwww RRSIG CNAME 13 3 60 20300101000000 20200101000000 1 example.com. AAAA\nwww NSEC web CNAME RRSIG NSEC\n", "example.com."},
		"numbers as names":                  {head + "1 A 192.0.2.1\n2 CNAME 1\n3com A 192.0.2.3\n@ MX 10 3com\n", "example.com."},
		"services of all kinds":             {head + "_sip._tcp SRV 0 5 5060 sip\nsip A 192.0.2.1\n_imaps._tcp SRV 0 0 0 .\n_443._tcp.sip TLSA 3 1 1 " + strings.Repeat("ab", 32) + "\n*._tcp.sip TLSA 3 1 1 " + strings.Repeat("ab", 32) + "\n_ftp._tcp URI 10 1 \"ftp://ftp.example.com/\"\n_http URI 1 1 \"https://x/\"\n", "example.com."},
		"mail with all its records":         {head + "@ MX 10 mail\nmail A 192.0.2.25\n@ TXT \"v=spf1 mx a:mail.example.com ip4:192.0.2.0/24 ip6:2001:db8::/32 exists:%{i}.x.example include:_spf.example.net ~all\"\n_dmarc TXT \"v=DMARC1; p=quarantine; rua=mailto:a@example.com,mailto:b@example.org!10m; pct=50; fo=1\"\nother._report._dmarc TXT \"v=DMARC1\"\nold._domainkey TXT \"v=DKIM1; p=\"\nalias._domainkey CNAME key.example.net.\n_report._domainkey TXT \"r=postmaster\"\n*._domainkey TXT \"o=~\"\n", "example.com."},
		"a split SPF record":                {head + "@ TXT \"v=spf1 ip4:192.0.2.1 \" \"ip4:192.0.2.2 -all\"\n", "example.com."},
		"an SPF record cut within a term":   {head + "@ TXT \"v=spf1 ip4:192.0.2.1 include:mail.exam\" \"ple.net -all\"\n", "example.com."},
		"HTTPS at the apex and elsewhere":   {head + "@ HTTPS 1 . alpn=h2,h3\n@ A 192.0.2.1\nwww HTTPS 0 svc.example.net.\nwww A 192.0.2.2\n_8443._https.www HTTPS 1 www port=8443\n", "example.com."},
		"CAA for all and for none":          {head + "@ CAA 0 issue \"ca.example; account=1\"\n@ CAA 128 issuewild \";\"\n@ CAA 0 iodef \"mailto:x@example.com\"\n@ CAA 0 issuemail \"\"\n", "example.com."},
		"names with underscores, no hosts":  {head + "_dmarc.x TXT \"v=DMARC1; p=none\"\n_acme-challenge TXT \"x\"\n_foo CNAME www.example.org.\nkey1._domainkey CNAME a_b.example.net.\n", "example.com."},
		"an internationalised host":         {head + "xn--bcher-kva A 192.0.2.1\nxn--strae-oqa A 192.0.2.2\n", "example.com."},
		"localhost on purpose":              {head + "localhost A 127.0.0.1\nlocalhost AAAA ::1\n", "example.com."},
		"an inner zone":                     {head + "web A 10.0.0.1\nmail A 192.168.1.1\nx AAAA fd00::1\n", "example.com."},
		"a DNAME at the apex and below":     {head + "@ DNAME example.net.\n", "example.com."},
		"a signed delegation":               {head + "sub NS ns.other.\nsub NS ns2.other.\nsub DS 1 13 2 " + strings.Repeat("ab", 32) + "\nsub DS 1 13 4 " + strings.Repeat("ab", 48) + "\nsub DS 1 8 1 " + strings.Repeat("ab", 20) + "\n", "example.com."},
		"servers far apart":                 {"$TTL 60\n@ SOA a h 2026112301 7200 900 1209600 300\n@ NS a\n@ NS b\na A 192.0.2.1\na AAAA 2001:db8:1::1\nb A 198.51.100.1\nb AAAA 2001:db8:1::2\n", "example.com."},
		"services in a reverse zone": {"$TTL 60\n@ SOA ns1.example.net. h.example.net. 1 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.net.\nb._dns-sd._udp PTR x.example.com.\n",
			"2.0.192.in-addr.arpa."},
		"an IPv6 reverse zone": {"$TTL 60\n@ SOA ns1.example.net. h.example.net. 1 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.net.\n1.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0 PTR a.example.com.\n",
			"8.b.d.0.1.0.0.2.ip6.arpa."},
		"names in a reverse zone": {"$TTL 60\n@ SOA ns1.example.net. h.example.net. 1 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.net.\n1 PTR a.example.com.\n2 PTR b.example.com.\n",
			"2.0.192.in-addr.arpa."},
	} {
		if found := list(t, c.text, c.origin); len(found) > 0 {
			t.Errorf("%s: %q", what, found[:min(3, len(found))])
		}
	}
}

// A mistake is said once, by the finding that helps most.
func TestNoEchoes(t *testing.T) {
	for what, c := range map[string]struct{ text, want string }{
		"a target whose address cannot be read":      {"@ MX 10 mail\nmail A 192.0.2.010\n", "7:8 address-leading-zero"},
		"an alias to a name that cannot be read":     {"www CNAME web\nweb A 192.0.2.256\n", "7:15 address-out-of-range"},
		"a target that has lost its dot":             {"@ MX 10 mail.example.org\n", "6:9 missing-final-dot"},
		"a target that has the zone's name twice":    {"@ MX 10 mail.example.com\nmail A 192.0.2.1\n", "6:9 missing-final-dot"},
		"lost dots beside a wildcard":                {"* A 192.0.2.1\n@ MX 10 mail.example.org\n_x._tcp SRV 0 0 1 host.example.org\nwww CNAME web.example.org\n", "7:9 missing-final-dot, 8:19 missing-final-dot, 9:11 missing-final-dot"},
		"targets that only a wildcard supplies":      {"* A 192.0.2.1\n@ MX 10 mial\nmail A 192.0.2.25\nwww CNAME wbe\nftp CNAME mail\n", "7:9 target-by-wildcard, 9:11 target-by-wildcard"},
		"an address as target":                       {"@ MX 10 192.0.2.25\n", "6:9 address-as-name"},
		"an address as target, with a final dot":     {"@ MX 10 192.0.2.25.\n", "6:9 address-as-name"},
		"a PTR that has lost its dot":                {"1 PTR host.example.org\n", "6:7 missing-final-dot"},
		"a target that cannot be a host":             {"@ MX 10 mail_1.other.\n", "6:9 target-no-host-name"},
		"a host with an underscore as target":        {"@ MX 10 mail_1\nmail_1 A 192.0.2.1\n", "7:1 underscore-in-host-name"},
		"a loop of aliases":                          {"a CNAME b\nb CNAME c\nc CNAME a\n", "6:9 alias-loop, 7:9 alias-loop, 8:9 alias-loop"},
		"a chain of aliases":                         {"a CNAME b\nb CNAME c\nc CNAME d\nd A 192.0.2.1\n", "6:9 alias-to-alias"},
		"two SPF records":                            {"@ TXT \"v=spf1 -all\"\n@ TXT \"v=spf1 mx -all\"\n", "7:7 spf-several"},
		"an SPF record without quotes":               {"@ TXT v=spf1 -all\n", "6:7 spf-lost-blanks"},
		"an SPF record with two slips":               {"@ TXT \"v=spf1 ipv4:192.0.2.1 inclde:x.example all\"\n", "6:15 spf-syntax, 6:30 spf-syntax, 6:47 spf-passes-anyone"},
		"data below a DNAME":                         {"old DNAME example.net.\nwww.old A 192.0.2.1\na.old NS ns.other.\n", "7:1 data-below-dname, 8:1 data-below-dname"},
		"a weak DS that is cut":                      {"sub NS a.other.\nsub NS b.other.\nsub DS 1 13 1 abcd\n", "8:13 weak-algorithm, 8:15 ds-digest-length"},
		"a key without its end":                      {"@ DNSKEY 257 3 13 AAAA\n", "6:19 dnskey-shape"},
		"an obsolete type":                           {"@ SPF \"v=spf1 -all\"\nx A6 0 ::1\n", "6:3 obsolete-type, 7:3 obsolete-type"},
		"unusable addresses":                         {"a A 127.0.0.1\nb A 169.254.1.1\nc AAAA fe80::1\nd AAAA ::ffff:192.0.2.1\ne A 224.0.0.1\n", "6:5 unusable-address, 7:5 unusable-address, 8:8 unusable-address, 9:8 unusable-address, 10:5 unusable-address"},
		"private among public":                       {"a A 192.0.2.1\nb A 10.0.0.1\nc A 10.0.0.2\n", "7:5 private-address"},
		"TTLs out of proportion":                     {"a 0 A 192.0.2.1\nb 9999999 A 192.0.2.2\nc 0 A 192.0.2.3\n", "6:3 ttl-zero, 7:3 ttl-over-a-week"},
		"HTTPS that leads nowhere":                   {"@ HTTPS 1 svc alpn=h2\n@ A 192.0.2.1\n", "6:11 target-missing"},
		"HTTPS without its dot":                      {"@ HTTPS 1 svc.example.net alpn=h2\n@ A 192.0.2.1\n", "6:11 missing-final-dot"},
		"a target in the generic form":               {"@ MX \\# 20 000a 046d61696c076578616d706c6503636f6d00\n", "6:3 target-missing"},
		"a plain slip in a target":                   {"@ MX 10 mial\nmail A 192.0.2.1\n", "6:9 target-missing"},
		"a server without an address":                {"sub NS ns.sub\nsub NS ns.other.\nns.sub TXT x\n", "6:8 missing-glue, 8:1 occluded-data"},
		"data below a delegation":                    {"sub NS ns.other.\nsub NS ns2.other.\nsub MX 10 mail.other.\nwww.sub A 192.0.2.1\n", "8:1 occluded-data, 9:1 occluded-data"},
		"an alias at the zone's own name":            {"@ CNAME www.example.org.\n", "6:3 alias-beside-data"},
		"an alias beside several types":              {"a CNAME b\na A 192.0.2.1\na TXT x\nb A 192.0.2.2\n", "6:3 alias-beside-data"},
		"a duplicate in another case":                {"a MX 10 X.other.\nA MX 10 x.other.\n", "7:3 duplicate-record"},
		"two TTLs among three records":               {"a 60 A 192.0.2.1\na 60 A 192.0.2.2\na 300 A 192.0.2.3\n", "8:3 ttl-mismatch"},
		"several mistakes in one record":             {"_s._tcp SRV 1, 2x 70000 a..b\n", "6:13 bad-number, 6:16 bad-number, 6:19 bad-number, 6:27 empty-label"},
		"a number that was forgotten":                {"_s._tcp SRV 5060 sip.other.\n", "6:18 bad-number"},
		"two mistakes in one record":                 {"@ MX 10 a..b\n", "6:11 empty-label"},
		"a record that is cut, and the one after it": {"a A\nb A 192.0.2.1\n", "6:4 missing-field"},
	} {
		if got := strings.Join(list(t, head+c.text, "example.com."), ", "); got != c.want {
			t.Errorf("%s: %s, want %s", what, got, c.want)
		}
	}
}

// Each mechanical mend, applied, takes its finding away and brings no other.
func TestFixes(t *testing.T) {
	for _, text := range []string{"@TTL 60\n", "@ MX 10 mail.example.org\n", "www.example.com A 192.0.2.1\n"} {
		var src source.Set
		var diags diag.List
		whole := head + text
		f, _ := src.Add("x", []byte(whole))
		z := zonefile.Load(f, zonefile.Options{Origin: dnsname.MustParse("example.com.")}, &diags)
		lint.Run(All, z, &src, present, nil, &diags)
		if len(diags.All) != 1 || diags.All[0].Fix == nil {
			t.Fatalf("%q: %v", text, codes(&diags))
		}
		for _, e := range diags.All[0].Fix.Edits {
			whole = whole[:f.Offset(e.Span.Start)] + e.New + whole[f.Offset(e.Span.End):]
		}
		if found := list(t, whole, "example.com."); len(found) > 0 {
			t.Errorf("%q mended is %q with %q", text, strings.TrimPrefix(whole, head), found)
		}
	}
}

// Of very many findings a list keeps as many as it holds.
func TestManyFindings(t *testing.T) {
	var b strings.Builder
	b.WriteString(head + "sub NS ns.other.\nsub NS ns2.other.\n")
	for i := range 30000 {
		fmt.Fprintf(&b, "h%d.sub A 192.0.2.1\n", i)
	}
	if found := list(t, b.String(), "example.com."); len(found) != diag.MaxList {
		t.Errorf("%d findings are kept", len(found))
	}
}
