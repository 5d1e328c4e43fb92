package resolve

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/netio"
	"fencepost/rr"
)

// Addresses are those of a host as resolvers know them.
type Addresses struct {
	Sets map[rr.Type][][]byte // of A and AAAA; data of 4 and 16 octets
	TTL  time.Duration        // for how long, the least of all records on the way
}

// ErrNoAddresses means that a name has none.
var ErrNoAddresses = errors.New("it has no addresses")

// mostAddresses is how many addresses of one kind a host may have: no host has more, and somebody's
// resolver is not to fill a zone.
const mostAddresses = 64

// AddressesOf asks resolvers for the addresses of a host, one after another until one answers. They
// follow aliases for us.
func AddressesOf(ctx context.Context, n netio.Network, resolvers []netip.AddrPort, host dnsname.Name) (Addresses, error) {
	var all error = ErrUnreachable
	for _, at := range resolvers {
		out, err := addressesAt(ctx, n, at, host)
		if err == nil || errors.Is(err, ErrNoAddresses) || ctx.Err() != nil {
			return out, err
		}
		all = fmt.Errorf("%s: %w", at, err)
	}
	return Addresses{}, all
}

func addressesAt(ctx context.Context, n netio.Network, at netip.AddrPort, host dnsname.Name) (Addresses, error) {
	out := Addresses{Sets: map[rr.Type][][]byte{}}
	found := 0
	for _, t := range []rr.Type{rr.TypeA, rr.TypeAAAA} {
		resp, err := Ask(ctx, at, Request{Net: n, Name: host, Type: t, RD: true})
		switch {
		case err != nil:
			return out, err
		case resp.Rcode() == message.NXDomain:
			return out, ErrNoAddresses
		case resp.Rcode() != message.NoError:
			return out, fmt.Errorf("%s: %s", resp.Rcode(), resp.Rcode().Description())
		}
		data, ttl := resp.ofAlias(host, t)
		if len(data) == 0 {
			continue
		}
		if len(data) > mostAddresses {
			return out, fmt.Errorf("%d records of type %s: more than %d are taken for a mistake", len(data), t, mostAddresses)
		}
		found += len(data)
		out.Sets[t] = data
		if out.TTL == 0 || ttl < out.TTL {
			out.TTL = ttl
		}
	}
	if found == 0 {
		return out, ErrNoAddresses
	}
	return out, nil
}

// ofAlias is the set of a type at the end of the aliases that a name begins, with the least TTL on the
// way.
func (r *Response) ofAlias(name dnsname.Name, t rr.Type) (data [][]byte, ttl time.Duration) {
	const most = 16 // aliases; more are a loop
	least := uint32(1<<32 - 1)
	for range most {
		set, seconds := r.Set(name, t)
		if len(set) > 0 {
			return set, time.Duration(min(least, seconds)) * time.Second
		}
		alias, seconds := r.Set(name, rr.TypeCNAME)
		if len(alias) == 0 {
			break
		}
		next, err := dnsname.FromWire(alias[0])
		if err != nil {
			break
		}
		name, least = next, min(least, seconds)
	}
	return nil, 0
}
