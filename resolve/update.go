package resolve

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"fencepost/message"
	"fencepost/rr"
	"fencepost/tsig"
	"fencepost/update"
)

// change is a request to change a zone. Each try sends the same octets, so that a server which did the
// first, and whose answer was lost, knows it again.
type change struct {
	msg    []byte // not signed
	signed time.Time
}

func (c *change) write(key *tsig.Key) ([]byte, *tsig.Stream) {
	if key == nil {
		return c.msg, nil
	}
	s := tsig.NewStream(key)
	return s.Sign(bytes.Clone(c.msg), c.signed), s
}

// TooLargeError says that a request does not fit into a message. Parts of it would be carried out each
// by itself, so whoever asks parts it.
type TooLargeError struct{ Octets, Most int }

func (e *TooLargeError) Error() string {
	return fmt.Sprintf("the request has %d octets, and a message has room for %d; ask for it in parts: each is carried out by itself", e.Octets, e.Most)
}

// Change asks a server to change a zone (RFC 2136), over UDP where the request is small, else over TCP,
// and waits until it says what came of it. Of r it takes TSIG, Timeout, Tries, TCP, Size, Local and Net.
func Change(ctx context.Context, server netip.AddrPort, u *update.Request, r Request) (*Response, error) {
	r.fill()
	var id [2]byte
	_, _ = rand.Read(id[:]) // never fails (crypto/rand)
	const additional = 11   // offset of the low octet of their count
	msg := u.Append(nil, binary.BigEndian.Uint16(id[:]))
	msg[additional]++
	msg = append(msg, 0, 0, byte(rr.TypeOPT), byte(r.Size>>8), byte(r.Size), 0, 0, 0, 0, 0, 0)
	most := message.MaxLen
	if r.TSIG != nil {
		most -= r.TSIG.Size()
	}
	if len(msg) > most {
		return nil, &TooLargeError{len(msg), most}
	}
	r.Name, r.Type, r.change = u.Zone, rr.TypeSOA, &change{msg, r.Net.Clock().Now()}
	if len(msg) <= OurUDPSize && !r.TCP {
		resp, err := askUDP(ctx, server, r)
		if !errors.Is(err, ErrNoAnswer) {
			return resp, err
		}
	}
	return askTCP(ctx, server, r)
}
