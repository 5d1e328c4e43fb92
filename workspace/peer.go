package workspace

import (
	"crypto/rand"
	"net/netip"

	"fencepost/dnsname"
	"fencepost/resolve"
	"fencepost/tsig"
)

// Peer is another server that zones are exchanged with.
type Peer struct {
	Name    string
	Address netip.AddrPort
	TSIG    *tsig.Key // nil: transfers are told apart by address only
	Secret  string    // the name of TSIG; with no TSIG, its secret is not there
	Also    *tsig.Key // another key that it may use; nil: none
	// Audience is what it sees of zones that have a version for that, whose versions are exchanged with
	// it; empty: what everyone sees.
	Audience string
}

// Server is the peer as one that is asked.
func (p *Peer) Server() resolve.Server {
	s := resolve.Server{Name: p.Name, Address: p.Address, Key: p.TSIG}
	if p.Also != nil {
		s.Also = []*tsig.Key{p.Also}
	}
	return s
}

func (p *checker) peers(c *Config, r *raw, secrets map[string]*tsig.Key) {
	for name, in := range r.Peer {
		header := "[peer." + name + "]"
		peer := &Peer{Name: name}
		peer.Address, _ = p.address(in.Address, header, "address")
		peer.Secret = in.TSIG
		peer.TSIG = p.secret(header, "tsig", in.TSIG, secrets)
		if peer.Also = p.secret(header, "tsig-also", in.Also, secrets); peer.Also != nil && in.TSIG == "" {
			p.diags.Add(RuleBadValue.At(p.place(header, 0, "tsig-also"), "tsig-also stands beside a tsig").
				Suggest("name the secret with tsig"))
		}
		if peer.Audience = in.Audience; peer.Audience != "" && r.Audience[peer.Audience].Networks == nil {
			missing(p, header, 0, "audience", "audience", peer.Audience, r.Audience)
		}
		c.Peers[name] = peer
	}
}

// secret is one that a key of the configuration names; nil where none is named.
func (p *checker) secret(header, key, name string, secrets map[string]*tsig.Key) *tsig.Key {
	if name == "" {
		return nil
	}
	if secrets[name] == nil && !p.hidden {
		failed := p.failed()
		d := RuleMissingReference.At(p.place(header, 0, key), "there is no secret %s in %s", name, SecretsFile).
			Suggest("add a section [tsig.%s] with a secret", name)
		if p.diags.Add(d); !failed {
			p.forgive(d)
		}
	}
	return secrets[name]
}

// CloseSecretless has peers proved by nothing whose secret is not there: they are refused whatever they
// sign with, and never taken at their address alone.
func (c *Config) CloseSecretless() {
	for _, p := range c.Peers {
		if p.Secret == "" || p.TSIG != nil {
			continue
		}
		name, err := dnsname.Parse(p.Secret, dnsname.Root)
		if err != nil {
			name = dnsname.MustParse("no-secret.invalid.")
		}
		p.TSIG = &tsig.Key{Name: name, Algorithm: tsig.DefaultAlgorithm, Secret: make([]byte, 32)}
		_, _ = rand.Read(p.TSIG.Secret) // never fails (crypto/rand)
	}
}

// peersNamed are the peers that a key of the n-th section with a header names.
func (p *checker) peersNamed(c *Config, header string, n int, key string, names []string) (out []*Peer) {
	for _, name := range names {
		peer := c.Peers[name]
		if peer == nil {
			missing(p, header, n, key, "peer", name, c.Peers)
			continue
		}
		out = append(out, peer)
	}
	return out
}

// digest reads what is asked of ZONEMD records.
func (p *checker) digest(header string, n int, text string) Digest {
	switch d := Digest(text); d {
	case "":
		return DigestNever
	case DigestNever, DigestPresent, DigestAlways:
		return d
	}
	p.diags.Add(RuleBadValue.At(p.place(header, n, "check-digest"), "check-digest = %q is not known", text).Suggest("write never, present or always"))
	return DigestNever
}
