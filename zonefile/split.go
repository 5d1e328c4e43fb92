package zonefile

import (
	"bytes"
	"errors"

	"fencepost/diag"
	"fencepost/source"
)

// Large files are read from two places at once. The second half is read on the
// guess that origin and TTL there are what they are at the head; when the first
// half has been read one knows, and if the guess was wrong the second half is
// read again behind the first.

// splitFrom is from how many octets on that is worth it, and splitHead how many
// are read before the guess is made. Variables for the tests.
var (
	splitFrom = 4 << 20
	splitHead = 64 << 10
)

// errNotHere is what an include in the second half meets; it is never shown.
var errNotHere = errors.New("read again")

// saidOnce are the rules that are reported once for each file.
var saidOnce = map[*diag.Rule]bool{RuleTTLUnits: true, RuleCarriageReturn: true, RuleNoTTL: true, RuleByteOrderMark: true, RuleLastLine: true, RuleNotText: true}

// readSplit reads the whole file from two places if it can, and reports whether it
// did. Where it cannot, p stands somewhere in the file and the rest is still to be
// read.
func (l *loader) readSplit(p *parser) bool {
	l.read(p, splitHead)
	cut := cutPoint(p.scan.src, (p.scan.pos+len(p.scan.src))/2)
	if l.builder.b == nil || l.soa.IsZero() || l.twice.owner != nil || len(p.outer) > 0 || cut <= p.scan.pos {
		return false
	}
	guess := p.frame
	second := &loader{diags: &diag.List{}, soa: l.soa, soaData: l.soaData}
	second.start(l.builder.b.Apex())
	included := false
	q := newParser(p.file, Options{Origin: p.opts.Origin, Open: func(string, *source.File) (*source.File, error) {
		included = true // the set of files belongs to one goroutine
		return nil, errNotHere
	}}, second.diags)
	q.frame = guess
	q.origin = bytes.Clone(guess.origin)
	q.scan = scanner{src: p.scan.src, pos: cut}
	done := make(chan struct{})
	go func() {
		second.read(q, len(q.scan.src)+1)
		second.builder.drain()
		close(done)
	}()
	l.read(p, cut)
	<-done
	if included || q.noOwner || len(p.outer) > 0 || p.scan.pos != cut || !sameState(&guess, &p.frame) {
		return false
	}
	l.absorb(second)
	p.scan.pos = len(p.scan.src)
	return true
}

// cutPoint finds a line at or after at that begins at the left margin with a word:
// most likely a record that states its owner. 0 if there is none.
func cutPoint(src []byte, at int) int {
	for at < len(src) {
		i := bytes.IndexByte(src[at:], '\n')
		if i < 0 {
			return 0
		}
		at += i + 1
		if at < len(src) && octetClass[src[at]] == octetText && src[at] != '$' {
			return at
		}
	}
	return 0
}

// sameState reports whether records read with either state are the same.
func sameState(a, b *frame) bool {
	if !bytes.Equal(a.origin, b.origin) || a.hasDefault != b.hasDefault {
		return false
	}
	if a.hasDefault {
		return a.defaultTTL == b.defaultTTL
	}
	return a.hasLast == b.hasLast && a.lastTTL == b.lastTTL
}

// absorb takes what a second loader read from the same file.
func (l *loader) absorb(second *loader) {
	said := map[*diag.Rule]bool{}
	for _, d := range l.diags.All {
		said[d.Rule] = true
	}
	for _, d := range second.diags.All {
		if !saidOnce[d.Rule] || !said[d.Rule] {
			l.diags.Add(d)
		}
	}
	l.builder.drain()
	l.builder.b.Absorb(second.builder.b)
	l.outside += second.outside
	l.badSOA = l.badSOA || second.badSOA
	l.extra = append(l.extra, second.extra...)
	l.asides = append(l.asides, second.asides...)
	for name := range second.unread {
		remember(&l.unread, []byte(name))
	}
	for name := range second.cut {
		remember(&l.cut, []byte(name))
	}
}
