package workspace_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"fencepost/keymanager"
	"fencepost/rr"
	"fencepost/workspace"
)

// policy reads a configuration with one policy.
func policy(t *testing.T, lines string) (*keymanager.Policy, []string) {
	t.Helper()
	c, found := load(t, "[policy.p]\n"+lines+"\n", "", 0o600)
	if c == nil {
		return nil, found
	}
	return c.Policies["p"], found
}

func TestPolicy(t *testing.T) {
	p, found := policy(t, `algorithm = "rsasha256"
bits = 3072
keys = "split"
denial = "nsec3"
salt = "aabb"
iterations = 1
opt-out = true
zonemd = ["sha384", "sha512"]
digests = [2, 4]
valid-for = "21d"
renew-before-end = "1w"
spread-ends = "36h"
begin-before = "30m"
dnskey-ttl = 7200
renew-key = "1w1d"
renew-ksk = "365d"
renew-zsk = "90d"
margin = "10m"
expect-servers = "1m"
expect-parent = "2h"
cds = "until-confirmed"
verify = "all"
keep-keys = true
passphrase-file = "pass"`)
	if p == nil || len(found) > 0 {
		t.Fatal(found)
	}
	s := p.Signing
	day := 24 * time.Hour
	if p.Algorithm != rr.RSASHA256 || p.Bits != 3072 || !p.Split || !s.Denial.NSEC3 || !s.Denial.OptOut || string(s.Denial.Params.Salt) != "\xaa\xbb" || s.Denial.Params.Iterations != 1 ||
		!slices.Equal(s.Zonemd, []uint8{1, 2}) || !slices.Equal(s.Digests, []uint8{2, 4}) || s.Validity != 21*day || s.Refresh != 7*day || s.Jitter != 36*time.Hour || s.Inception != 30*time.Minute ||
		s.DNSKEYTTL != 7200 || p.Renew.Single != 8*day || p.Renew.KSK != 365*day || p.Renew.ZSK != 90*day || p.Margin != 10*time.Minute || p.ExpectServers != time.Minute || p.ExpectParent != 2*time.Hour ||
		p.CDS != keymanager.CDSUntil || s.CheckEvery != 1 || !s.KeepKeys || !strings.HasSuffix(p.PassphraseFile, "/pass") {
		t.Errorf("%+v", p)
	}
	if plain, found := policy(t, ""); len(found) > 0 || plain.Algorithm != rr.ECDSAP256SHA256 || plain.Split || plain.CDS != keymanager.CDSKeep || plain.Signing.Denial.NSEC3 {
		t.Errorf("the defaults: %+v, %v", plain, found)
	}
}

// What a policy must not say is refused at its place, with what to write.
func TestPolicyRefused(t *testing.T) {
	for lines, want := range map[string]string{
		`algorithm = "RSASHA1"`:                                 "SHA-1 can be forged",
		`algorithm = "DSA"`:                                     "not to be used",
		`keys = "three"`:                                        "write single or split",
		`bits = 1024`:                                           "are not made",
		`denial = "nsec4"`:                                      "write nsec or nsec3",
		`opt-out = true`:                                        "NSEC3 only",
		"denial = \"nsec3\"\niterations = 500":                  "treat the zone as unsigned",
		"denial = \"nsec3\"\nsalt = \"x\"":                      "not a salt",
		`zonemd = ["md5"]`:                                      "not a hash of ZONEMD",
		`digests = [1]`:                                         "SHA-1 can be forged",
		`valid-for = "soon"`:                                    "not a length of time",
		`margin = "1x"`:                                         "not a length of time",
		`renew-key = "99999999d"`:                               "not a length of time",
		"valid-for = \"5d\"\nrenew-before-end = \"5d\"":         "renewed as soon as they are made",
		`dnskey-ttl = -1`:                                       "not a sensible TTL",
		`cds = "sometimes"`:                                     "write keep or until-confirmed or never",
		`verify = "none"`:                                       "write sample or all",
		"\n[trust]\nanchors = \"a\"":                            "belong together",
		"\n[address-override]\n\"a..b\" = \"192.0.2.1\"":        "not a name",
		"\n[address-override]\n\"*\" = \"192.0.2.1\"":           "write \"*\" = \"unreachable\"",
		"\n[address-override]\n\"ns.example\" = \"ns.example\"": "not an address",
	} {
		p, found := policy(t, lines)
		if p != nil || !strings.Contains(strings.Join(found, "\n"), want) {
			t.Errorf("%q: %v, want %q", lines, found, want)
		}
	}
}

func TestParseSpan(t *testing.T) {
	for text, want := range map[string]time.Duration{"1d": 24 * time.Hour, "1h30m": 90 * time.Minute, "2w": 14 * 24 * time.Hour, "45s": 45 * time.Second, "0s": 0} {
		if got, err := workspace.ParseSpan(text); err != nil || got != want {
			t.Errorf("%q: %s, %v", text, got, err)
		}
	}
	for _, text := range []string{"", "d", "1", "1y", "-1d", "1 d", "9999999999999999999d"} {
		if got, err := workspace.ParseSpan(text); err == nil {
			t.Errorf("%q is %s", text, got)
		}
	}
}
