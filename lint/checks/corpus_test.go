package checks

import (
	"fmt"
	"strings"
	"testing"

	"fencepost/internal/testrun"
)

// corpus is what stands at the edges of checks, by theme: what is just right and just wrong.
var corpus = []struct{ theme, text string }{
	{"addresses", `a1 A 10.0.0.0
a2 A 9.255.255.255
a3 A 11.0.0.0
a4 A 172.15.255.255
a5 A 172.16.0.0
a6 A 172.31.255.255
a7 A 172.32.0.0
a8 A 192.167.255.255
a9 A 192.168.0.0
a10 A 192.169.0.0
a11 A 100.63.255.255
a12 A 100.64.0.0
a13 A 100.127.255.255
a14 A 100.128.0.0
a15 A 0.0.0.0
a16 A 127.0.0.1
a17 A 126.255.255.255
a18 A 128.0.0.0
a19 A 169.254.0.1
a20 A 224.0.0.1
a21 A 239.255.255.255
a22 A 240.0.0.1
a23 A 255.255.255.255
a24 A 192.0.2.1
a25 A 198.51.100.7
a26 A 203.0.113.9
a27 A 198.18.0.1
b1 AAAA ::
b2 AAAA ::1
b3 AAAA fc00::1
b4 AAAA fdff::1
b5 AAAA fe00::1
b6 AAAA fe80::1
b7 AAAA fec0::1
b8 AAAA ff02::1
b9 AAAA ::ffff:192.0.2.1
b10 AAAA 64:ff9b::192.0.2.1
b11 AAAA 2001:db8::1
b12 AAAA 2002:c000:201::1
`},
	{"service owners", `_sip._tcp SRV 0 5 5060 ns1
sip SRV 0 5 5060 ns1
_sip.tcp SRV 0 5 5060 ns1
sip._tcp SRV 0 5 5060 ns1
_sip SRV 0 5 5060 ns1
* SRV 0 5 5060 ns1
*._tcp SRV 0 5 5060 ns1
_443._tcp.www TLSA 3 1 1 0000000000000000000000000000000000000000000000000000000000000000
_443.www TLSA 3 1 1 0000000000000000000000000000000000000000000000000000000000000000
443._tcp.www TLSA 3 1 1 0000000000000000000000000000000000000000000000000000000000000000
_443 TLSA 3 1 1 0000000000000000000000000000000000000000000000000000000000000000
_ftp._tcp URI 10 1 "ftp://ns1.example.com/"
ftp URI 10 1 "ftp://ns1.example.com/"
c93f._smimecert SMIMEA 3 1 1 0000000000000000000000000000000000000000000000000000000000000000
_smimecert SMIMEA 3 1 1 0000000000000000000000000000000000000000000000000000000000000000
c93f._openpgpkey OPENPGPKEY mQCNAzIG
_openpgpkey OPENPGPKEY mQCNAzIG
_x._tcp SRV 0 0 0 .
_y._tcp SRV 0 0 0 .
_y._tcp SRV 0 0 1 ns1
_z._tcp SRV 0 0 5 nowhere
`},
	{"targets", `c1 CNAME c2
c2 CNAME c3
c3 CNAME c1
d1 CNAME ns1
d2 CNAME d1
e1 CNAME nowhere
e2 CNAME www.elsewhere.example.
e3 CNAME mail.example.co
e4 CNAME www.example.com
e5 CNAME www.example.com.
m1 MX 10 d1
m2 MX 10 nowhere
m3 MX 0 .
m3 MX 10 ns1
m4 MX 10 192.0.2.1
m5 MX 10 ns1.example.com
s1 NS d1
s2 NS s2
s2 NS ns.elsewhere.example.
s3 NS ns.s3
s3 NS ns2.elsewhere.example.
ns.s3 A 192.0.2.3
s4 NS ns.s4
s4 NS ns2.elsewhere.example.
x.s4 TXT below
s5 NS ns1
s5 NS ns1.example.com.
s6 DS 12345 13 2 2BB183AF5F22588179A53B0A98631FAD1A2921182BB183AF5F22588179A53B0A
p1 PTR d1
t1 DNAME elsewhere.example.
x.t1 A 192.0.2.1
*.w A 192.0.2.1
v1 CNAME x.w
v2 MX 10 y.w
`},
	{"SPF", `f1 TXT "v=spf1 -all"
f2 TXT "v=spf1"
f3 TXT "v=spf1 -all mx"
f4 TXT "v=spf1 +all"
f5 TXT "v=spf1 ?all"
f6 TXT "v=spf1 ip4:192.0.2.0/24 -all"
f7 TXT "v=spf1 ip4:192.0.2.0/33 -all"
f8 TXT "v=spf1 ip6:2001:db8::/32 ~all"
f9 TXT "v=spf1 ip4:2001:db8::1 -all"
f10 TXT "v=spf1 a mx ptr -all"
f11 TXT "v=spf1 include:f1.example.com include:nowhere.example.com -all"
f12 TXT "v=spf1 redirect=f1.example.com"
f13 TXT "v=spf1 redirect=f1.example.com -all"
f14 TXT "v=spf1 exists:%{i}.example.com -all"
f15 TXT "v=spf1 exists:%{i.example.com -all"
f16 TXT "v=spf1 a a a a a a a a a a a -all"
f17 TXT "v=spf1 a a a a a a a a a a -all"
f18 TXT "v=spf1 -all"
f18 TXT "v=spf1 mx -all"
f19 TXT "v=spf10 -all"
f20 TXT "V=SPF1 -ALL"
f21 TXT "v=spf1 bogus -all"
f22 TXT "v=spf1 unknown=x -all"
f23 TXT " v=spf1 -all"
f24 TXT "v=spf1 include:f24.example.com -all"
f25 TXT "v=spf1 a:ns1.example.com/24//64 -all"
f26 TXT "v=spf1 a:ns1.example.com/33 -all"
f27 TXT "v=spf1 a/32 mx/0//128 a//64 mx:ns1.example.com//0 -all"
f28 TXT "v=spf1 a//129 -all"
f29 TXT "v=spf1 mx/24//x -all"
f30 TXT "v=spf1 a/ -all"
f31 TXT "v=spf1 exists:%{l1r-}.%{D2}.%%.%_%-.example.com redirect=%{o}.example.com"
f32 TXT "v=spf1 exists:%{c}.example.com -all"
f33 TXT "v=spf1 exists:50%.example.com -all"
f34 TXT "v=spf1 mx redirect=%{d"
`},
	{"mail policies", `_dmarc TXT "v=DMARC1; p=none"
_dmarc.a TXT "v=DMARC1; p=reject; rua=mailto:x@example.com"
_dmarc.b TXT "v=DMARC1; p=rejects"
_dmarc.c TXT "v=DMARC1"
_dmarc.d TXT "p=none; v=DMARC1"
_dmarc.e TXT "v=DMARC1; p=none; pct=101"
_dmarc.f TXT "v=DMARC1; p=none; pct=100; sp=quarantine; adkim=s; aspf=x"
_dmarc.g TXT "v=DMARC1; p=none; rua=x@example.com"
_dmarc.h TXT "v=DMARC1; p=none" "; rua=mailto:x@elsewhere.example"
_dmarc.i TXT "v=DMARC1; p=none"
_dmarc.i TXT "v=DMARC1; p=reject"
k1._domainkey TXT "v=DKIM1; k=rsa; p=MIGfMA0GCSqGSIb3DQEBAQUAA4GNADCBiQKBgQ"
k2._domainkey TXT "v=DKIM1; p="
k3._domainkey TXT "v=DKIM1"
k4._domainkey TXT "k=rsa; v=DKIM1; p=AAAA"
k5._domainkey TXT "v=DKIM1; k=ed25519; p=11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo="
k6._domainkey TXT "v=DKIM1; k=magic; p=AAAA"
k7._domainkey TXT "nonsense"
k8._domainkey TXT "nonsense"
k8._domainkey TXT "v=DKIM1; p="
sel.mail TXT "v=DKIM1; p="
_mta-sts TXT "v=STSv1; id=1"
_mta-sts.a TXT "v=STSv1"
_mta-sts.b TXT "v=STSv1; id=not-alphanumeric"
_smtp._tls TXT "v=TLSRPTv1; rua=mailto:x@example.com"
_smtp._tls.a TXT "v=TLSRPTv1"
g1 CAA 0 issue "ca.example"
g2 CAA 128 issue ";"
g3 CAA 1 issue "ca.example"
g4 CAA 0 isue "ca.example"
g5 CAA 0 issue "https://ca.example/"
g6 CAA 0 iodef "mailto:x@example.com"
g7 CAA 0 iodef "x@example.com"
g8 CAA 0 issuewild ";"
g8 CAA 0 issue "ca.example"
`},
	{"quotes", `q1 TXT plain
q1 TXT 'single'
q2 TXT 'one two'
q3 TXT "'meant'"
q4 TXT ’curly’
q5 TXT plain
q5 TXT “curly two”
q6 CAA 0 issue 'ca.example'
q7 TXT v=spf1 mx -all
q8 TXT "v=spf1 mx" "-all"
q9 TXT "v=spf1 mx " "-all"
q9 TXT other
q10 TXT other
q10 TXT "v=spf1 mx" "-all"
`},
	{"times and names", `u1 0 A 192.0.2.1
u2 1 A 192.0.2.1
u3 604800 A 192.0.2.1
u4 604801 A 192.0.2.1
u5 2147483647 A 192.0.2.1
u6 60 A 192.0.2.1
u6 61 A 192.0.2.2
under_score A 192.0.2.1
-begin A 192.0.2.1
end- A 192.0.2.1
xn--mller-kva A 192.0.2.1
xn--zz A 192.0.2.1
ab--cd A 192.0.2.1
192.0.2.7 A 192.0.2.7
1.2.3 A 192.0.2.7
www.example.com A 192.0.2.1
1.2.3.4 TXT "four"
10.200.3.44 A 192.0.2.9
1.2.3.4.5 A 192.0.2.9
1234.1.1.1 A 192.0.2.9
www.a.b.c A 192.0.2.9
12a.1.1.1 A 192.0.2.9
double TXT "one"
double TXT "one"
same A 192.0.2.1
same CNAME ns1
`},
	{"reverse", `-- bare --
$ORIGIN 192.in-addr.arpa.
$TTL 3600
@ SOA ns1.example.net. h.example.net. 1 7200 900 1209600 300
@ NS ns1.example.net.
@ NS ns2.example.net.
0.0.0 PTR a.example.net.
255.255.255 PTR b.example.net.
254.255.255 PTR c.example.net.
256.0.0 PTR d.example.net.
01.0.0 PTR e.example.net.
00.0.0 PTR f.example.net.
x.0.0 PTR g.example.net.
1.0 PTR h.example.net.
1.2.3.4 PTR i.example.net.
1.0/25.0.0 PTR j.example.net.
5.0.0 PTR web
6.0.0 PTR 192.0.0.6
`},
	{"reverse of IPv6", `-- bare --
$ORIGIN 8.b.d.0.1.0.0.2.ip6.arpa.
$TTL 3600
@ SOA ns1.example.net. h.example.net. 1 7200 900 1209600 300
@ NS ns1.example.net.
@ NS ns2.example.net.
1.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0 PTR a.example.net.
F.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0 PTR b.example.net.
g.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0 PTR c.example.net.
10.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0 PTR d.example.net.
1.0.0.0 PTR e.example.net.
`},
	{"the apex", `-- bare --
$TTL 3600
@ SOA ns1 hostmaster@example.com. 1 10 20 30 99999999
@ NS ns1
ns1 A 192.0.2.53
`},
	{"tops", `t1 CNAME mail.example.org
t2 CNAME mail.example.net
t3 CNAME mail.elsewhere.example
t4 CNAME www.other.zz
t5 CNAME com
t6 CNAME x.com
t7 CNAME web.
t8 CNAME WWW.OTHER.COM
t9 MX 10 mail.example.com
`},
	{"timers", `-- bare --
$TTL 3600
@ SOA ns1.example.com. hostmaster.example.com. 4294967295 86400 86400 86400 10801
@ NS ns1.example.com.
@ NS ns2.example.com.
@ CNAME www
ns1 A 192.0.2.53
ns2 A 192.0.2.53
`},
}

// child is a zone of a workspace, with its own servers, and records.
func child(name, records string) string {
	return "-- file " + fileOf(name) + ".zone --\n$ORIGIN " + name + ".example.com.\n$TTL 3600\n@ SOA ns1 hostmaster 2026112301 7200 900 1209600 300\n" + records
}

func fileOf(name string) string {
	label, audience, has := strings.Cut(name, "@")
	if has {
		audience = "@" + audience
	}
	return label + ".example.com" + audience
}

// fleet is a workspace with what zones may have between each other.
var fleet = parentOK + `
c NS ns1.c
c NS old.example.net.
ns1.c A 192.0.2.53
d NS ns1.d
d NS ns2.example.net.
ns1.d A 192.0.2.54
ns1.d A 192.0.2.99
e NS ns1.e
e NS ns2.example.net.
ns1.e A 192.0.2.55
f NS ns1.f
f NS ns2.example.net.
ns1.f A 192.0.2.56
f DS 12345 13 2 2BB183AF5F22588179A53B0A98631FAD1A2921182BB183AF5F22588179A53B0A
g NS NS1.G
g NS ns2.example.net.
ns1.g A 192.0.2.57
m1 MX 10 mail.c
m2 MX 10 gone.c
m3 MX 10 alias.c
m4 MX 10 text.c
m5 CNAME gone.d
m6 CNAME www.c
` + child("a", "") + child("b", "@ NS ns1\n@ NS ns2.example.net.\nns1 A 192.0.2.52\n") +
	child("c", "@ NS ns1\n@ NS ns2.example.net.\nns1 A 192.0.2.53\nmail A 192.0.2.25\nalias CNAME mail\ntext TXT x\nwww A 192.0.2.80\n") +
	child("d", "@ NS ns1\n@ NS ns2.example.net.\nns1 A 192.0.2.54\nns1 A 192.0.2.100\n") +
	child("e", "@ NS ns1\n@ NS ns2.example.net.\nns1 A 192.0.2.55\n@ DNSKEY 257 3 13 oJMRESz5E4gYzS/q6XDrvU1qMPYIjCWzJaOau8XNEZeqCYKD5ar0IRd8KqXXFJkqmVfRvMGPmM1x8fGAa2XhSA==\n") +
	child("f", "@ NS ns1\n@ NS ns2.example.net.\nns1 A 192.0.2.56\n@ DNSKEY 257 3 13 oJMRESz5E4gYzS/q6XDrvU1qMPYIjCWzJaOau8XNEZeqCYKD5ar0IRd8KqXXFJkqmVfRvMGPmM1x8fGAa2XhSA==\n") +
	child("g", "@ NS ns1\n@ NS NS2.example.net.\nns1 A 192.0.2.57\n") +
	child("g@inside", "@ NS ns1\n@ NS ns2.example.net.\nns1 A 192.0.2.57\nprinter A 10.0.0.7\n") +
	reverse + `25 PTR mail.c.example.com.
26 PTR mail.c.example.com.
27 PTR gone.c.example.com.
80 PTR www.c.example.com.
52 PTR ns1.b.example.com.
99 PTR elsewhere.example.net.
`

// What is said at the edges is held word for word.
func TestCorpus(t *testing.T) {
	var all strings.Builder
	for _, c := range corpus {
		fmt.Fprintf(&all, "# %s\n", c.theme)
		diags, src := runIn(t, c.text)
		testrun.Findings(&all, src, diags)
	}
	diags, src := runFleet(t, strings.ReplaceAll(fleet, "$ORIGIN g@inside.example.com.", "$ORIGIN g.example.com."))
	all.WriteString("# a workspace\n")
	testrun.Findings(&all, src, diags)
	testrun.Golden(t, "testdata/corpus.txt", all.String())
}
