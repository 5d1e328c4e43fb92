package audit

import (
	"bytes"
	"fmt"
	"slices"
	"time"

	"fencepost/diag"
	"fencepost/dnssec"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/validate"
)

// unsigned says why nothing of signatures is looked at.
func unsigned(f *Facts) string {
	if why := noAnswers(f); why != "" {
		return why
	}
	if !f.signed() {
		return "the zone is not signed"
	}
	return ""
}

func noDS(f *Facts) string {
	if why := unsigned(f); why != "" {
		return why
	}
	if len(f.DS) == 0 {
		return "the parent has no DS"
	}
	return ""
}

func noChain(f *Facts) string {
	if why := notAbove(f); why != "" {
		return why
	}
	if f.Chain == nil {
		return "not all that belongs to the chain could be asked for"
	}
	return noAnswers(f)
}

// soon is how long before the end of signatures one should worry (RFC 6781 §4.4.2).
const soon = 3 * 24 * time.Hour

var dnssecTests = []*Test{
	moveTest,
	{Rule: rule("zone-unsigned", diag.Note, "the zone is not signed", "RFC 4033 §3.1",
		"Resolvers cannot tell its answers from forged ones. Sign the zone, and have the parent's operator add the DS."),
		Area: DNSSEC, Skip: noAnswers, Look: func(f *Facts, l *Findings) {
			if !f.signed() && len(f.DS) == 0 {
				l.add("make a key, and have the parent's operator add the DS", "%s has no keys", f.Zone.Plain())
			}
		}},
	{Rule: rule("chain-broken", diag.Error, "validating resolvers reject the zone", "RFC 4035 §5, RFC 4033 §5",
		"The chain of trust is broken: validating resolvers answer SERVFAIL for every name in the zone."),
		Area: DNSSEC, Skip: noChain, Look: func(f *Facts, l *Findings) {
			for _, c := range []*validate.Chain{f.Chain, f.Denial} {
				if c != nil && c.Status == validate.Bogus {
					l.add("see the first broken link, and what to do about it", "%s", c.Reason)
					return
				}
			}
		}},
	{Rule: rule("signed-without-ds", diag.Warning, "the zone is signed, and the parent has no DS for it", "RFC 4035 §2.4",
		"Without a DS validating resolvers treat the zone as unsigned: forged answers are accepted."),
		Area: DNSSEC, Skip: unsigned, Look: func(f *Facts, l *Findings) {
			if notAbove(f) == "" && len(f.DS) == 0 {
				l.add("have the parent's operator add the DS", "%s has no DS of %s", f.parent(), f.Zone.Plain())
			}
		}},
	{Rule: rule("ds-without-key", diag.Warning, "a DS at the parent matches no key of the zone", "RFC 4035 §2.4, RFC 6781 §4.1.2",
		"It is left over from a removed key, or was copied wrong. While another DS matches a key nothing breaks; if none does, validating resolvers reject the zone."),
		Area: DNSSEC, Skip: noDS, Look: func(f *Facts, l *Findings) {
			advice := "have the parent's operator replace it by the DS of a key of the zone"
			if slices.ContainsFunc(f.DS, func(d []byte) bool { return f.leads(d) != nil }) {
				advice = "when no rollover is under way, have the parent's operator remove it"
			}
			for _, d := range f.DS {
				switch leads, near := dnssec.DSMatch(f.Zone, d, f.keys()); {
				case leads:
				case near != "":
					l.add(advice, "the DS with key tag %d was entered wrong: %s", tagOf(d), near)
				default:
					l.add(advice, "the DS with key tag %d matches no key of the zone", tagOf(d))
				}
			}
		}},
	{Rule: rule("ds-digest-weak", diag.Warning, "the parent has a DS with a deprecated digest", "RFC 8624 §3.3, RFC 9157 §3",
		"More and more validating resolvers ignore SHA-1 digests; without another DS they treat the zone as unsigned. All understand SHA-256."),
		Area: DNSSEC, Skip: noDS, Look: func(f *Facts, l *Findings) {
			for _, d := range f.DS {
				weak := func(d []byte) bool { return dnssec.DigestLevel(d[3]).Validation != dnssec.Recommended }
				if len(d) > 3 && weak(d) && !slices.ContainsFunc(f.DS, func(o []byte) bool {
					return len(o) > 3 && bytes.Equal(o[:3], d[:3]) && !weak(o)
				}) {
					l.add("have the DS with SHA-256 entered", "the DS with key tag %d is a %s digest", tagOf(d), dnssec.DigestName(d[3]))
				}
			}
		}},
	{Rule: rule("ds-key-no-entry", diag.Note, "a DS matches a key without the SEP flag", "RFC 4034 §2.1.1, RFC 6781 §3.2.3",
		"Validating resolvers do not mind. Tools that choose keys by the flag may take the wrong one for the next DS."),
		Area: DNSSEC, Skip: noDS, Look: func(f *Facts, l *Findings) {
			for _, d := range f.DS {
				if k := f.leads(d); k != nil && k[1]&byte(dnssec.FlagSEP) == 0 {
					l.add("", "the key with tag %d has not the flag SEP", tagOf(d))
				}
			}
		}},
	{Rule: rule("key-algorithm-weak", diag.Warning, "a key of the zone has a deprecated algorithm", "RFC 8624 §3.1",
		"Validating resolvers that no longer support it treat the zone as unsigned, or reject it. Roll over to ECDSAP256SHA256 or ED25519."),
		Area: DNSSEC, Skip: unsigned, Look: func(f *Facts, l *Findings) {
			for _, d := range f.keys() {
				if len(d) > 3 && dnssec.LevelOf(rr.AlgorithmNumber(d[3])).Validation < dnssec.Allowed {
					l.add("roll to another algorithm", "the key with tag %d: %s", dnssec.KeyTag(d), dnssec.LevelOf(rr.AlgorithmNumber(d[3])).Reason)
				}
			}
		}},
	{Rule: rule("key-short", diag.Warning, "an RSA key of the zone is short", "RFC 6781 §3.4.2, RFC 8624 §3.1",
		"Keys of less than 2048 bits may be broken while they are in use; validating resolvers ignore those of less than 1024."),
		Area: DNSSEC, Skip: unsigned, Look: func(f *Facts, l *Findings) {
			for _, d := range f.keys() {
				if bits := rsaBits(d); bits > 0 && bits < 2048 {
					l.add("roll to an ECDSA key", "the key with tag %d has %d bits", dnssec.KeyTag(d), bits)
				}
			}
		}},
	{Rule: rule("too-many-keys", diag.Note, "the zone has many keys", "RFC 6781 §3.4",
		"Each key makes the DNSKEY answer larger and validation slower. Remove old keys after a rollover."),
		Area: DNSSEC, Skip: unsigned, Look: func(f *Facts, l *Findings) {
			if n := len(f.keys()); n > 6 {
				l.add("retire those that are not needed", "%d keys", n)
			}
		}},
	{Rule: rule("signatures-bad-at-server", diag.Error, "the answers of a server are bogus", "RFC 4035 §5.3",
		"Its signatures have expired, or do not match the records. Usually the server is stale: it cannot fetch the zone, or the signer has stopped."),
		Area: DNSSEC, Skip: unsigned, Look: each(func(f *Facts, s *Server, l *Findings) {
			if s.Verdict.Status == validate.Bogus && s.Keys != nil && !s.Plain {
				l.add("make it fetch the zone again, or sign again", "%s: %s", s, s.Verdict.Reason)
			}
		})},
	{Rule: rule("signatures-end-soon", diag.Warning, "signatures of the zone expire within three days", "RFC 6781 §4.4.2, RFC 4035 §5.3.1",
		"When they expire, validating resolvers reject the zone. A signer renews them long before: it has stopped, or the server has not fetched the zone for long."),
		Area: DNSSEC, Skip: unsigned, Look: each(func(f *Facts, s *Server, l *Findings) {
			first := time.Time{}
			for _, r := range []*resolve.Response{s.SOA, s.Keys} {
				if r == nil {
					continue
				}
				for _, a := range r.Answer {
					sig, err := dnssec.ParseRRSIG(a.Data)
					if a.Type != rr.TypeRRSIG || err != nil {
						continue
					}
					end := time.Unix(f.Now.Unix()+int64(int32(sig.Expiration-uint32(f.Now.Unix()))), 0) // RFC 4034 §3.1.5
					if first.IsZero() || end.Before(first) {
						first = end
					}
				}
			}
			if !first.IsZero() && first.After(f.Now) && first.Before(f.Now.Add(soon)) {
				l.add("see the log of the signer", "at %s the first ends at %s", s, first.UTC().Format("2006-01-02 15:04 UTC"))
			}
		})},
	{Rule: rule("keys-differ", diag.Warning, "servers of the zone have different keys", "RFC 4035 §2.2, RFC 6781 §4.1",
		"A resolver that has the keys of one and an answer of another cannot validate it. During a rollover this passes when all have fetched the zone; otherwise it is an error."),
		Area: DNSSEC, Skip: unsigned, Look: func(f *Facts, l *Findings) {
			differ(f, l, rr.TypeDNSKEY, func(s *Server) *resolve.Response { return s.Keys })
		}},
	{Rule: rule("cds-differ", diag.Warning, "servers of the zone have different CDS or CDNSKEY records", "RFC 7344 §4.1, §6.1",
		"The parent acts on them only when all servers agree."),
		Area: DNSSEC, Skip: unsigned, Look: func(f *Facts, l *Findings) {
			differ(f, l, rr.TypeCDS, func(s *Server) *resolve.Response { return s.CDS })
			differ(f, l, rr.TypeCDNSKEY, func(s *Server) *resolve.Response { return s.CDNSKEY })
		}},
	{Rule: rule("cds-waits", diag.Note, "the zone asks for another DS, and the parent has not changed it", "RFC 7344 §4, RFC 8078 §3",
		"This is normal for hours or days during a rollover. A parent that does not read CDS records has to be sent the DS."),
		Area: DNSSEC, Skip: func(f *Facts) string {
			if why := notAbove(f); why != "" {
				return why
			}
			return unsigned(f)
		}, Look: func(f *Facts, l *Findings) {
			cds := f.data(f.Zone, rr.TypeCDS)
			if len(cds) == 0 {
				return
			}
			for _, c := range cds {
				gone := len(c) == 5 && c[3] == 0 // RFC 8078 §4
				if !gone && !slices.ContainsFunc(f.DS, func(d []byte) bool { return bytes.Equal(d, c) }) || gone && len(f.DS) > 0 {
					l.add("if the parent does not read CDS, send it the DS", "the CDS record %s is not what %s has", rr.DataText(rr.TypeCDS, c), f.parent())
				}
			}
		}},
	{Rule: rule("cds-not-ours", diag.Error, "a CDS or CDNSKEY record matches no key of the zone", "RFC 7344 §4.1, RFC 8078 §5",
		"If the parent acted on it, validating resolvers would reject the zone. Good registries do not; correct the record all the same."),
		Area: DNSSEC, Skip: unsigned, Look: func(f *Facts, l *Findings) {
			any := false
			var lost []string
			for _, c := range f.data(f.Zone, rr.TypeCDS) {
				if len(c) == 5 && c[3] == 0 || f.leads(c) != nil {
					any = true
					continue
				}
				lost = append(lost, fmt.Sprintf("CDS with key tag %d", tagOf(c)))
			}
			for _, c := range f.data(f.Zone, rr.TypeCDNSKEY) {
				if len(c) > 3 && c[3] == 0 || slices.ContainsFunc(f.keys(), func(k []byte) bool { return bytes.Equal(k, c) }) {
					any = true
					continue
				}
				lost = append(lost, fmt.Sprintf("CDNSKEY with key tag %d", dnssec.KeyTag(c)))
			}
			if !any {
				for _, what := range lost {
					l.add("", "the %s matches no key", what)
				}
			}
		}},
	{Rule: rule("nsec3-salt", diag.Note, "hashes of names are salted", "RFC 9276 §3.1",
		"A salt protects nothing, for the zone's name is in every hash already, and costs work. Use none: -."),
		Area: DNSSEC, Skip: unsigned, Look: func(f *Facts, l *Findings) {
			for _, d := range f.data(f.Zone, rr.TypeNSEC3PARAM) {
				if p, _, _, err := dnssec.ParseParams(d); err == nil && len(p.Salt) > 0 {
					l.add("", "the salt has %d octets", len(p.Salt))
				}
			}
		}},
	{Rule: rule("denial-unproved", diag.Warning, "a server does not prove that a name does not exist", "RFC 4035 §3.1.3, RFC 5155 §7.2",
		"Without NSEC or NSEC3 records validating resolvers reject the answer, and ask again and again."),
		Area: DNSSEC, Skip: unsigned, Look: each(func(_ *Facts, s *Server, l *Findings) {
			if s.NoName == nil || s.NoName.ExtendedRcode != message.NXDomain || s.Plain {
				return
			}
			if !slices.ContainsFunc(s.NoName.Authority, func(a rr.Record) bool { return a.Type == rr.TypeNSEC || a.Type == rr.TypeNSEC3 }) {
				l.add("update that server, or transfer the zone to it again", "%s sends no proof", s)
			}
		})},
	{Rule: rule("denial-by-nsec-and-nsec3", diag.Note, "some servers deny names with NSEC and some with NSEC3", "RFC 5155 §10.4",
		"This is normal while one replaces the other; otherwise two signers differ."),
		Area: DNSSEC, Skip: unsigned, Look: func(f *Facts, l *Findings) {
			ways := map[rr.Type]*Server{}
			for _, s := range f.Servers {
				if s.NoName == nil || !s.Answers() {
					continue
				}
				for _, a := range s.NoName.Authority {
					if a.Type == rr.TypeNSEC || a.Type == rr.TypeNSEC3 {
						ways[a.Type] = s
					}
				}
			}
			if ways[rr.TypeNSEC] != nil && ways[rr.TypeNSEC3] != nil {
				l.add("", "%s has NSEC records, %s NSEC3", ways[rr.TypeNSEC], ways[rr.TypeNSEC3])
			}
		}},
}

// differ tells where servers that answer have different sets.
func differ(f *Facts, l *Findings, t rr.Type, get func(*Server) *resolve.Response) {
	var one *Server
	for _, s := range f.Servers {
		if !s.Answers() || get(s) == nil {
			continue
		}
		if one == nil {
			one = s
		} else if data(get(s), f.Zone, t) != data(get(one), f.Zone, t) {
			l.add("wait until all have fetched, and see which is stale", "%s has other %s records than %s", s, t, one)
		}
	}
}

func tagOf(ds []byte) uint16 {
	if len(ds) < 2 {
		return 0
	}
	return uint16(ds[0])<<8 | uint16(ds[1])
}

// leads is the key that a DS leads to, or nil.
func (f *Facts) leads(ds []byte) []byte {
	if len(ds) < 4 {
		return nil
	}
	for _, k := range f.keys() {
		if dnssec.KeyTag(k) == tagOf(ds) && bytes.Equal(dnssec.DS(f.Zone, k, ds[3]), ds) {
			return k
		}
	}
	return nil
}

// rsaBits is the length of an RSA key (RFC 3110 §2); 0 for others.
func rsaBits(dnskey []byte) int {
	if len(dnskey) < 8 || !slices.Contains([]byte{1, 5, 7, 8, 10}, dnskey[3]) {
		return 0
	}
	key := dnskey[4:]
	exponent, key := int(key[0]), key[1:]
	if exponent == 0 && len(key) > 2 {
		exponent, key = int(key[0])<<8|int(key[1]), key[2:]
	}
	if exponent >= len(key) {
		return 0
	}
	return 8 * len(bytes.TrimLeft(key[exponent:], "\x00"))
}
