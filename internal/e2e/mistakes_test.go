package e2e

import (
	"path/filepath"
	"strings"
	"testing"
)

// mends is how a person mends the zone of usual mistakes who does what the program
// says, finding by finding: text that is there, and what it becomes.
var mends = []struct{ code, old, new string }{
	{"bad-number", "2026112301, 2h, 15m, 2w, 5m", "2026112301 7200 900 1209600 300"},
	{"missing-final-dot", "NS ns2.marsh.example\n", "NS ns2.marsh.example.\n"},
	{"alias-beside-data", "@ CNAME web", "@ A 198.51.100.80"},
	{"bad-number", "@ MX mail", "@ MX 10 mail"},
	{"bad-address", "192.0.2.1,", "192.0.2.1"},
	{"extra-field", "web A 192.0.2.80 192.0.2.81", "web A 192.0.2.80\nweb A 192.0.2.81"},
	{"outside-zone", "www. A", "www A"},
	{"bad-address", "mail AAAA 192.0.2.25", "mail A 192.0.2.25"},
	{"typographic-quotes", "@ TXT \u201cv=spf1 mx -all\u201d\n", ""},
	{"spf-lost-blanks", "v=spf1 include:_spf.example.net -all", `"v=spf1 include:_spf.example.net -all"`},
	{"dmarc-syntax", "rua=postmaster", "rua=mailto:postmaster"},
	{"unclosed-quote", "VjZ1\n", "VjZ1\"\n"},
	{"bad-number", "SRV 5060 sip", "SRV 0 0 5060 web"},
	{"missing-glue", "sub NS ns.sub\n", "sub NS ns.sub\nns.sub A 192.0.2.33\n"},
	{"address-as-name", "lab IN NS 192.0.2.9", "lab IN NS ns1.lab\nns1.lab A 192.0.2.9"},
	{"extra-final-dot", "CNAME web.", "CNAME web"},
	{"address-out-of-range", "10.0.0.300", "192.0.2.30"},
	{"quote-within-text", `"it's "quoted" here"`, `"it's \"quoted\" here"`},
}

// Whoever mends what is said, top to bottom, comes to a zone without errors.
func TestUsualMistakes(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := filepath.Join(dir, "marsh.example.zone")
	text := read(t, "testdata/marsh.example.zone")
	write(t, path, text)
	r := fp(t, dir, "check", "marsh.example.zone", "--format", "json", clock)
	want(t, r, 1)
	found := map[string]int{}
	for _, f := range findings(t, r.out) {
		found[f["code"].(string)]++
		if f["severity"] == "error" && f["suggestion"] == nil && f["code"] != "address-out-of-range" {
			t.Errorf("%s says nothing of what to do", f["code"])
		}
	}
	if found["missing-soa"] > 0 || found["dkim-syntax"] > 0 {
		t.Error("a mistake is said twice: the SOA is there, the text is open")
	}
	for _, m := range mends {
		if found[m.code] == 0 {
			t.Errorf("%s is not found", m.code)
		}
		if !strings.Contains(text, m.old) {
			t.Fatalf("the zone does not hold %q", m.old)
		}
		text = strings.Replace(text, m.old, m.new, 1)
	}
	write(t, path, text)
	r = fp(t, dir, "check", "marsh.example.zone", "--format", "json", clock)
	for _, f := range findings(t, r.out) {
		if f["severity"] == "error" && f["code"] != "missing-final-dot" {
			t.Errorf("mended, it still has %s: %s", f["code"], f["message"])
		}
	}
	// What shows only now that the SOA can be read is mechanical.
	want(t, fp(t, dir, "check", "marsh.example.zone", "--fix", clock), 0, "2026112302")
}
