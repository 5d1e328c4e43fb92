package resolve

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/message"
	"fencepost/rr"
)

// Reading is a zone that was read from a server by asking, where it is not handed over.
type Reading struct {
	Records []rr.Record
	// Complete says that the server proved to have no other names (RFC 4034 §4.1.1); else
	// usual names were asked for, and whatever has another name is missing.
	Complete bool
	Names    int    // that were found
	Asked    int    // queries
	Why      string // where it is not complete: why the proofs did not lead through the zone
}

// Limits of reading.
const (
	maxReadNames = 200_000
	nextOfItself = "\\000" // the label of a name that directly follows another: a proof made up for the question (RFC 4470)
)

// UsualTypes are asked for where nothing says which types a name has.
var UsualTypes = []rr.Type{rr.TypeA, rr.TypeAAAA, rr.TypeCNAME, rr.TypeMX, rr.TypeTXT, rr.TypeSRV, rr.TypeNS, rr.TypeCAA, rr.TypeHTTPS, rr.TypePTR}

// Usual are names that many zones have, below their apex.
var Usual = strings.Fields(`www mail smtp imap pop pop3 webmail mx mx1 mx2 ns ns1 ns2 ns3 ns4 ftp vpn api app blog shop dev test staging
	admin portal cloud git autodiscover autoconfig mta-sts _mta-sts _dmarc _smtp._tls _sip._tcp _sips._tcp _sip._udp _xmpp-client._tcp
	_xmpp-server._tcp _imaps._tcp _imap._tcp _submission._tcp _submissions._tcp _pop3s._tcp _caldavs._tcp _carddavs._tcp _autodiscover._tcp
	default._domainkey selector1._domainkey selector2._domainkey s1._domainkey s2._domainkey mail._domainkey dkim._domainkey
	intranet gw gateway router static cdn img images media status docs wiki support help m mobile secure login sso auth calendar files
	chat news forum lists search db backup monitor proxy relay server web web1 web2 data old new archive home office lab print time ntp`)

// Read reads a zone from a server: along the NSEC chain where it is signed so, else by asking
// for usual names.
func (a *Asker) Read(ctx context.Context, at netip.AddrPort, apex dnsname.Name) (*Reading, error) {
	r := &reading{Asker: a, ctx: ctx, at: at, apex: apex, out: &Reading{}, seen: map[string]bool{}}
	soa, err := r.ask(apex, rr.TypeSOA)
	if err != nil {
		return nil, err
	}
	if data, _ := soa.Set(apex, rr.TypeSOA); len(data) == 0 || soa.Flags&message.FlagAA == 0 {
		return nil, fmt.Errorf("%s does not answer for %s", at, apex.Plain())
	}
	r.take(soa, apex, rr.TypeSOA)
	why, err := r.walk()
	if err != nil {
		return nil, err
	}
	if r.out.Complete = why == ""; !r.out.Complete {
		r.out.Why = why
		if err := r.probe(); err != nil {
			return nil, err
		}
	}
	return r.out, nil
}

type reading struct {
	*Asker
	ctx  context.Context
	at   netip.AddrPort
	apex dnsname.Name
	out  *Reading
	seen map[string]bool // records that are there
}

func (r *reading) ask(name dnsname.Name, t rr.Type) (*Response, error) {
	r.out.Asked++
	return Ask(r.ctx, r.at, Request{Net: r.Net, Name: name, Type: t, DO: true, Timeout: r.Timeout})
}

// add takes a record, once.
func (r *reading) add(rec rr.Record) {
	if !rec.Name.AtOrBelow(r.apex) || rec.Type == rr.TypeRRSIG || rec.Type == rr.TypeNSEC || rec.Type == rr.TypeNSEC3 {
		return
	}
	key := rec.Name.Key() + rec.Type.String() + string(rec.Data)
	if r.seen[key] {
		return
	}
	r.seen[key] = true
	r.out.Records = append(r.out.Records, rec)
}

// take takes what an answer says of a name: its records, or its delegation with the glue.
func (r *reading) take(resp *Response, name dnsname.Name, t rr.Type) {
	for _, rec := range resp.Answer {
		if rec.Name.Equal(name) && (rec.Type == t || rec.Type == rr.TypeCNAME) {
			r.add(rec)
		}
	}
	cut, hosts, _ := delegation(resp, r.apex, name)
	if cut.IsZero() {
		return
	}
	for _, rec := range resp.Authority {
		if rec.Name.Equal(cut) && (rec.Type == rr.TypeNS || rec.Type == rr.TypeDS) {
			r.add(rec)
		}
	}
	for _, rec := range resp.Additional {
		if (rec.Type == rr.TypeA || rec.Type == rr.TypeAAAA) && slices.ContainsFunc(hosts, rec.Name.Equal) && rec.Name.AtOrBelow(cut) {
			r.add(rec)
		}
	}
}

// walk goes along the NSEC chain; why says where it does not lead through the zone.
func (r *reading) walk() (why string, err error) {
	name := r.apex
	for r.out.Names < maxReadNames {
		resp, err := r.ask(name, rr.TypeNSEC)
		if err != nil {
			return "", err
		}
		data := r.nsecOf(resp, name)
		if data == nil { // at a signed delegation, of which the answer is a referral, or the child's
			if data, err = r.nsecBefore(name); err != nil {
				return "", err
			}
		}
		if data == nil {
			if r.out.Names == 0 {
				return "the zone has no NSEC records that lead from name to name", nil
			}
			return fmt.Sprintf("the chain of NSEC records ends at %s", name.Plain()), nil
		}
		n, err := dnsname.WireLen(data)
		if err != nil {
			return "", fmt.Errorf("the NSEC record of %s cannot be read: %w", name.Plain(), err)
		}
		next, err := dnsname.FromWire(data[:n])
		if err != nil {
			return "", err
		}
		if next.Below(name) && strings.HasPrefix(next.String(), nextOfItself) {
			return "the server makes proofs up for each question (RFC 4470)", nil
		}
		if err := r.types(name, data[n:]); err != nil {
			return "", err
		}
		r.out.Names++
		switch {
		case next.Equal(r.apex):
			return "", nil
		case !next.Below(r.apex) || next.Compare(name) <= 0:
			return fmt.Sprintf("the chain of NSEC records goes back at %s", name.Plain()), nil
		}
		name = next
	}
	return fmt.Sprintf("the zone has more than %d names", maxReadNames), nil
}

// nsecOf is the NSEC record that the zone has of a name, in whatever section of an answer. A
// server that has the zone below too may give that one's: it is known by its signature.
func (r *reading) nsecOf(resp *Response, name dnsname.Name) (data []byte) {
	ours := false
	for _, rec := range slices.Concat(resp.Answer, resp.Authority) {
		if !rec.Name.Equal(name) {
			continue
		}
		switch rec.Type {
		case rr.TypeNSEC:
			data = rec.Data
		case rr.TypeRRSIG:
			if sig, err := dnssec.ParseRRSIG(rec.Data); err == nil && sig.Covered == rr.TypeNSEC {
				signer, err := dnsname.FromWire(sig.Signer)
				ours = ours || err == nil && signer.Equal(r.apex)
			}
		}
	}
	if !ours {
		return nil
	}
	return data
}

// nsecBefore is the NSEC record of a name, as the proof that the next name beside it, in
// canonical order, does not exist; nil where that is not proved so.
func (r *reading) nsecBefore(name dnsname.Name) ([]byte, error) {
	const longest = 63
	wire := []byte(name.Wire())
	if name.Equal(r.apex) || wire[0] == longest {
		return nil, nil
	}
	beside := append([]byte{wire[0] + 1}, wire[1:1+wire[0]]...)
	next, err := dnsname.FromWire(append(append(beside, 0), wire[1+wire[0]:]...))
	if err != nil { // too long
		return nil, nil
	}
	resp, err := r.ask(next, rr.TypeA)
	if err != nil {
		return nil, err
	}
	return r.nsecOf(resp, name), nil
}

// types asks for the types that a bitmap shows.
func (r *reading) types(name dnsname.Name, bitmap []byte) error {
	cut := rr.BitmapHas(bitmap, rr.TypeNS) && !rr.BitmapHas(bitmap, rr.TypeSOA)
	for _, t := range rr.BitmapTypes(bitmap) {
		if rr.MadeBySigner(t) || cut && t != rr.TypeNS && t != rr.TypeDS {
			continue
		}
		resp, err := r.ask(name, t)
		if err != nil {
			return err
		}
		r.take(resp, name, t)
		if cut && t == rr.TypeNS {
			if err := r.glue(resp, name); err != nil {
				return err
			}
		}
	}
	return nil
}

// glue asks for the addresses of the servers of a zone below that lie in it, where the server
// answers for that zone too, and so refers to nobody.
func (r *reading) glue(resp *Response, cut dnsname.Name) error {
	data, _ := resp.Set(cut, rr.TypeNS)
	for _, host := range names(data) {
		if !host.AtOrBelow(cut) {
			continue
		}
		for _, t := range []rr.Type{rr.TypeA, rr.TypeAAAA} {
			got, err := r.ask(host, t)
			if err != nil {
				return err
			}
			r.take(got, host, t)
		}
	}
	return nil
}

// probe asks for usual names.
func (r *reading) probe() error {
	names := []dnsname.Name{r.apex}
	if star, err := r.apex.Child("*"); err == nil {
		names = append(names, star)
	}
	for _, u := range Usual {
		if n, err := dnsname.Parse(u, r.apex); err == nil {
			names = append(names, n)
		}
	}
	wild := 0
	for i, name := range names {
		before := len(r.out.Records)
		for _, t := range UsualTypes {
			resp, err := r.ask(name, t)
			if err != nil {
				return err
			}
			if resp.Rcode() == message.NXDomain {
				break
			}
			if i > 1 && wild > 0 && r.fromWildcard(resp, name, names[1]) {
				break
			}
			r.take(resp, name, t)
		}
		if len(r.out.Records) > before {
			r.out.Names++
			if i == 1 {
				wild = len(r.out.Records) - before
			}
		}
	}
	return nil
}

// fromWildcard reports whether an answer says no more than the wildcard of the zone.
func (r *reading) fromWildcard(resp *Response, name, star dnsname.Name) bool {
	for _, rec := range resp.Answer {
		if rec.Name.Equal(name) && rec.Type != rr.TypeRRSIG && !r.seen[star.Key()+rec.Type.String()+string(rec.Data)] {
			return false
		}
	}
	return len(resp.Answer) > 0
}

// ReadSome asks a server for some names of a zone, and gives what it says of them.
func (a *Asker) ReadSome(ctx context.Context, at netip.AddrPort, apex dnsname.Name, questions []message.Question) ([]rr.Record, error) {
	r := &reading{Asker: a, ctx: ctx, at: at, apex: apex, out: &Reading{}, seen: map[string]bool{}}
	asked := map[string]bool{}
	for _, q := range questions {
		key := q.Name.Key() + q.Type.String()
		if asked[key] {
			continue
		}
		asked[key] = true
		resp, err := r.ask(q.Name, q.Type)
		if err != nil {
			return nil, err
		}
		r.take(resp, q.Name, q.Type)
	}
	return r.out.Records, nil
}
