package ops

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"fencepost/dnsname"
	"fencepost/internal/edit"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/validate"
	"fencepost/wholefile"
)

// ChainQuestion is what `chain` checks.
type ChainQuestion struct {
	Question
	// AnchorFile has DS or DNSKEY records, or trust anchors in XML (RFC 7958 §2); empty: those
	// of the workspace, or the world's root.
	AnchorFile string
	// Negative are names below which nothing is asked to be proved (RFC 7646).
	Negative []string
}

// TrustChain is a chain of trust that was checked.
type TrustChain struct {
	*validate.Chain
	Name    dnsname.Name
	Type    rr.Type
	Now     time.Time
	Anchors string // where they are from
	// States are where the anchors are in their lives (RFC 5011).
	States []validate.AnchorView
	// Unreached says why not all that belongs to the chain could be asked for.
	Unreached error
	// Negative is the name below which nothing is proved on purpose; the zero name: none.
	Negative dnsname.Name
}

// Chain checks the chain of trust from an anchor to the answer to a question.
func (a *App) Chain(ctx context.Context, q ChainQuestion) (*TrustChain, error) {
	mq, err := q.parse()
	if err != nil {
		return nil, err
	}
	out := &TrustChain{Name: mq.Name, Type: mq.Type, Now: a.Now()}
	for _, n := range q.Negative {
		name, err := edit.WholeName(n)
		if err != nil {
			return nil, edit.Usage("--negative-anchor %q: %v", n, err)
		}
		if mq.Name.AtOrBelow(name) {
			out.Negative = name
			out.Chain = &validate.Chain{Verdict: validate.Verdict{Status: validate.Insecure, Reason: fmt.Sprintf("nothing below %s is asked to be proved (negative anchor)", name.Plain())}}
			return out, nil
		}
	}
	anchors, err := a.chainAnchors(q.AnchorFile, out)
	if err != nil {
		return nil, err
	}
	w := walkerOf(a.tracer(q.Timeout))
	records, err := w.CollectAll(ctx, mq.Name, mq.Type)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	out.Unreached = err
	sets := validate.NewRRsets(records)
	out.Chain = sets.Explain(anchors, mq.Name, mq.Type, out.Now)
	if first := out.Links[0]; first.Anchor && len(first.Keys) > 0 { // else they did not come, which says nothing of the anchors
		out.States = sets.Anchors(first.Zone, anchors)
	}
	if err != nil && out.Status == validate.Bogus && !soundlyBogus(out.Chain) {
		// What is missing may only not have come.
		out.notReached(err)
	}
	return out, nil
}

// notReached ends the chain at the zone whose servers did not answer: what did not come breaks no link
// above it.
func (c *TrustChain) notReached(err error) {
	c.Status, c.Outcome, c.Reason = validate.Indeterminate, 0, err.Error()
	end := &validate.Link{Kind: validate.Nowhere, Name: c.Name, Type: c.Type, Verdict: c.Verdict}
	var unreached *resolve.UnreachedError
	if errors.As(err, &unreached) {
		end.Zone, end.Name, end.Type = unreached.Zone, unreached.Name, unreached.Type
		end.Reason = "none of its servers answers"
	}
	links := slices.DeleteFunc(c.Links, func(l *validate.Link) bool { return l.Status == validate.Bogus || l.Status == validate.Indeterminate })
	c.Links = append(links, end)
}

// soundlyBogus reports whether a chain is broken by what came, not by what did not.
func soundlyBogus(c *validate.Chain) bool {
	last := c.Links[len(c.Links)-1]
	for _, s := range last.Sigs {
		if s.Err != nil {
			return true
		}
	}
	return false
}

// walkerOf goes from the root as the tracer does, and knows which servers were silent to that.
func walkerOf(t *resolve.Tracer) *resolve.Walker {
	w := &resolve.Walker{Asker: t.Asker, Start: dnsname.Root}
	for _, h := range t.Roots {
		w.Roots = append(w.Roots, h.Addrs...)
	}
	w.Reach = t.Reach
	return w
}

// chainAnchors are what trust begins with.
func (a *App) chainAnchors(file string, out *TrustChain) ([]rr.Record, error) {
	c, _ := a.Config()
	if file == "" && c != nil {
		file = c.AnchorFile
	}
	if file == "" {
		out.Anchors = "the root's, built in"
		return rootAnchors(out.Now), nil
	}
	out.Anchors = edit.Shown(file)
	text, err := wholefile.Read(file, 1<<20)
	if err != nil {
		return nil, err
	}
	if bytes.HasPrefix(bytes.TrimSpace(text), []byte("<")) {
		return anchorsFromXML(text, out.Now)
	}
	return a.anchors(file, &Verified{Source: &source.Set{}})
}

// rootKeys are the anchors of the world's root zone as its operator publishes them: key tag,
// SHA-256 digest, and when they are valid.
var rootKeys = []xmlDigest{
	{Tag: 19036, Algorithm: 8, Type: 2, Digest: "49AAC11D7B6F6446702E54A1607371607A1A41855200FD2CE1CDDE32F24E8FB5", From: "2010-07-15T00:00:00+00:00", Until: "2019-01-11T00:00:00+00:00"},
	{Tag: 20326, Algorithm: 8, Type: 2, Digest: "E06D44B80B8F1D39A95C0B0D7C65D08458E880409BBC683457104237C7F8EC8D", From: "2017-02-02T00:00:00+00:00"},
	{Tag: 38696, Algorithm: 8, Type: 2, Digest: "683D2D0ACB8C9B712A1948B27F741219298D0A450D612C483AF444A4C0FB2B16", From: "2024-07-18T00:00:00+00:00"},
}

func rootAnchors(now time.Time) []rr.Record {
	out, _ := digests(dnsname.Root, rootKeys, now) // they are well-formed
	return out
}

// xmlAnchors is a file of trust anchors (RFC 7958 §2.1.1).
type xmlAnchors struct {
	XMLName xml.Name    `xml:"TrustAnchor"`
	Zone    string      `xml:"Zone"`
	Digests []xmlDigest `xml:"KeyDigest"`
}

type xmlDigest struct {
	From      string `xml:"validFrom,attr"`
	Until     string `xml:"validUntil,attr"`
	Tag       uint16 `xml:"KeyTag"`
	Algorithm uint8  `xml:"Algorithm"`
	Type      uint8  `xml:"DigestType"`
	Digest    string `xml:"Digest"`
}

func anchorsFromXML(text []byte, now time.Time) ([]rr.Record, error) {
	var in xmlAnchors
	if err := xml.Unmarshal(text, &in); err != nil {
		return nil, fmt.Errorf("the trust anchors cannot be read: %w", err)
	}
	name, err := edit.WholeName(strings.TrimSpace(in.Zone))
	if err != nil {
		return nil, fmt.Errorf("the trust anchors are of the zone %q: %w", in.Zone, err)
	}
	out, err := digests(name, in.Digests, now)
	if err == nil && len(out) == 0 {
		err = errors.New("none of the trust anchors is valid now")
	}
	return out, err
}

// digests are the DS records of anchors that are valid at a time (RFC 7958 §2.1.3).
func digests(name dnsname.Name, list []xmlDigest, now time.Time) (out []rr.Record, err error) {
	for _, d := range list {
		for _, limit := range []struct {
			text  string
			fails func(time.Time) bool
		}{{d.From, now.Before}, {d.Until, func(t time.Time) bool { return !now.Before(t) }}} {
			if limit.text == "" {
				continue
			}
			at, err := time.Parse(time.RFC3339, limit.text)
			if err != nil {
				return nil, fmt.Errorf("the trust anchor %d is valid from or until %q, which is not a time", d.Tag, limit.text)
			}
			if limit.fails(at) {
				d.Digest = ""
			}
		}
		digest, err := hex.DecodeString(strings.TrimSpace(d.Digest))
		if err != nil {
			return nil, fmt.Errorf("the digest of the trust anchor %d is not a hexadecimal number", d.Tag)
		}
		if len(digest) > 0 {
			out = append(out, rr.Record{Name: name, Type: rr.TypeDS, Class: rr.ClassIN, Data: append([]byte{byte(d.Tag >> 8), byte(d.Tag), d.Algorithm, d.Type}, digest...)})
		}
	}
	return out, nil
}

// Advice says what to do about a chain that is broken, by the extended error that fits
// (RFC 8914 §4); zone is where it is broken.
func (c *TrustChain) Advice() string {
	var unreached *resolve.UnreachedError
	if c.Status == validate.Indeterminate && errors.As(c.Unreached, &unreached) {
		return fmt.Sprintf("the operator of the servers of %s has to act; what each of them does: fencepost trace %s", zoneWord(unreached.Zone), c.Name.Plain())
	}
	if c.Status != validate.Bogus || len(c.Links) == 0 {
		return ""
	}
	last := c.Links[len(c.Links)-1]
	zone := last.Zone
	if zone.IsZero() {
		zone = last.Name
	}
	const (
		expired, early, noKey, noSignature, noProof = 7, 8, 9, 10, 12
	)
	plain, ede := zone.Plain(), c.EDE
	if last.Kind == validate.ZoneKeys && len(last.Keys) == 0 { // it has a DS and no keys
		ede = noSignature
	}
	switch ede {
	case expired:
		return fmt.Sprintf("sign %s again: its signer has stopped, or this server has not fetched for long; see: fencepost secondaries %s", plain, plain)
	case early:
		return "the clock of the signer, or of this machine, is wrong"
	case noKey:
		if last.Anchor {
			return fmt.Sprintf("what is trusted (%s) is not a key of %s: get its present trust anchor from its operator", c.Anchors, zoneWord(zone))
		}
		return fmt.Sprintf("have the parent's operator replace the DS; what to send them: fencepost handover %s", last.Name.Plain())
	case noSignature:
		return fmt.Sprintf("sign %s, or have the parent's operator remove its DS first, and wait until caches have forgotten it", plain)
	case noProof:
		return fmt.Sprintf("the server of %s leaves proofs out: update it, or transfer the zone to it again", plain)
	}
	return fmt.Sprintf("the data were changed after they were signed: sign %s again, and compare its servers: fencepost secondaries %s", plain, plain)
}

// zoneWord is a zone for people.
func zoneWord(n dnsname.Name) string {
	if n == dnsname.Root {
		return "the root"
	}
	return n.Plain()
}

// ErrBroken says that a chain is not secure where it should be.
func (c *TrustChain) ErrBroken() error {
	if c.Status == validate.Bogus || c.Status == validate.Indeterminate {
		return fmt.Errorf("%s is %s: %w", c.Name.Plain(), c.Status, edit.ErrFindings)
	}
	return nil
}
