package ops

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/internal/edit"
	"fencepost/source"
	"fencepost/zone"
	"fencepost/zonefile"
	"fencepost/zoneload"
)

func TestCompare(t *testing.T) {
	var src source.Set
	read := func(text string) *zone.Snapshot {
		t.Helper()
		f, err := src.Add("x", []byte(text+"@ NS ns.other.\n"))
		if err != nil {
			t.Fatal(err)
		}
		z, err := (&edit.Files{Workspace: t.TempDir()}).ReadClean(zoneload.Text{Source: &src, Main: f, Options: zonefile.Options{Origin: dnsname.MustParse("example.")}})
		if err != nil {
			t.Fatal(err)
		}
		return z
	}
	old := read("$TTL 300\n@ SOA ns h 7 7200 900 1209600 60\nweb 600 A 192.0.2.1\nold 1200 TXT x\n")
	c := compare(old, read("$TTL 300\n@ SOA ns h 8 7200 900 1209600 60\nweb 60 A 192.0.2.1\nweb 60 A 192.0.2.9\nnew A 192.0.2.2\n"), time.Unix(1000, 0))
	if c.Added != 1 || c.Gone != 1 || c.Moved != 1 || c.OldSerial != 7 || c.Serial != 8 {
		t.Errorf("%+v", c)
	}
	if got := c.Until.Unix(); got != 1000+1200 {
		t.Errorf("caches forget at %d", got)
	}
	for _, ch := range c.Changes {
		switch ch.Name {
		case "new.example.": // the negative answer lives for the SOA's minimum
			if ch.Change != "added" || ch.Until.Unix() != 1060 {
				t.Errorf("%+v", ch)
			}
		case "web.example.":
			if ch.Change != "changed" || ch.Kept != 1 || len(ch.New) != 1 || ch.OldTTL != 600 || ch.TTL != 60 || ch.Until.Unix() != 1600 {
				t.Errorf("%+v", ch)
			}
		}
	}
}

// A check that is watched runs again for what it looked at and for new zones alone.
func TestConcerns(t *testing.T) {
	looked := map[string]bool{"zones/a.zone": true, "fencepost.toml": true, "zones/part.inc": true}
	for path, want := range map[string]bool{"zones/a.zone": true, "./fencepost.toml": true, "zones/part.inc": true, "zones/new.zone": true,
		"zones/findings.txt": false, "zones/.a.zone": false, "zones/a.zone~": false, "zones/.a.zone123": false, "other.toml": false} {
		if got := concerns(looked, path); got != want {
			t.Errorf("%s: %v, want %v", path, got, want)
		}
	}
}

// Over the control socket too, a message to change an audience's version is not taken for one to change
// everyone's.
func TestUpdateOfAudience(t *testing.T) {
	ctx := WithAudience(t.Context(), "inside")
	if _, err := (&Service{}).Update(ctx, dnsname.MustParse("saltmarsh.example."), json.RawMessage(`{"message":"AAAA"}`), ""); err == nil || !strings.Contains(err.Error(), "everyone sees") {
		t.Errorf("%v", err)
	}
}
