package workspace

import (
	"net/netip"

	"fencepost/resolve"
	"fencepost/tsig"
)

// Peer is another server that zones are exchanged with.
type Peer struct {
	Name    string
	Address netip.AddrPort
	TSIG    *tsig.Key // nil: transfers are told apart by address only
	Also    *tsig.Key // another key that it may use; nil: none
}

// Server is the peer as one that is asked.
func (p *Peer) Server() resolve.Server {
	s := resolve.Server{Name: p.Name, Address: p.Address, Key: p.TSIG}
	if p.Also != nil {
		s.Also = []*tsig.Key{p.Also}
	}
	return s
}
