package zonefile

import (
	"testing"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
)

// A zone's name that stands twice is one finding, with the fix for each line that has it; a zone that is
// called so is none.
func TestZoneNameTwice(t *testing.T) {
	const text = "$ORIGIN a.example.\n$TTL 60\na.example SOA ns1 h 1 2 3 4 5\n  NS ns1\nA.Example NS ns2\nns1 A 192.0.2.1\nb.a.example A 192.0.2.2\n"
	load := func(text, origin string) (*Loaded, *diag.List) {
		src, diags := &source.Set{}, &diag.List{}
		f, err := src.Add("x", []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		return Load(f, Options{Origin: dnsname.MustParse(origin)}, diags), diags
	}
	z, diags := load(text, "a.example.")
	if len(diags.All) != 1 || diags.All[0].Rule != RuleZoneTwice || len(diags.All[0].Fix.Edits) != 2 {
		t.Fatalf("%v", diags.All)
	}
	if set, ok := z.Find(z.Apex(), rr.TypeNS, 0); z.Apex() != dnsname.MustParse("a.example.") || !ok || set.N != 2 || z.Outside != 0 {
		t.Errorf("the zone is %s with %d NS records, %d outside", z.Apex(), set.N, z.Outside)
	}
	if z, diags := load("$ORIGIN a.\n$TTL 60\na SOA ns1 h 1 2 3 4 5\na NS ns1.x.\n", "a.a."); len(diags.All) != 0 || z.Apex() != dnsname.MustParse("a.a.") {
		t.Errorf("a zone that is called so: %s, %v", z.Apex(), diags.All)
	}
	if z, diags := load("$TTL 60\na SOA ns1 h 1 2 3 4 5\n", "."); len(diags.All) != 0 || z.Apex() != dnsname.MustParse("a.") {
		t.Errorf("below the root: %s, %v", z.Apex(), diags.All)
	}
}
