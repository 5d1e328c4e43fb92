package ui

import (
	"encoding/xml"
	"errors"
	"io"
	"strings"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/validate"
)

// Whatever stands in names and reasons, the drawing is well-formed and shows it as text.
func TestChainDrawing(t *testing.T) {
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	odd := dnsname.MustParse(`\<script\>\&.example.`)
	sig := validate.SigView{Tag: 7, Inception: now, Expiration: now.Add(time.Hour)}
	links := []*validate.Link{
		{Kind: validate.ZoneKeys, Zone: dnsname.Root, Name: dnsname.Root, Type: rr.TypeDNSKEY, Anchor: true, Verdict: validate.Verdict{Status: validate.Secure},
			Keys: []validate.KeyView{{Tag: 7, Algorithm: 13, Led: true, Signs: true}, {Tag: 8, Algorithm: 13, Revoked: true}}, Sigs: []validate.SigView{sig}},
		{Kind: validate.Delegation, Zone: dnsname.Root, Name: odd, Type: rr.TypeDS, Verdict: validate.Verdict{Status: validate.Secure}, DS: []validate.DSView{{Tag: 9, Algorithm: 13, Digest: 2, Usable: true}}, Sigs: []validate.SigView{sig}},
		{Kind: validate.ZoneKeys, Zone: odd, Name: odd, Type: rr.TypeDNSKEY, Verdict: validate.Verdict{Status: validate.Bogus, Reason: "a < b & c"}},
	}
	for status := validate.Indeterminate; status <= validate.Secure; status++ {
		for n := range len(links) + 1 {
			c := &Trust{Chain: &validate.Chain{Verdict: validate.Verdict{Status: status, Reason: "a < b & c"}, Links: links[:n]}, Name: odd, Type: rr.TypeA, Now: now, Anchors: "<here>", Advice: "do & be"}
			var svg, page strings.Builder
			if err := errors.Join(ChainSVG(&svg, c), ChainHTML(&page, c)); err != nil {
				t.Fatal(err)
			}
			d := xml.NewDecoder(strings.NewReader(svg.String()))
			for {
				if _, err := d.Token(); errors.Is(err, io.EOF) {
					break
				} else if err != nil {
					t.Fatalf("%s with %d links: %v\n%s", status, n, err, svg.String())
				}
			}
			if strings.Contains(page.String(), "<script") || !strings.Contains(page.String(), "do &amp; be") {
				t.Errorf("%s with %d links: the page is\n%s", status, n, page.String())
			}
			if n == len(links) && (strings.Count(svg.String(), "<rect") != 3 || !strings.Contains(svg.String(), "matches no key") || !strings.Contains(svg.String(), "a &lt; b &amp; c")) {
				t.Errorf("%s: the drawing is\n%s", status, svg.String())
			}
		}
	}
}
