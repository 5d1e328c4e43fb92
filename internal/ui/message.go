package ui

import (
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"fencepost/message"
	"fencepost/rr"
)

// Flags says in words what the flags of a response tell.
func Flags(m *message.Message) []string {
	words := []string{m.ExtendedRcode.Description()}
	if name := m.ExtendedRcode.String(); name != words[0] {
		words[0] += " (" + name + ")"
	}
	for _, f := range []struct {
		bit  uint16
		word string
	}{{message.FlagAA, "authoritative"}, {message.FlagTC, "cut off"}, {message.FlagAD, "checked by the resolver"}, {message.FlagRA, "recursion offered"}} {
		if m.Flags&f.bit != 0 {
			words = append(words, f.word)
		}
	}
	for _, said := range m.EDNS.Errors() {
		text := said.Code.String()
		for _, more := range []string{said.Code.Description(), said.Text} {
			if more != "" {
				text += ": " + more
			}
		}
		words = append(words, text)
	}
	return words
}

// Sections shows the records of a message.
func (u *UI) Sections(m *message.Message) {
	width := 0
	for _, s := range [][]rr.Record{m.Answer, m.Authority, m.Additional} {
		for _, r := range s {
			width = max(width, min(len(r.Name.String()), 40))
		}
	}
	for _, s := range []struct {
		title   string
		records []rr.Record
	}{{"Answer", m.Answer}, {"Authority", m.Authority}, {"Additional", m.Additional}} {
		if len(s.records) == 0 {
			continue
		}
		u.Printf("\n%s\n", u.Paint(Bold, "%s", s.title))
		for _, r := range s.records {
			data := rr.DataText(r.Type, r.Data)
			if r.Type == rr.TypeTSIG || r.Type == rr.TypeOPT {
				data = fmt.Sprintf("(%d octets)", len(r.Data))
			}
			u.Printf("  %-*s  %6d  %-6s  %s\n", width, r.Name, r.TTL, r.Type, data)
		}
	}
}

// The JSON form of a message follows RFC 8427 §2.
type jsonMessage struct {
	ID         uint16       `json:"ID"`
	QR         int          `json:"QR"`
	Opcode     int          `json:"Opcode"`
	AA         int          `json:"AA"`
	TC         int          `json:"TC"`
	RD         int          `json:"RD"`
	RA         int          `json:"RA"`
	AD         int          `json:"AD"`
	CD         int          `json:"CD"`
	RCODE      int          `json:"RCODE"`
	QDCOUNT    int          `json:"QDCOUNT"`
	ANCOUNT    int          `json:"ANCOUNT"`
	NSCOUNT    int          `json:"NSCOUNT"`
	ARCOUNT    int          `json:"ARCOUNT"`
	QNAME      string       `json:"QNAME,omitempty"`
	QTYPE      int          `json:"QTYPE,omitempty"`
	QTYPEname  string       `json:"QTYPEname,omitempty"`
	QCLASS     int          `json:"QCLASS,omitempty"`
	Answer     []jsonRecord `json:"answerRRs,omitempty"`
	Authority  []jsonRecord `json:"authorityRRs,omitempty"`
	Additional []jsonRecord `json:"additionalRRs,omitempty"`
	Octets     string       `json:"messageOctetsHEX"`
}

type jsonRecord struct {
	Name     string `json:"NAME"`
	Type     int    `json:"TYPE"`
	TypeName string `json:"TYPEname"`
	Class    int    `json:"CLASS"`
	TTL      uint32 `json:"TTL"`
	RDATAHEX string `json:"RDATAHEX"`
	RDATA    string `json:"rdata"` // presentation form, as in RFC 8427 §2.2 by type
}

// MessageJSON is a message in the form of RFC 8427.
func MessageJSON(m *message.Message, raw []byte) any {
	bit := func(f uint16) int {
		if m.Flags&f != 0 {
			return 1
		}
		return 0
	}
	j := jsonMessage{ID: m.ID, QR: bit(message.FlagQR), Opcode: int(m.Opcode()), AA: bit(message.FlagAA), TC: bit(message.FlagTC),
		RD: bit(message.FlagRD), RA: bit(message.FlagRA), AD: bit(message.FlagAD), CD: bit(message.FlagCD), RCODE: int(m.ExtendedRcode),
		QDCOUNT: int(m.Counts[0]), ANCOUNT: int(m.Counts[1]), NSCOUNT: int(m.Counts[2]), ARCOUNT: int(m.Counts[3]),
		Octets: strings.ToUpper(hex.EncodeToString(raw))}
	if len(m.Question) > 0 {
		q := m.Question[0]
		j.QNAME, j.QTYPE, j.QTYPEname, j.QCLASS = q.Name.String(), int(q.Type), q.Type.String(), int(q.Class)
	}
	records := func(in []rr.Record) (out []jsonRecord) {
		for _, r := range in {
			out = append(out, jsonRecord{r.Name.String(), int(r.Type), r.Type.String(), int(r.Class), r.TTL,
				strings.ToUpper(hex.EncodeToString(r.Data)), rr.DataText(r.Type, r.Data)})
		}
		return out
	}
	j.Answer, j.Authority, j.Additional = records(m.Answer), records(m.Authority), records(m.Additional)
	return j
}

// Duration is a time span as people say it, roughly.
func Duration(d time.Duration) string {
	switch {
	case d < 0:
		return "-" + Duration(-d)
	case d < time.Millisecond:
		return fmt.Sprintf("%.2f ms", float64(d)/1e6)
	case d < time.Second:
		return fmt.Sprintf("%.0f ms", float64(d)/1e6)
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	}
	if d >= 24*time.Hour {
		d = d.Round(time.Hour)
	} else if d >= time.Hour {
		d = d.Round(time.Minute)
	}
	units := []struct {
		size time.Duration
		name string
	}{{24 * time.Hour, "day"}, {time.Hour, "hour"}, {time.Minute, "minute"}}
	for i, u := range units {
		if d < u.size {
			continue
		}
		s := Plural(int(d/u.size), u.name)
		if rest := d % u.size; i+1 < len(units) && rest >= units[i+1].size {
			s += " " + Plural(int(rest/units[i+1].size), units[i+1].name)
		}
		return s
	}
	return d.String()
}

// When is a time with how far away it is.
func When(t, now time.Time) string {
	d := t.Sub(now)
	stamp := t.UTC().Format("2006-01-02 15:04:05 UTC")
	if d.Abs() < time.Second {
		return stamp + " (now)"
	}
	if d < 0 {
		return stamp + " (" + Duration(-d) + " ago)"
	}
	return stamp + " (in " + Duration(d) + ")"
}

// Octets shows octets in rows, with what can be read of them.
func Octets(raw []byte) string {
	const row = 16
	var b strings.Builder
	for at := 0; at < len(raw); at += row {
		part := raw[at:min(at+row, len(raw))]
		text := []byte{}
		for _, c := range part {
			if c < ' ' || c > '~' {
				c = '.'
			}
			text = append(text, c)
		}
		fmt.Fprintf(&b, "  %4d  % -47x  %s\n", at, part, text)
	}
	return b.String()
}
