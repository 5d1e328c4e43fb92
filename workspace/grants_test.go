package workspace

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"fencepost/dnsname"
)

// What a grant says, and what is said of those that say something wrong.
func TestGrants(t *testing.T) {
	const zones = "[peer.harbour]\naddress = \"192.0.2.1\"\n[[zone]]\nname = \"saltmarsh.example\"\n[[zone]]\nname = \"tides.example\"\nfetch-from = [\"harbour\"]\n[[zone]]\nname = \"gauges.saltmarsh.example\"\n[[grant]]\n"
	for _, c := range []struct{ grant, want string }{
		{`key = "dhcp-2026"` + "\n" + `zones = ["saltmarsh.example"]`, "at [] types [] true true false"},
		{`key = "dhcp-2026"` + "\n" + `zones = ["Saltmarsh.Example."]` + "\n" + `names = ["@", "buoy7", "web.saltmarsh.example"]` + "\n" + `below = ["visitors"]` + "\n" + `types = ["A", "TYPE65"]` + "\n" + `may = ["add"]` + "\n" + `own-address = true`,
			"at [{saltmarsh.example. false} {buoy7.saltmarsh.example. false} {web.saltmarsh.example. false} {visitors.saltmarsh.example. true}] types [A HTTPS] true false true"},
		{`key = "dhcp-2026"` + "\n" + `zones = ["saltmarsh.example", "gauges.saltmarsh.example"]` + "\n" + `names = ["a"]` + "\n" + `own-name = true`,
			"at [{a.saltmarsh.example. false} {a.gauges.saltmarsh.example. false} {dhcp-2026. false}] types [] true true false"},
		{`key = "dhcp-2025"` + "\n" + `zones = ["saltmarsh.example"]`, "no secret dhcp-2025"},
		{`zones = ["saltmarsh.example"]`, "names no key"},
		{`key = "dhcp-2026"`, "names no zones"},
		{`key = "dhcp-2026"` + "\n" + `zones = ["saltmarch.example"]`, "is not a zone of this workspace"},
		{`key = "dhcp-2026"` + "\n" + `zones = ["tides.example"]`, "fetched from a primary"},
		{`key = "dhcp-2026"` + "\n" + `zones = ["saltmarsh.example"]` + "\n" + `names = ["other.example."]`, "is not a name in saltmarsh.example"},
		{`key = "dhcp-2026"` + "\n" + `zones = ["saltmarsh.example"]` + "\n" + `types = ["AAAAA"]`, "not a record type"},
		{`key = "dhcp-2026"` + "\n" + `zones = ["saltmarsh.example"]` + "\n" + `types = ["ANY"]`, "not a record type"},
		{`key = "dhcp-2026"` + "\n" + `zones = ["saltmarsh.example"]` + "\n" + `may = ["change"]`, "nothing that can be granted"},
		{`key = "dhcp-2026"` + "\n" + `zone = "saltmarsh.example"`, "no key grant.zone"},
	} {
		conf, said := read(t, zones+c.grant+"\n")
		got := strings.Join(said, "; ")
		if conf != nil && conf.SecretsTrouble == "" {
			g := conf.Updates.Grants[0]
			got = fmt.Sprint("at ", g.Names, " types ", g.Types, " ", g.Add, " ", g.Remove, " ", g.OwnAddress)
		}
		if !strings.Contains(got, c.want) {
			t.Errorf("%s\ngives %s, want %s", c.grant, got, c.want)
		}
	}
	conf, _ := read(t, zones+`key = "dhcp-2026"`+"\n"+`zones = ["saltmarsh.example"]`+"\n")
	if g, k := conf.Updates.For(dnsname.MustParse("Saltmarsh.example."), ""); len(g) != 1 || len(k) != 1 || conf.Updates.Gather != 20*time.Millisecond {
		t.Errorf("grants %v, keys %v", g, k)
	}
	if g, _ := conf.Updates.For(dnsname.MustParse("gauges.saltmarsh.example."), ""); g != nil {
		t.Errorf("a zone below has the grants %v", g)
	}
	for _, text := range []string{"-1s", "1h", "soon"} {
		if _, said := read(t, "[updates]\ngather = \""+text+"\"\n"); len(said) != 1 {
			t.Errorf("gather = %q: %v", text, said)
		}
	}
}

// Who may do what, by user, group and zone; and what is said of what cannot be meant.
func TestAllow(t *testing.T) {
	const zones = "[[zone]]\nname = \"tides.example\"\n[[zone]]\nname = \"birds.example\"\n"
	conf, said := read(t, zones+`[[allow]]
users = ["ines", "61001"]
zones = ["TIDES.*"]
may = ["change", "roll"]
[[allow]]
groups = ["dns"]
may = ["reload"]
`)
	if conf == nil {
		t.Fatal(said)
	}
	tides, birds := dnsname.MustParse("Tides.example."), dnsname.MustParse("birds.example.")
	for _, c := range []struct {
		user, group string
		zone        dnsname.Name
		any         []Right
		want        bool
	}{
		{"ines", "", tides, []Right{MayChange}, true}, {"61001", "", tides, []Right{MaySign, MayRoll}, true}, {"ines", "", birds, []Right{MayChange}, false},
		{"ines", "", tides, []Right{MayReload}, false}, {"ines", "", dnsname.Name{}, []Right{MayChange}, false}, {"ines", "", dnsname.Name{}, nil, true},
		{"bram", "dns", birds, []Right{MayReload, MayPublish}, true}, {"bram", "dns", dnsname.Name{}, []Right{MayReload}, true}, {"bram", "dns", birds, []Right{MayPublish}, false},
		{"dns", "ines", tides, []Right{MayChange, MayReload}, false}, {"", "", tides, nil, false},
	} {
		if got := conf.Allows([]string{c.user}, []string{c.group}, c.zone, c.any...); got != c.want {
			t.Errorf("%s of %s: %v in %s: %v", c.user, c.group, c.any, c.zone, got)
		}
	}
	for text, want := range map[string]string{
		"may = [\"roll\"]":                   "nobody is named",
		"users = [\"ines\"]":                 "nothing is allowed",
		"users = [\"i\"]\nmay = [\"write\"]": "nothing that can be allowed",
		"users = [\"i\"]\nmay = [\"roll\"]\nzones = [\"tide.example\"]": "no zone of this workspace is called tide.example",
		"users = [\"i\"]\nmay = [\"roll\"]\nzones = [\"[\"]":            "not a pattern",
	} {
		if _, said := read(t, zones+"[[allow]]\n"+text+"\n"); len(said) == 0 || !strings.Contains(said[0], want) {
			t.Errorf("%s: %v, want %s", text, said, want)
		}
	}
}
