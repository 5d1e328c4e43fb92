package audit

import (
	"fmt"
	"net/netip"
	"sync"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/validate"
)

// Facts are what was seen from outside.
type Facts struct {
	Zone dnsname.Name
	Now  time.Time
	AsIf bool
	// Parent is the zone above; the zero name: none was asked.
	Parent dnsname.Name
	// Above is what each server of the zone above says; AboveNS and Glue are of the first that
	// refers to the zone. Delegated tells that one does, or that the servers of both are the
	// same ones.
	Above     []*resolve.Said
	AboveNS   []dnsname.Name
	Glue      map[string][]netip.Addr
	Delegated bool
	Troubles  []resolve.Trouble // of the way there
	DS        [][]byte

	Hosts   []*Host
	Servers []*Server
	SOA     rr.SOA // the newest
	HasSOA  bool
	// Chain is that of the SOA, Denial that of a name that does not exist.
	Chain, Denial *validate.Chain
	Networks      *Networks
	Asked         int

	// Of servers that the zone will be delegated to: the DS that the zone above has now.
	dsNow    [][]byte
	dsNowTTL uint32
	dsNowErr error

	samples []*sampled

	nosuch dnsname.Name
	finder *resolve.Finder
	mu     sync.Mutex // guards sets
	sets   map[setKey]*memo

	lintOnce sync.Once
	lint     []diag.Diagnostic
}

// Host is a name server.
type Host struct {
	Name       dnsname.Name
	Above, Own bool // the zone above names it; the zone itself does
	Addrs      []netip.AddrPort
	Alias      bool
	Why        error // why it has no address
}

// Server is one address of a name server, with what it answers.
type Server struct {
	Host *Host
	At   netip.AddrPort
	// SOA is the answer over UDP, Plain that it came without EDNS only, TCP that over TCP.
	SOA, TCP    *resolve.Response
	Err, TCPErr error
	Plain       bool
	// NS, Keys and so on are of the zone; NoName is of a name that does not exist.
	NS, Keys, CDS, CDNSKEY, NoName *resolve.Response
	Recursion, Transfer            *resolve.Response
	odd                            map[*probe]*probeAnswer
	// Verdict is that on its own answers, from the DS of the zone, or its keys where there is none.
	Verdict validate.Verdict
}

func (s *Server) String() string {
	if s.Host.Name.IsZero() {
		return s.At.Addr().String()
	}
	return fmt.Sprintf("%s (%s)", s.Host.Name.Plain(), s.At.Addr())
}

// Answers reports whether the server answers for the zone, with authority.
func (s *Server) Answers() bool { return s.SOA != nil && authoritative(s.SOA) }

func authoritative(r *resolve.Response) bool {
	return r.ExtendedRcode == message.NoError && r.Flags&message.FlagAA != 0
}

// soa is the server's SOA.
func (s *Server) soa(zone dnsname.Name) (rr.SOA, bool) {
	if s.SOA == nil {
		return rr.SOA{}, false
	}
	data, _ := s.SOA.Set(zone, rr.TypeSOA)
	if len(data) == 0 {
		return rr.SOA{}, false
	}
	soa, err := rr.ParseSOA(data[0])
	return soa, err == nil
}

// Serial is that of the server's SOA; ok is false where it has none.
func (s *Server) Serial(zone dnsname.Name) (serial uint32, ok bool) {
	soa, ok := s.soa(zone)
	return soa.Serial, ok && s.Answers()
}

type setKey struct {
	name string
	t    rr.Type
}

type memo struct {
	once sync.Once
	resolve.Found
	err error
}

// Limits of one audit.
const (
	maxFinds   = 2000 // questions to find records
	maxServers = 40   // addresses that are asked
	atOnce     = 24
)

// find is a set, as a resolver would find it.
func (f *Facts) find(name dnsname.Name, t rr.Type) (resolve.Found, error) {
	k := setKey{name.Key(), t}
	f.mu.Lock()
	m := f.sets[k]
	if m == nil {
		m = &memo{}
		f.sets[k] = m
	}
	f.mu.Unlock()
	m.once.Do(func() { m.Found, m.err = f.finder.Find(name, t) })
	return m.Found, m.err
}

// data is the data of a set; nothing where it cannot be found.
func (f *Facts) data(name dnsname.Name, t rr.Type) [][]byte {
	found, _ := f.find(name, t)
	return found.Data
}

// under is a name below the zone's.
func (f *Facts) under(labels string) dnsname.Name {
	n, err := dnsname.Parse(labels, f.Zone)
	if err != nil {
		return f.Zone
	}
	return n
}

// addrs are the addresses of a host.
func (f *Facts) addrs(host dnsname.Name) (out []netip.Addr, aliases int, err error) {
	for _, t := range []rr.Type{rr.TypeA, rr.TypeAAAA} {
		found, ferr := f.find(host, t)
		if ferr != nil {
			err = ferr
		}
		aliases = max(aliases, found.Aliases)
		for _, d := range found.Data {
			if a, ok := netip.AddrFromSlice(d); ok {
				out = append(out, a)
			}
		}
	}
	if len(out) > 0 {
		err = nil
	}
	return out, aliases, err
}
