package e2e

import (
	"path/filepath"
	"strings"
	"testing"
)

// sample is record data of each type as a person types them, one argument a word,
// and other data for a change.
var samples = map[string][2]string{
	"A": {"192.0.2.7", "192.0.2.8"}, "AAAA": {"2001:db8::7", "2001:db8::8"}, "AFSDB": {"1 ns1", "2 ns1"}, "APL": {"1:192.0.2.0/24", "!1:192.0.2.0/25"},
	"CAA": {`0 issue ca.example`, `0 issue ;`}, "CDNSKEY": {"0 3 0 AA==", "257 3 13 " + p256}, "CDS": {"0 0 0 00", "1 13 2 " + sha256}, "CERT": {"PKIX 1 8 AQID", "1 2 8 AQID"},
	"CSYNC": {"1 1 NS", "1 1 NS A"}, "DHCID": {"AAIBY2/AuCccgoJbsaxcQc9TUapptP69lOjxfNuVAA2kjEA=", "AAEBOSD+XR3Os/0LozeXVqcNc7FwCfQdWL3b/NaiUDlW2No="},
	"DNSKEY": {"257 3 13 " + p256, "256 3 13 " + p256}, "EUI48": {"00-00-5e-00-53-2a", "00-00-5e-00-53-2b"}, "EUI64": {"00-00-5e-ef-10-00-00-2a", "00-00-5e-ef-10-00-00-2b"},
	"HINFO": {"PDP-11 UNIX", "VAX UNIX"}, "HIP": {"2 200100107B1A74DF365639CC39F1D578 AQID", "2 200100107B1A74DF365639CC39F1D578 AQIE ns1"}, "HTTPS": {"1 . alpn=h2", "1 . alpn=h2,h3 port=8443"},
	"IPSECKEY": {"10 1 2 192.0.2.38 AQID", "10 3 2 ns1 AQID"}, "KX": {"10 ns1", "20 ns1"}, "L32": {"10 10.1.2.0", "20 10.1.2.0"}, "L64": {"10 2001:0db8:1140:1000", "20 2001:0db8:1140:1000"},
	"LOC": {"52 14 05 N 00 08 50 E 10m", "52 14 06 N 00 08 50 E 10m"}, "LP": {"10 l64.other.", "20 l64.other."}, "MX": {"10 ns1", "20 ns1"},
	"NAPTR": {`100 50 s SIP+D2U "" _sip._udp.other.`, `100 10 u E2U+sip !^.*$!sip:x@example.com! .`}, "NID": {"10 0014:4fff:ff20:ee64", "20 0014:4fff:ff20:ee64"},
	"OPENPGPKEY": {"AQIDBA==", "AQIDBQ=="}, "PTR": {"ns1", "ns2.example.net."}, "PX": {"50 a.other. b.other.", "60 a.other. b.other."}, "RESINFO": {"qnamemin", "qnamemin exterr=15-17"},
	"RP": {"ines.other. .", "tom.other. ."}, "RT": {"2 ns1", "3 ns1"}, "SMIMEA": {"3 0 0 308201", "3 0 0 308202"}, "SRV": {"0 5 5060 ns1", "0 5 5061 ns1"},
	"SSHFP": {"4 2 " + sha256, "1 2 " + sha256}, "SVCB": {"1 ns1 port=53", "2 ns1 port=853"}, "TLSA": {"3 1 1 " + sha256, "2 1 1 " + sha256}, "TXT": {`plain "in quotes" a;b`, `other`},
	"URI": {"10 1 https://example/", "20 1 https://example/"}, "X25": {"311061700956", "311061700957"}, "ZONEMD": {"1 1 1 " + strings.Repeat("ab", 48), "1 1 2 " + strings.Repeat("ab", 64)},
	"TYPE65400": {`\# 2 abcd`, `\# 1 ab`}, "NULL": {`\# 1 00`, `\# 1 01`}, "AMTRELAY": {"10 0 1 203.0.113.15", "10 1 0 ."}, "DSYNC": {"CDS NOTIFY 5300 ns1", "CSYNC 1 5300 ns1"},
}

const (
	p256   = "oJMRESz5E4gYzS/q6XDrvU1qMPYIjCWzJaOau8XNEZeqCYKD5ar0IRd8KqXXFJkqmVfRvMGPmM1x8fGAa2XhSA=="
	sha256 = "123456789abcdef67890123456789abcdef67890123456789abcdef678901234"
)

// args parts data into arguments as a shell would.
func args(data string) (out []string) {
	for i, part := range strings.Split(data, `"`) {
		if i%2 == 1 {
			out = append(out, part)
		} else {
			out = append(out, strings.Fields(part)...)
		}
	}
	return out
}

// Each type is added, changed and taken out again; the file is then as before but
// for the serial.
func TestEveryTypeIsEdited(t *testing.T) {
	t.Parallel()
	dir := estate(t)
	path := filepath.Join(dir, "zones", "saltmarsh.example.zone")
	before := read(t, path)
	owners := map[string]string{"SRV": "_s._tcp", "TLSA": "_443._tcp", "URI": "_u._tcp", "SMIMEA": "x._smimecert", "OPENPGPKEY": "x._openpgpkey", "CDS": "@", "CDNSKEY": "@", "CSYNC": "@", "DNSKEY": "@", "ZONEMD": "@"}
	for typ, s := range samples {
		owner := owners[typ]
		if owner == "" {
			owner = "x"
		}
		for i, step := range [][]string{
			append([]string{"add", "saltmarsh.example", owner, typ}, args(s[0])...),
			append([]string{"change", "saltmarsh.example", owner, typ}, args(s[1])...),
			append([]string{"remove", "saltmarsh.example", owner, typ}, args(s[1])...),
		} {
			if r := fp(t, dir, append(step, clock)...); r.status != 0 {
				t.Errorf("%v: %s%s", step, r.out, r.err)
				write(t, path, before)
				break
			} else if i == 0 && !strings.Contains(r.out, typ) {
				t.Errorf("%v shows %s", step, r.out)
			}
		}
	}
	line := func(text string) string {
		var out []string
		for _, l := range strings.Split(text, "\n") {
			if !strings.Contains(l, "; serial") {
				out = append(out, l)
			}
		}
		return strings.Join(out, "\n")
	}
	if after := read(t, path); line(after) != line(before) {
		t.Errorf("in the end the file is\n%s", after)
	}
}
