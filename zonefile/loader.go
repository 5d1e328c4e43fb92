package zonefile

import (
	"bytes"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
)

// Load reads a zone from a file as fast as it can. The apex is the owner of the
// SOA record; without one it is opts.Origin. Findings about the language go to
// diags; the result has what could be read, with positions. It is nil only when
// neither SOA nor origin tells the name of the zone.
func Load(file *source.File, opts Options, diags *diag.List) *Loaded {
	l := &loader{diags: diags, origin: opts.Origin}
	p := newParser(file, opts, diags)
	if len(file.Content) >= splitFrom {
		l.readSplit(p)
	}
	l.read(p, len(file.Content)+1)
	l.notText = p.notText
	return l.finish(file)
}

// read takes entries until the parser stands at limit of its file, or at the end.
func (l *loader) read(p *parser, limit int) {
	for len(p.outer) > 0 || p.scan.pos < limit {
		e := p.next()
		if e == nil {
			return
		}
		switch {
		case e.Kind == Record:
			l.twice.mend(e, e.Type == rr.TypeSOA && l.soa.IsZero() && !bytes.EqualFold(e.Owner, []byte(l.origin.Wire())))
			l.take(e)
			if e.Cut {
				remember(&l.cut, e.Owner)
			}
		case e.Kind == Blank && e.Comment >= 0:
			l.aside(e)
		case e.Kind == Bad && e.Type == rr.TypeSOA:
			l.badSOA = true
			if l.builder.b == nil && e.Owner != nil {
				apex, _ := dnsname.FromWire(e.Owner)
				l.start(apex)
			}
		case e.Kind == Bad && e.Owner != nil:
			remember(&l.unread, e.Owner)
		}
	}
}

// remember notes an owner; of very many only the first.
func remember(names *map[string]bool, owner []byte) {
	const most = 10000
	if *names == nil {
		*names = map[string]bool{}
	}
	if len(*names) < most {
		(*names)[strings.ToLower(string(owner))] = true
	}
}

// pending is how many records in front of the SOA are kept waiting for it before
// the origin is taken for the zone's name.
const pending = 1000

type loader struct {
	diags   *diag.List
	origin  dnsname.Name
	builder loadBuilder
	early   []earlyRecord // before the SOA: the apex is not known yet
	outside int
	soa     source.Span
	extra   []SOAPlace
	soaData []byte          // owner and data of the SOA
	unread  map[string]bool // owners of records that could not be read
	cut     map[string]bool // owners of texts that a semicolon ends
	asides  []AsidePlace
	badSOA  bool
	notText bool
	twice   twice
}

type earlyRecord struct {
	owner, data []byte
	t           rr.Type
	ttl         uint32
	pos         source.Pos
	span        source.Span
}

// SOAPlace is where a SOA record stands.
type SOAPlace struct {
	Owner dnsname.Name
	Span  source.Span
}

func (l *loader) take(e *Entry) {
	if l.builder.b == nil {
		if e.Type != rr.TypeSOA && (len(l.early) < pending || l.origin.IsZero()) {
			l.early = append(l.early, earlyRecord{bytes.Clone(e.Owner), bytes.Clone(e.Data), e.Type, e.TTL, e.Span.Start, ownerSpan(e)})
			return
		}
		apex := l.origin
		if e.Type == rr.TypeSOA {
			apex, _ = dnsname.FromWire(e.Owner)
		}
		l.start(apex)
	}
	if e.Type == rr.TypeSOA {
		owner, _ := dnsname.FromWire(e.Owner)
		place := SOAPlace{owner, source.Span{Start: e.TokenSpan(0).Start, End: e.TokenSpan(e.TypeTok).End}}
		whole := append([]byte(strings.ToLower(string(e.Owner))), e.Data...)
		switch {
		case l.soa.IsZero():
			l.soa, l.soaData = place.Span, whole
		case bytes.Equal(whole, l.soaData):
			return // as at the end of what a transfer brought (RFC 5936 §2.2)
		default:
			// One is enough to serve; the check reports the others.
			l.extra = append(l.extra, place)
			return
		}
	}
	l.add(e.Owner, e.Type, e.TTL, e.Data, e.Span.Start, e)
}

func ownerSpan(e *Entry) source.Span {
	if e.OwnerTok >= 0 {
		return e.TokenSpan(e.OwnerTok)
	}
	return e.TokenSpan(e.TypeTok)
}

func (l *loader) add(owner []byte, t rr.Type, ttl uint32, data []byte, pos source.Pos, e *Entry) {
	if l.builder.add(owner, t, ttl, data, pos) != nil {
		l.notInZone(owner, ownerSpan(e))
	}
}

func (l *loader) notInZone(owner []byte, span source.Span) {
	l.outside++
	name, _ := dnsname.FromWire(owner)
	d := RuleOutsideZone.At(span, "%s is not in the zone %s", name, l.builder.b.Apex())
	if !l.soa.IsZero() {
		d = d.See(l.soa, "the zone's SOA")
	}
	if n := name.Labels(); n > 0 && n <= 2 && !name.AtOrBelow(dnsname.MustParse("arpa.")) {
		plain := name.String()
		d = d.Suggest("if it belongs to the zone, write %s without a final dot", plain[:max(len(plain)-1, 0)])
	}
	l.diags.Add(d)
}
