package ops

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/server/zonestate"
	"fencepost/source"
	"fencepost/update"
	"fencepost/workspace"
	"fencepost/zonefile"
)

// updatesOf says who may change a zone by requests; nil: nobody.
func updatesOf(c *workspace.Config, zone dnsname.Name, audience string) *zonestate.Updates {
	grants, keys := c.Updates.For(zone, audience)
	if len(grants) == 0 {
		return nil
	}
	return &zonestate.Updates{Grants: grants, Keys: keys, Gather: c.Updates.Gather, Limits: c.Updates.Limits}
}

// whereIn finds where the file of a zone has a set.
func (a *App) whereIn(path string, zone dnsname.Name) func(owner dnsname.Name, t rr.Type) string {
	return func(owner dnsname.Name, t rr.Type) string {
		src := &source.Set{}
		r := a.Reader()
		text, err := r.Open(src, path, zone)
		if err != nil {
			return ""
		}
		for _, e := range zonefile.Parse(text.Main, text.Options, &diag.List{}).Records(owner, t) {
			return src.Position(e.Span.Start).String()
		}
		return ""
	}
}

// followsOf are the names of a zone whose addresses follow those of others.
func (a *App) followsOf(z *workspace.Zone) (out []zonestate.Follow) {
	for i := range z.Follows {
		f := &z.Follows[i]
		out = append(out, zonestate.Follow{Owner: f.Owner, Source: f.Source, TTL: f.TTL, AtLeast: f.AtLeast, AtMost: f.AtMost, Look: func(ctx context.Context) (resolve.Addresses, error) {
			found, err := resolve.AddressesOf(ctx, a.Net, f.Resolvers, f.Source)
			if err != nil {
				return found, err
			}
			for _, set := range found.Sets {
				for _, data := range set {
					if at, ok := netip.AddrFromSlice(data); !ok || !f.May(at) {
						return found, fmt.Errorf("it has the address %s, which is in none of the networks that are allowed", at)
					}
				}
			}
			return found, nil
		}})
	}
	return out
}

// updateArgs and updateReply are the command "update" of the control socket.
type updateArgs struct {
	Message []byte `json:"message"` // as in RFC 2136, not signed
}

type updateReply struct {
	Done bool   `json:"done"`
	Code uint16 `json:"code,omitempty"` // why it was not
	Why  string `json:"why,omitempty"`
}

// Update is the command "update": a change by somebody who is known to the system.
func (sv *Service) Update(ctx context.Context, name dnsname.Name, args json.RawMessage, by string) (any, error) {
	var in updateArgs
	if err := json.Unmarshal(args, &in); err != nil {
		return nil, err
	}
	if audience := AudienceOf(ctx); audience != "" {
		return nil, fmt.Errorf("this changes the version of %s that everyone sees, not that of %q: edit the file of the audience", name.Plain(), audience)
	}
	m, err := message.Decode(in.Message)
	if err != nil {
		return nil, err
	}
	r, no := update.Read(m)
	if no == nil && !r.Zone.Equal(name) {
		return nil, errors.New("the message is about another zone than the command")
	}
	if no == nil {
		err = sv.Server.UpdateBy(name, r, cmp.Or(by, "the owner of the server"))
	}
	if errors.As(err, &no) || no != nil {
		return updateReply{Code: uint16(no.Code), Why: no.Why}, nil
	}
	return updateReply{Done: true}, err
}
