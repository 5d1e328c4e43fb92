package ops

import (
	"context"
	"encoding/json"
	"net/netip"

	"fencepost/dnsname"
	"fencepost/internal/control"
	"fencepost/internal/edit"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/server/request"
	"fencepost/workspace"
)

// answerArgs and answerReply are the command "answer" of the control socket: what somebody at an address
// would be answered.
type answerArgs struct {
	Query []byte `json:"query"` // a message
	From  string `json:"from"`
}

type answerReply struct {
	Message  []byte `json:"message"`
	Audience string `json:"audience,omitempty"` // whose version of the zone it is from
}

// Answer is the command "answer".
func (sv *Service) Answer(args json.RawMessage) (any, error) {
	var in answerArgs
	if err := json.Unmarshal(args, &in); err != nil {
		return nil, err
	}
	from, err := netip.ParseAddr(in.From)
	if err != nil {
		return nil, edit.Usage("%q is not an address", in.From)
	}
	const port = 53 // any but 0
	h := request.New(sv.Server.Requests(), netip.AddrPort{})
	out, job := h.Stream(nil, in.Query, netip.AddrPortFrom(from, port))
	if job != nil {
		return nil, edit.Usage("transfers are shown by: fencepost dump")
	}
	name, err := dnsname.FromWire(h.Query().Name)
	if err != nil {
		return nil, err
	}
	return answerReply{out, sv.Server.AudienceOf(from, name)}, nil
}

// askAs has the running server of the workspace say what somebody at an address would be answered.
func (a *App) askAs(ctx context.Context, q Question, mq message.Question, from netip.Addr) (*Asked, error) {
	c, err := a.Config()
	if err != nil {
		return nil, err
	}
	query := message.AppendQuery(nil, mq.Name, mq.Type, message.QueryOptions{Class: mq.Class, EDNS: !q.NoEDNS, UDPSize: resolve.OurUDPSize, DO: q.DNSSEC})
	var reply answerReply
	if err := Client(c).Call(ctx, control.Request{Command: "answer", Args: control.Args(answerArgs{query, from.String()})}, &reply); err != nil {
		return nil, err
	}
	m, err := message.Decode(reply.Message)
	if err != nil {
		return nil, err
	}
	return &Asked{Question: mq, Message: m, Raw: reply.Message, Server: "the running server", Transport: "control", AskedFrom: from, Audience: reply.Audience}, nil
}

// asFrom reads --as-from; without it ok is false.
func (q *Question) asFrom() (from netip.Addr, ok bool, err error) {
	if q.AsFrom == "" {
		return from, false, nil
	}
	if from, err = netip.ParseAddr(q.AsFrom); err != nil {
		return from, false, edit.Usage("--as-from %q is not an address", q.AsFrom)
	}
	return from.Unmap(), true, nil
}

// versionFor is the zone of the workspace, or its version for an audience, that somebody at an address
// sees.
func (a *App) versionFor(zone string, from netip.Addr) (operand, audience string, err error) {
	c, name, err := a.servedHere(zone)
	if err != nil {
		return zone, "", err
	}
	longest := -1
	for _, au := range c.Find(name).Audiences {
		for _, n := range au.Networks {
			if n.Contains(from) && n.Bits() > longest {
				longest, audience = n.Bits(), au.Name
			}
		}
	}
	// An audience with a longer network, for which the zone has no version, sees what everyone does.
	for _, au := range c.Audiences {
		for _, n := range au.Networks {
			if n.Contains(from) && n.Bits() > longest {
				longest, audience = n.Bits(), ""
			}
		}
	}
	if audience == "" {
		return zone, "", nil
	}
	return zone + workspace.AudienceMark + audience, audience, nil
}
