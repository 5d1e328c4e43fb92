package request

import (
	"encoding/binary"
	"time"

	"fencepost/cookie"
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
)

// Identity is what a server says of itself to whoever asks: by an EDNS option, or by a question
// of class CH.
type Identity struct {
	NSID    []byte         // RFC 5001; nil: nothing. At most MaxNSID octets
	Cookies cookie.Secrets // none: cookies are passed over
	// Idle is how long a connection without requests is kept (RFC 7828); 0: that is not told.
	Idle time.Duration
	// Chaos are the texts that names of class CH have, by the name in wire form and small
	// letters (RFC 4892 §3); questions for others are refused. At most 255 octets each.
	Chaos map[string]string
}

// MaxNSID is how many octets the name of a server may have.
const MaxNSID = 64

// maxOptions is enough for all options together.
const maxOptions = 4 + MaxNSID + 4 + cookie.ClientSize + cookie.ServerSize + 4 + 2 + 4 + 16

// optionsDue are the options that the response is to have, in wire form.
func (h *Handler) optionsDue() []byte {
	r := &h.r
	if !r.HasEDNS || r.Cookie == nil && !r.WantsNSID && !r.Keepalive && !r.WantsAddress {
		return nil
	}
	out := h.options[:0]
	if r.WantsAddress {
		from := r.From.Addr().Unmap()
		out = binary.BigEndian.AppendUint16(out, message.OptionAddress)
		out = append(out, 0, byte(from.BitLen()/8))
		if four := from.As16(); from.Is4() {
			out = append(out, four[12:]...)
		} else {
			out = append(out, four[:]...)
		}
	}
	id := h.Zones.Identity()
	if id == nil {
		return out
	}
	if r.Cookie != nil && len(id.Cookies) > 0 && validLength(r.Cookie) {
		out = append(out, 0, message.OptionCookie, 0, cookie.ClientSize+cookie.ServerSize)
		out = id.Cookies.Append(out, r.Cookie, r.From.Addr(), h.Clock())
	}
	if r.WantsNSID && len(id.NSID) > 0 {
		out = append(out, 0, message.OptionNSID, 0, byte(len(id.NSID)))
		out = append(out, id.NSID...)
	}
	if r.Keepalive && r.Transport != UDP && id.Idle > 0 { // in tenths of a second (RFC 7828 §3.1)
		out = append(out, 0, message.OptionKeepalive, 0, 2)
		out = binary.BigEndian.AppendUint16(out, uint16(min(id.Idle/(100*time.Millisecond), 1<<16-1)))
	}
	return out
}

// validLength is false for what was malformed: then it is told, and no cookie given.
func validLength(came []byte) bool {
	return len(came) == cookie.ClientSize || len(came) >= 16 && len(came) <= 40
}

// chaos answers for the server itself in class CH; false where there is nothing to be said.
func (h *Handler) chaos(dst []byte) ([]byte, bool) {
	r, id := &h.r, h.Zones.Identity()
	if r.Class != rr.ClassCH || r.Type != rr.TypeTXT || id == nil {
		return dst, false
	}
	text, ok := id.Chaos[string(dnsname.AppendLower(nil, r.Name))]
	if !ok {
		return dst, false
	}
	const noCaching = 0 // RFC 4892 §3
	h.b.Begin(dst, &r.Query, r.Limit, udpLimit)
	h.b.AddOptions(h.optionsDue())
	h.b.SetFlag(message.FlagAA)
	h.b.OfClass(message.AnswerSection, rr.ClassCH, rr.TypeTXT, noCaching, append([]byte{byte(len(text))}, text...))
	return h.b.Finish(), true
}
