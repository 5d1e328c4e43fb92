package workspace

import (
	"encoding/hex"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"fencepost/dnssec"
	"fencepost/keymanager"
	"fencepost/rr"
	"fencepost/signer"
)

// rawPolicy is a section [policy.NAME] as it is written.
type rawPolicy struct {
	Algorithm  string   `toml:"algorithm"`
	Keys       string   `toml:"keys"`
	Bits       int      `toml:"bits"`
	Denial     string   `toml:"denial"`
	Salt       string   `toml:"salt"`
	Iterations int      `toml:"iterations"`
	OptOut     bool     `toml:"opt-out"`
	Zonemd     []string `toml:"zonemd"`
	Digests    []int    `toml:"digests"`
	Validity   string   `toml:"valid-for"`
	Refresh    string   `toml:"renew-before-end"`
	Jitter     string   `toml:"spread-ends"`
	Inception  string   `toml:"begin-before"`
	DNSKEYTTL  int      `toml:"dnskey-ttl"`
	Revoke     bool     `toml:"revoke"`
	RenewKey   string   `toml:"renew-key"`
	RenewKSK   string   `toml:"renew-ksk"`
	RenewZSK   string   `toml:"renew-zsk"`
	Margin     string   `toml:"margin"`
	Servers    string   `toml:"expect-servers"`
	Parent     string   `toml:"expect-parent"`
	CDS        string   `toml:"cds"`
	Verify     string   `toml:"verify"`
	KeepKeys   bool     `toml:"keep-keys"`
	Passphrase string   `toml:"passphrase-file"`
}

func (p *checker) policies(c *Config, r *raw) {
	for name, in := range r.Policy {
		q := &policyChecker{checker: p, header: "[policy." + name + "]", pol: keymanager.DefaultPolicy()}
		q.pol.Name = name
		q.keys(&in)
		q.denial(&in)
		q.times(&in)
		q.publication(c.Dir, &in)
		c.Policies[name] = q.pol
	}
}

type policyChecker struct {
	*checker
	header string
	pol    *keymanager.Policy
}

func (q *policyChecker) bad(key, suggestion, format string, args ...any) {
	q.diags.Add(RuleBadValue.At(q.place(q.header, 0, key), format, args...).Suggest("%s", suggestion))
}

// choose takes one of several words; the first stands for none.
func (q *policyChecker) choose(key, value string, words ...string) string {
	if value == "" {
		return words[0]
	}
	for _, w := range words {
		if value == w {
			return w
		}
	}
	q.bad(key, "write "+strings.Join(words, " or "), "%s = %q is not known", key, value)
	return words[0]
}

func (q *policyChecker) keys(in *rawPolicy) {
	if in.Algorithm != "" {
		a, ok := rr.ParseAlgorithm(in.Algorithm)
		if !ok {
			q.bad("algorithm", "write ECDSAP256SHA256", "%q is not a DNSSEC algorithm", in.Algorithm)
		} else if l := dnssec.LevelOf(a); l.Signing < dnssec.Discouraged {
			q.bad("algorithm", "write ECDSAP256SHA256", "%s is not to be used: %s", in.Algorithm, l.Reason)
		}
		q.pol.Algorithm = a
	}
	q.pol.Split = q.choose("keys", in.Keys, "single", "split") == "split"
	if q.pol.Bits = in.Bits; in.Bits != 0 && (in.Bits < dnssec.MinRSABits || in.Bits > dnssec.MaxRSABits) {
		q.bad("bits", "leave it out, or write 2048 to 4096", "RSA keys of %d bits are not made", in.Bits)
	}
	q.pol.Signing.KeepKeys, q.pol.Revoke = in.KeepKeys, in.Revoke
}

func (q *policyChecker) denial(in *rawPolicy) {
	d := &q.pol.Signing.Denial
	d.NSEC3 = q.choose("denial", in.Denial, "nsec", "nsec3") == "nsec3"
	if !d.NSEC3 {
		for key, set := range map[string]bool{"salt": in.Salt != "", "iterations": in.Iterations != 0, "opt-out": in.OptOut} {
			if set {
				q.bad(key, "write denial = \"nsec3\", or leave it out", "%s means something with NSEC3 only", key)
			}
		}
		return
	}
	d.OptOut = in.OptOut
	if in.Iterations < 0 || in.Iterations > signer.MaxIterations {
		q.bad("iterations", "leave it out: 0 is what RFC 9276 asks for", "%d iterations make resolvers treat the zone as unsigned", in.Iterations)
	}
	d.Params.Iterations = uint16(in.Iterations)
	salt, err := hex.DecodeString(in.Salt)
	if err != nil || len(salt) > 255 {
		q.bad("salt", "leave it out: RFC 9276 asks for none", "%q is not a salt: hexadecimal, at most 255 octets", in.Salt)
	}
	d.Params.Salt = salt
}

func (q *policyChecker) times(in *rawPolicy) {
	s := &q.pol.Signing
	for _, f := range []struct {
		key, text string
		to        *time.Duration
	}{
		{"valid-for", in.Validity, &s.Validity}, {"renew-before-end", in.Refresh, &s.Refresh}, {"spread-ends", in.Jitter, &s.Jitter}, {"begin-before", in.Inception, &s.Inception},
		{"renew-key", in.RenewKey, &q.pol.Renew.Single}, {"renew-ksk", in.RenewKSK, &q.pol.Renew.KSK}, {"renew-zsk", in.RenewZSK, &q.pol.Renew.ZSK},
		{"margin", in.Margin, &q.pol.Margin}, {"expect-servers", in.Servers, &q.pol.ExpectServers}, {"expect-parent", in.Parent, &q.pol.ExpectParent},
	} {
		if f.text == "" {
			continue
		}
		d, err := ParseSpan(f.text)
		if err != nil {
			q.bad(f.key, "write a time such as 14d, 12h or 30m", "%v", err)
			continue
		}
		*f.to = d
	}
	if v := s.Validity; v != 0 && s.Refresh >= v || s.Jitter != 0 && v != 0 && s.Jitter+s.Refresh >= v {
		q.bad("renew-before-end", "make valid-for longer, or renew-before-end and spread-ends shorter", "signatures would be renewed as soon as they are made")
	}
	if in.DNSKEYTTL < 0 || in.DNSKEYTTL > 7*86400 {
		q.bad("dnskey-ttl", "write seconds, such as 3600", "%d is not a sensible TTL for keys", in.DNSKEYTTL)
	}
	s.DNSKEYTTL = uint32(in.DNSKEYTTL)
}

func (q *policyChecker) publication(dir string, in *rawPolicy) {
	s := &q.pol.Signing
	for _, w := range in.Zonemd {
		alg, ok := map[string]uint8{"sha384": signer.ZonemdSHA384, "sha512": signer.ZonemdSHA512}[w]
		if !ok {
			q.bad("zonemd", "write \"sha384\" or \"sha512\"", "%q is not a hash of ZONEMD", w)
			continue
		}
		s.Zonemd = append(s.Zonemd, alg)
	}
	for _, d := range in.Digests {
		if l := dnssec.DigestLevel(uint8(d)); d > 255 || d < 0 || l.Signing < dnssec.Allowed {
			q.bad("digests", "write 2 (SHA-256), and 4 (SHA-384) beside it if the parent wants it", "DS digest type %d is not made: %s", d, l.Reason)
			continue
		}
		s.Digests = append(s.Digests, uint8(d))
	}
	q.pol.CDS = keymanager.CDSUse(q.choose("cds", in.CDS, string(keymanager.CDSKeep), string(keymanager.CDSUntil), string(keymanager.CDSNever)))
	if q.choose("verify", in.Verify, "sample", "all") == "all" {
		s.CheckEvery = 1
	}
	if q.pol.PassphraseFile = in.Passphrase; in.Passphrase != "" && !filepath.IsAbs(in.Passphrase) {
		q.pol.PassphraseFile = filepath.Join(dir, in.Passphrase)
	}
}

// ParseSpan reads a length of time: a number and w, d, h, m or s, several times if
// wanted, such as 1h30m.
func ParseSpan(text string) (time.Duration, error) {
	bad := fmt.Errorf("%q is not a length of time", text)
	units := map[byte]time.Duration{'w': 7 * 24 * time.Hour, 'd': 24 * time.Hour, 'h': time.Hour, 'm': time.Minute, 's': time.Second}
	var total time.Duration
	rest := text
	for rest != "" {
		i := strings.IndexFunc(rest, func(r rune) bool { return r < '0' || r > '9' })
		if i <= 0 || units[rest[i]] == 0 {
			return 0, bad
		}
		n, err := strconv.Atoi(rest[:i])
		const most = 20 * 366 * 24 * time.Hour
		if err != nil || time.Duration(n) > most/units[rest[i]] {
			return 0, bad
		}
		total += time.Duration(n) * units[rest[i]]
		rest = rest[i+1:]
	}
	if text == "" {
		return 0, bad
	}
	return total, nil
}
