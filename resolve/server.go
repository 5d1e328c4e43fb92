package resolve

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/message"
	"fencepost/netio"
	"fencepost/rr"
	"fencepost/tsig"
)

// Port is where servers listen that are known by their address alone (RFC 1035 §4.2).
const Port = 53

// Server is a server that is asked again and again, with the name people know it by.
type Server struct {
	Name    string // empty: it has none
	Address netip.AddrPort
	Key     *tsig.Key // nil: none is shared with it; it is known by its address
	// Also are further keys that it may use, while one is changed for another.
	Also []*tsig.Key
}

func (s Server) String() string {
	if s.Name == "" {
		return s.Address.String()
	}
	return fmt.Sprintf("%s (%s)", s.Name, s.Address)
}

// Asker puts questions to authoritative servers, each on its own merits.
type Asker struct {
	Net     netio.Network // nil is the system's
	Timeout time.Duration // of one try; 0 is DefaultTimeout
	Silent  *Silence      // what servers were silent at before; nil: nothing is remembered
}

// Authoritative asks for a set with its signatures. Anything but an authoritative
// NOERROR is an error, in words that go after "the server".
func (a *Asker) Authoritative(ctx context.Context, at netip.AddrPort, name dnsname.Name, t rr.Type) (*Response, error) {
	resp, err := a.Answered(ctx, at, name, t)
	if err == nil && resp.Flags&message.FlagAA == 0 {
		return nil, errors.New("its answer is not authoritative")
	}
	return resp, err
}

// Answered asks for a set with its signatures, and takes an answer without authority too.
func (a *Asker) Answered(ctx context.Context, at netip.AddrPort, name dnsname.Name, t rr.Type) (*Response, error) {
	resp, err := Ask(ctx, at, Request{Net: a.Net, Name: name, Type: t, DO: true, Timeout: a.Timeout, Silent: a.Silent})
	if err != nil {
		return nil, err
	}
	if code := resp.Rcode(); code != message.NoError {
		return nil, fmt.Errorf("it answers: %s", code.Description())
	}
	return resp, nil
}

// Set is the data of a set in the answer, and its TTL.
func (r *Response) Set(name dnsname.Name, t rr.Type) (data [][]byte, ttl uint32) {
	for _, rec := range r.Answer {
		if rec.Type == t && rec.Name.Equal(name) {
			data, ttl = append(data, rec.Data), rec.TTL
		}
	}
	return data, ttl
}

// Signer says by which key a signature was made.
type Signer struct {
	Algorithm rr.AlgorithmNumber
	Tag       uint16
}

// Signers are the keys whose signatures over a set are in the answer, each once.
func (r *Response) Signers(name dnsname.Name, t rr.Type) (out []Signer) {
	for _, rec := range r.Answer {
		if rec.Type != rr.TypeRRSIG || !rec.Name.Equal(name) {
			continue
		}
		sig, err := dnssec.ParseRRSIG(rec.Data)
		if err != nil || sig.Covered != t {
			continue
		}
		if s := (Signer{sig.Algorithm, sig.KeyTag}); !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}
