package zone_test

import (
	"errors"
	"testing"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

// An owner is in the zone by its labels, not by its octets: one whose last octets happen
// to be those of the apex, from within a label on, is outside.
func TestOwnersOutside(t *testing.T) {
	for what, owner := range map[string]string{
		"the apex inside a label":   "\x09a\x07example\x00",
		"the same with a subdomain": "\x01b\x09a\x07example\x00",
		"the end of a label":        "\x08xexample\x00",
		"the parent":                "\x00",
		"a sibling":                 "\x05other\x00",
	} {
		b := zone.NewBuilder(dnsname.MustParse("example."), false)
		if err := b.Add([]byte(owner), rr.TypeA, 60, []byte{192, 0, 2, 1}, 0); !errors.Is(err, zone.ErrOutside) {
			t.Errorf("%s is taken: %v", what, err)
		}
	}
	b := zone.NewBuilder(dnsname.MustParse("example."), false)
	if err := b.Add([]byte("\x09a\x07example\x07EXAMPLE\x00"), rr.TypeA, 60, []byte{192, 0, 2, 1}, 0); err != nil {
		t.Errorf("such a label below the apex: %v", err)
	}
}
