package message

import "fencepost/rr"

// EDNS options that are known here (RFC 6891 §6.1.2).
const (
	OptionExpire = 9  // how long a zone may still be served (RFC 7314)
	OptionEDE    = 15 // an extended DNS error (RFC 8914 §2)
	// OptionAddress asks from which address a request came, and has it in the response, 4 or 16
	// octets: one of the codes for local use (RFC 6891 §9), so that others pass over it.
	OptionAddress = 65107
)

// knownOptions bounds the codes of options that requests may bring and we heed.
const knownOptions = 20

// readOption says what an option of a request means, in a field of Query; false where its
// form is wrong. Options without an entry are passed over (RFC 6891 §6.1.2).
var readOption = [knownOptions]func(q *Query, data []byte) bool{
	// In a request it is empty; whatever stands in it is ignored (RFC 7314 §2).
	OptionExpire: func(q *Query, _ []byte) bool { q.WantsExpire = true; return true },
	// Whatever stands in it is ignored (RFC 5001 §2.1).
	OptionNSID: func(q *Query, _ []byte) bool { q.WantsNSID = true; return true },
	// The first one counts, and has a cookie of the client and perhaps one of a server
	// (RFC 7873 §5.2).
	OptionCookie: func(q *Query, data []byte) bool {
		if q.Cookie != nil {
			return true // whatever stands in it
		}
		q.Cookie = data
		return len(data) == 8 || len(data) >= 16 && len(data) <= 40
	},
	OptionKeepalive: func(q *Query, _ []byte) bool { q.Keepalive = true; return true },
	OptionPadding:   func(q *Query, _ []byte) bool { q.WantsPadding = true; return true },
	// In a request it is empty (RFC 9660 §2).
	OptionVersion: func(q *Query, data []byte) bool { q.WantsVersion = len(data) == 0; return true },
}

// options reads the options of a request's OPT record.
func (q *Query) options(b []byte) bool {
	for len(b) > 0 {
		if len(b) < 4 || len(b) < 4+int(be16(b[2:])) {
			return false
		}
		code, n := be16(b), int(be16(b[2:]))
		q.WantsAddress = q.WantsAddress || code == OptionAddress
		if code < knownOptions && readOption[code] != nil && !readOption[code](q, b[4:4+n]) {
			return false
		}
		b = b[4+n:]
	}
	return true
}

// optionRoom is how many octets of options a response may have, extended errors apart.
const optionRoom = 128

// AddOption adds an EDNS option to the response, if the request had EDNS. It comes before
// records, whose room it takes; false where there is none, and then it is left out.
func (b *Builder) AddOption(code uint16, data []byte) bool {
	n := 4 + len(data)
	if !b.edns || b.nOptions+n > len(b.options) || b.Len()+n > b.limit {
		return false
	}
	at := b.options[b.nOptions:]
	at[0], at[1], at[2], at[3] = byte(code>>8), byte(code), byte(len(data)>>8), byte(len(data))
	copy(at[4:], data)
	b.nOptions += n
	b.limit -= n
	b.largest -= n
	return true
}

// AddOptions adds options in wire form, one after another, as AddOption does; all or none.
func (b *Builder) AddOptions(options []byte) bool {
	n := len(options)
	if n == 0 || !b.edns || b.nOptions+n > len(b.options) || b.Len()+n > b.limit {
		return false
	}
	b.nOptions += copy(b.options[b.nOptions:], options)
	b.limit -= n
	b.largest -= n
	return true
}

// AddExpire adds for how many seconds a zone may still be served (RFC 7314 §3).
func (b *Builder) AddExpire(seconds uint32) bool {
	return b.AddOption(OptionExpire, []byte{byte(seconds >> 24), byte(seconds >> 16), byte(seconds >> 8), byte(seconds)})
}

// finishOptions writes the options behind an OPT record that was written just now.
func (b *Builder) finishOptions() {
	if b.nOptions == 0 && b.ede < 0 && b.padTo == 0 {
		return
	}
	end := len(b.buf)
	b.buf = append(b.buf, b.options[:b.nOptions]...)
	if b.ede >= 0 && b.Len()+edeLen <= b.limit+b.nOptions+optLen {
		b.buf = append(b.buf, 0, OptionEDE, 0, 2, byte(b.ede>>8), byte(b.ede))
	}
	b.pad()
	n := len(b.buf) - end
	b.buf[end-2], b.buf[end-1] = byte(n>>8), byte(n)
}

// pad adds the PADDING option, the last of all, with as many octets as are wanted or fit
// (RFC 7830 §3).
func (b *Builder) pad() {
	const head = 4
	room := b.limit + b.nOptions + optLen - b.Len() - head
	if b.padTo == 0 || room < 0 {
		return
	}
	n := min(room, (b.padTo-(b.Len()+head)%b.padTo)%b.padTo)
	b.buf = append(b.buf, 0, OptionPadding, byte(n>>8), byte(n))
	b.buf = append(b.buf, make([]byte, n)...)
}

// Said is an extended error of a response, with the text that may go with it.
type Said struct {
	Code ExtendedError
	Text string
}

// Errors are the extended errors that a response has (RFC 8914 §2).
func (e *EDNS) Errors() (out []Said) {
	if e == nil {
		return nil
	}
	for _, o := range e.Options {
		if o.Code == OptionEDE && len(o.Data) >= 2 {
			out = append(out, Said{ExtendedError(be16(o.Data)), string(o.Data[2:])})
		}
	}
	return out
}

// Expire is what an EXPIRE option of a response says, in seconds (RFC 7314 §3).
func (e *EDNS) Expire() (seconds uint32, ok bool) {
	if e == nil {
		return 0, false
	}
	for _, o := range e.Options {
		if o.Code == OptionExpire && len(o.Data) == 4 {
			return be32(o.Data), true
		}
	}
	return 0, false
}

// ExpireIn is what the EXPIRE option of a response says that is not taken apart otherwise.
func ExpireIn(msg []byte) (seconds uint32, ok bool) {
	off, err := AfterQuestions(msg)
	if err != nil {
		return 0, false
	}
	h := ParseHeader(msg)
	for range int(h.Counts[1]) + int(h.Counts[2]) + int(h.Counts[3]) {
		next, ok := skipName(msg, off)
		if !ok || next+10 > len(msg) {
			return 0, false
		}
		end := next + 10 + int(be16(msg[next+8:]))
		if end > len(msg) {
			return 0, false
		}
		if rr.Type(be16(msg[next:])) == rr.TypeOPT {
			return expireOf(msg[next+10 : end])
		}
		off = end
	}
	return 0, false
}

func expireOf(options []byte) (seconds uint32, ok bool) {
	for len(options) >= 4 {
		n := int(be16(options[2:]))
		if len(options) < 4+n {
			return 0, false
		}
		if be16(options) == OptionExpire && n == 4 {
			return be32(options[4:]), true
		}
		options = options[4+n:]
	}
	return 0, false
}
