package checks

import (
	"slices"
	"testing"
)

// What is a modifier and what a mechanism, term by term (RFC 7208 §4.6.1, §6).
func TestSPFModifiers(t *testing.T) {
	for word, modifier := range map[string]bool{"redirect=a.example": true, "exp=a.example": true, "x1-._=y": true, "moo=": true, "X=y": true,
		"1x=y": false, "-x=y": false, "=y": false, "a:b=c": false, "_x=y": false, "+a=b": false} {
		if got := spfTermOf(word); got.modifier != modifier {
			t.Errorf("%s: modifier %v", word, got.modifier)
		}
	}
}

// A finding made once for many names has their places in order, however many looked.
func TestPlacesInOrder(t *testing.T) {
	text := ""
	for range 60 {
		text = "h" + string(rune('a'+len(text)%26)) + string(rune('a'+len(text)/26%26)) + " 0 A 192.0.2.1\n" + text
	}
	diags, _ := runIn(t, text)
	found := false
	for _, d := range diags.All {
		if d.Rule.Code == "ttl-zero" {
			found = len(d.Places) > 20
			if !slices.IsSorted(d.Places) {
				t.Errorf("places out of order: %v", d.Places)
			}
		}
	}
	if !found {
		t.Error("no finding of many places")
	}
}
