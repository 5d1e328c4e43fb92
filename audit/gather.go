package audit

import (
	"context"
	"crypto/rand"
	"fmt"
	"net/netip"
	"slices"
	"sync"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/validate"
)

func (a *Auditor) gather(ctx context.Context, zone dnsname.Name) (*Facts, error) {
	f := &Facts{Zone: zone, Now: a.Now, AsIf: len(a.AsIf) > 0, Networks: a.Networks, Glue: map[string][]netip.Addr{}, sets: map[setKey]*memo{}}
	f.finder = a.Tracer.Finder(ctx, maxFinds)
	var label [6]byte
	_, _ = rand.Read(label[:]) // never fails (crypto/rand)
	f.nosuch = f.under(fmt.Sprintf("nosuch-%x", label))
	if !f.AsIf {
		a.step("asking the parent")
		if err := a.above(ctx, f); err != nil {
			return nil, err
		}
	} else {
		f.lookAtDS()
	}
	a.step("asking the servers")
	a.hosts(f)
	a.askAll(ctx, f)
	best := f.best()
	if len(best) > 0 {
		f.SOA, f.HasSOA = best[0].soa(zone)
	}
	a.step("looking up names")
	var hosts []resolve.Host
	for _, s := range best {
		hosts = append(hosts, resolve.Host{Name: s.Host.Name, Addrs: []netip.AddrPort{s.At}})
	}
	f.finder.Know(zone, hosts)
	f.warm()
	a.step("comparing answers")
	a.sample(ctx, f)
	a.step("checking signatures")
	a.chains(ctx, f)
	return f, ctx.Err()
}

// above asks the servers of the zone above.
func (a *Auditor) above(ctx context.Context, f *Facts) error {
	tr, err := a.Tracer.Trace(ctx, f.Zone, rr.TypeSOA)
	if err != nil {
		return err
	}
	f.Asked += tr.Asked
	leg := tr.Legs[0]
	for i, s := range leg.Steps {
		f.Troubles = append(f.Troubles, s.Troubles...)
		if s.Zone.Equal(f.Zone) && i > 0 {
			for _, h := range s.Hosts {
				f.host(h.Name).Addrs = h.Addrs
			}
		} else {
			f.Parent, f.Above = s.Zone, s.Said
		}
	}
	for _, s := range f.Above {
		if hosts, glue, ok := s.Referral(f.Zone); ok && f.AboveNS == nil {
			f.AboveNS, f.Glue, f.Delegated = hosts, glue, true
		}
		if r := s.Response(); r != nil && s.Kind == resolve.HasData && authoritative(r) && !f.Zone.Equal(f.Parent) {
			f.Delegated = true // it has the zone too, and does not tell what the zone above says
		}
	}
	if f.Zone == dnsname.Root {
		f.Delegated = true
		for _, h := range a.Tracer.Roots {
			f.AboveNS = append(f.AboveNS, h.Name)
		}
	}
	for _, n := range f.AboveNS {
		f.host(n).Above = true
	}
	f.DS = f.data(f.Zone, rr.TypeDS)
	return nil
}

// host is a name server by its name.
func (f *Facts) host(name dnsname.Name) *Host {
	for _, h := range f.Hosts {
		if h.Name.Equal(name) {
			return h
		}
	}
	h := &Host{Name: name}
	f.Hosts = append(f.Hosts, h)
	return h
}

// hosts finds all name servers that the zone above and the zone itself name, with their
// addresses.
func (a *Auditor) hosts(f *Facts) {
	for _, h := range a.AsIf {
		own := f.host(h.Name)
		own.Above = true
		own.Addrs = h.Addrs
		f.AboveNS = append(f.AboveNS, h.Name)
	}
	if f.Zone == dnsname.Root && !f.AsIf {
		for _, h := range a.Tracer.Roots {
			f.host(h.Name).Addrs = h.Addrs
		}
	}
	if f.AsIf {
		f.finder.Know(f.Zone, a.AsIf)
	}
	for _, data := range f.data(f.Zone, rr.TypeNS) {
		if n, err := dnsname.FromWire(data); err == nil {
			f.host(n).Own = true
		}
	}
	for _, h := range f.Hosts {
		if len(h.Addrs) == 0 {
			h.Addrs, h.Why = f.finder.Addresses(h.Name)
		}
		found, err := f.find(h.Name, rr.TypeCNAME)
		h.Alias = err == nil && len(found.Data) > 0
		for _, at := range h.Addrs {
			if len(f.Servers) < maxServers {
				f.Servers = append(f.Servers, &Server{Host: h, At: at})
			}
		}
	}
}

// best is the servers that answer for the zone, those with the newest version first: what is
// looked up goes to them.
func (f *Facts) best() (list []*Server) {
	for _, s := range f.Servers {
		if s.Answers() {
			list = append(list, s)
		}
	}
	slices.SortStableFunc(list, func(a, b *Server) int {
		x, _ := a.Serial(f.Zone)
		y, _ := b.Serial(f.Zone)
		switch {
		case rr.NewerSerial(x, y):
			return -1
		case rr.NewerSerial(y, x):
			return 1
		}
		return 0
	})
	return list
}

// askAll asks all servers, the odd questions included.
func (a *Auditor) askAll(ctx context.Context, f *Facts) {
	places := make(chan struct{}, atOnce)
	var count sync.Mutex
	// Each takes a place while it asks.
	with := func(do func()) {
		places <- struct{}{}
		defer func() { <-places }()
		count.Lock()
		f.Asked++
		count.Unlock()
		do()
	}
	var wg sync.WaitGroup
	for _, s := range f.Servers {
		wg.Go(func() { a.askOne(ctx, f, s, with) })
	}
	wg.Wait()
}

func (a *Auditor) askOne(ctx context.Context, f *Facts, s *Server, with func(func())) {
	ask := func(r resolve.Request) (out *resolve.Response, err error) {
		r.Net, r.Timeout, r.Silent = a.Tracer.Net, a.Tracer.Timeout, a.Tracer.Silent
		with(func() { out, err = resolve.Ask(ctx, s.At, r) })
		return out, err
	}
	s.SOA, s.Err = ask(resolve.Request{Name: f.Zone, Type: rr.TypeSOA, DO: true})
	if s.Err != nil || s.SOA.Rcode() == message.FormErr { // RFC 6891 §6.2.2
		if plain, err := ask(resolve.Request{Name: f.Zone, Type: rr.TypeSOA, NoEDNS: true}); err == nil {
			s.SOA, s.Err, s.Plain = plain, nil, true
		}
	}
	s.TCP, s.TCPErr = ask(resolve.Request{Name: f.Zone, Type: rr.TypeSOA, DO: true, TCP: true, NoEDNS: s.Plain})
	if s.Err != nil {
		s.SOA = nil
		return
	}
	var wg sync.WaitGroup
	for _, q := range []struct {
		to **resolve.Response
		r  resolve.Request
	}{
		{&s.NS, resolve.Request{Name: f.Zone, Type: rr.TypeNS}},
		{&s.Keys, resolve.Request{Name: f.Zone, Type: rr.TypeDNSKEY, DO: true}},
		{&s.CDS, resolve.Request{Name: f.Zone, Type: rr.TypeCDS, DO: true}},
		{&s.CDNSKEY, resolve.Request{Name: f.Zone, Type: rr.TypeCDNSKEY, DO: true}},
		{&s.NoName, resolve.Request{Name: f.nosuch, Type: rr.TypeA, DO: true}},
		{&s.Recursion, resolve.Request{Name: dnsname.Root, Type: rr.TypeNS, RD: true}},
		{&s.Transfer, resolve.Request{Name: f.Zone, Type: rr.TypeAXFR, TCP: true, NoEDNS: true}},
	} {
		wg.Go(func() {
			q.r.NoEDNS = q.r.NoEDNS || s.Plain
			q.r.DO = q.r.DO && !s.Plain
			if resp, err := ask(q.r); err == nil {
				*q.to = resp
			}
		})
	}
	s.odd = map[*probe]*probeAnswer{}
	for _, o := range odds {
		ans := &probeAnswer{}
		s.odd[o] = ans
		if s.Answers() && (!o.edns || !s.Plain) {
			wg.Go(func() {
				with(func() { ans.ask(ctx, a, f, s, o) })
			})
		}
	}
	wg.Wait()
}

// warm finds side by side what the tests will look at.
func (f *Facts) warm() {
	var wg sync.WaitGroup
	places := make(chan struct{}, atOnce)
	find := func(name dnsname.Name, types ...rr.Type) {
		for _, t := range types {
			wg.Go(func() {
				places <- struct{}{}
				defer func() { <-places }()
				_, _ = f.find(name, t)
			})
		}
	}
	for _, n := range served {
		find(f.under(n.name), n.types...)
	}
	for _, s := range f.Servers {
		find(dnsname.Reverse(s.At.Addr()), rr.TypePTR)
	}
	wg.Wait()
	for _, m := range f.mx() {
		find(m.host, rr.TypeA, rr.TypeAAAA)
		find(tlsaOf(m.host), rr.TypeTLSA)
	}
	wg.Wait()
	for _, m := range f.mx() {
		addrs, _, _ := f.addrs(m.host)
		for _, a := range addrs {
			find(dnsname.Reverse(a), rr.TypePTR)
		}
	}
	wg.Wait()
}

// served are names under the zone's with the types that are looked at.
var served = []struct {
	name  string
	types []rr.Type
}{
	{"@", []rr.Type{rr.TypeSOA, rr.TypeNS, rr.TypeA, rr.TypeAAAA, rr.TypeMX, rr.TypeTXT, rr.TypeCAA, rr.TypeDNSKEY, rr.TypeCDS, rr.TypeCDNSKEY, rr.TypeCSYNC, rr.TypeNSEC3PARAM, rr.TypeHTTPS, rr.TypeCNAME}},
	{"www", []rr.Type{rr.TypeA, rr.TypeAAAA, rr.TypeHTTPS}},
	{"_dmarc", []rr.Type{rr.TypeTXT}},
	{"_mta-sts", []rr.Type{rr.TypeTXT}},
	{"mta-sts", []rr.Type{rr.TypeA, rr.TypeAAAA}},
	{"_smtp._tls", []rr.Type{rr.TypeTXT}},
	{"_443._tcp", []rr.Type{rr.TypeTLSA}},
	{"_443._tcp.www", []rr.Type{rr.TypeTLSA}},
}

// chains checks the chain of trust to the zone, and the answers of each server by themselves.
func (a *Auditor) chains(ctx context.Context, f *Facts) {
	if !f.AsIf && len(a.Anchors) > 0 {
		for _, c := range []struct {
			to   **validate.Chain
			name dnsname.Name
			t    rr.Type
		}{{&f.Chain, f.Zone, rr.TypeSOA}, {&f.Denial, f.nosuch, rr.TypeA}} {
			records, err := a.Walker.CollectAll(ctx, c.name, c.t)
			f.Asked++
			chain := validate.NewRRsets(records).Explain(a.Anchors, c.name, c.t, f.Now)
			if err == nil || chain.Status != validate.Bogus { // else what is missing may only not have come
				*c.to = chain
			}
		}
	}
	if !f.signed() {
		return
	}
	anchors := f.anchors()
	for _, s := range f.Servers {
		var records []rr.Record
		for _, r := range []*resolve.Response{s.SOA, s.Keys, s.NoName} {
			if r != nil {
				records = append(append(records, r.Answer...), r.Authority...)
			}
		}
		sets := validate.NewRRsets(records)
		keys, v := sets.TrustKeys(f.Zone, anchors, f.Now)
		if keys != nil {
			if v = sets.Answer(keys, f.Zone, rr.TypeSOA, f.Now); v.Status == validate.Secure && s.NoName != nil {
				if d := sets.Answer(keys, f.nosuch, rr.TypeA, f.Now); d.Status < v.Status {
					v = d
				}
			}
		}
		s.Verdict = v
	}
}

// signed reports whether the zone has keys.
func (f *Facts) signed() bool { return len(f.keys()) > 0 }

// keys is the DNSKEY set, of the first server that has one.
func (f *Facts) keys() [][]byte {
	for _, s := range f.Servers {
		if s.Keys != nil {
			if data, _ := s.Keys.Set(f.Zone, rr.TypeDNSKEY); len(data) > 0 {
				return data
			}
		}
	}
	return nil
}

// anchors are the DS of the zone, or its own keys where none leads to one: that is not the
// fault of a server.
func (f *Facts) anchors() (out []rr.Record) {
	for _, d := range f.DS {
		if f.leads(d) == nil {
			continue
		}
		out = append(out, rr.Record{Name: f.Zone, Type: rr.TypeDS, Class: rr.ClassIN, Data: d})
	}
	if len(out) > 0 {
		return out
	}
	for _, d := range f.keys() {
		out = append(out, rr.Record{Name: f.Zone, Type: rr.TypeDNSKEY, Class: rr.ClassIN, Data: d})
	}
	return out
}
