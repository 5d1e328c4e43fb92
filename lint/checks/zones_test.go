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
		"targets elsewhere":                 {head + "@ MX 10 mail.example.net.\n@ MX 20 mail.sub\nsub NS ns.other.\nsub NS ns2.other.\nwww CNAME www.example.org.\n", "example.com."},
		"a target that a wildcard supplies": {head + "@ MX 10 mail.w\n*.w A 192.0.2.1\n", "example.com."},
		"a host called like a type":         {head + "mx A 192.0.2.1\n@ MX 10 mx\nns A 192.0.2.2\n", "example.com."},
		"the root as target":                {head + "@ MX 0 .\n_x._tcp SRV 0 0 0 .\n", "example.com."},
		"a server of a sibling delegation":  {head + "a NS ns.b\na NS ns.other.\nb NS ns.b\nb NS ns.other.\nns.b A 192.0.2.1\n", "example.com."},
		"an alias that is signed":           {head + "www CNAME web\nweb A 192.0.2.1\nwww RRSIG CNAME 13 3 60 20300101000000 20200101000000 1 example.com. AAAA\nwww NSEC web CNAME RRSIG NSEC\n", "example.com."},
		"numbers as names":                  {head + "1 A 192.0.2.1\n2 CNAME 1\n3com A 192.0.2.3\n@ MX 10 3com\n", "example.com."},
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
		"an address as target":                       {"@ MX 10 192.0.2.25\n", "6:9 address-as-name"},
		"an address as target, with a final dot":     {"@ MX 10 192.0.2.25.\n", "6:9 address-as-name"},
		"a PTR that has lost its dot":                {"1 PTR host.example.org\n", "6:7 missing-final-dot"},
		"a plain slip in a target":                   {"@ MX 10 mial\nmail A 192.0.2.1\n", "6:9 target-missing"},
		"a server without an address":                {"sub NS ns.sub\nsub NS ns.other.\nns.sub TXT x\n", "6:8 missing-glue, 8:1 occluded-data"},
		"data below a delegation":                    {"sub NS ns.other.\nsub NS ns2.other.\nsub MX 10 mail.other.\nwww.sub A 192.0.2.1\n", "8:1 occluded-data, 9:1 occluded-data"},
		"an alias at the zone's own name":            {"@ CNAME www.example.org.\n", "6:3 alias-beside-data"},
		"an alias beside several types":              {"a CNAME b\na A 192.0.2.1\na TXT x\nb A 192.0.2.2\n", "6:3 alias-beside-data"},
		"a duplicate in another case":                {"a MX 10 X.other.\nA MX 10 x.other.\n", "7:3 duplicate-record"},
		"two TTLs among three records":               {"a 60 A 192.0.2.1\na 60 A 192.0.2.2\na 300 A 192.0.2.3\n", "8:3 ttl-mismatch"},
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

// Work stays in proportion to the zone, also where every name is hidden.
func TestHostileZone(t *testing.T) {
	var b strings.Builder
	b.WriteString(head + "sub NS ns.other.\nsub NS ns2.other.\n")
	for i := range 30000 {
		fmt.Fprintf(&b, "h%d.sub A 192.0.2.1\n", i)
	}
	if found := list(t, b.String(), "example.com."); len(found) != diag.MaxList {
		t.Errorf("%d findings are kept", len(found))
	}
}
