package e2e

import (
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// A CSYNC record that cannot be acted on does not stop CDS; name servers that a child asks for are
// asked first whether they serve it; and what is refused stands in the parent's status.
func TestChildrenRefused(t *testing.T) {
	t.Parallel()
	l := newLab(t, "keys = \"single\"")
	ok(t, l.home.dir, "add", "saltmarsh.example", "@", "CSYNC", "1", "3", "NS", "MX", "--reload")
	l.finish("signing") // the registry has the DS now
	follow := func(status int, words ...string) {
		t.Helper()
		l.inStep()
		want(t, fp(t, l.registry.dir, "delegate", "example", "saltmarsh.example", "--follow", "--now", l.stamp()), status, words...)
	}
	follow(3, "the CSYNC record of saltmarsh.example. lists MX")
	ok(t, l.home.dir, "roll", "start", "saltmarsh.example")
	dry := func() result {
		return fp(t, l.registry.dir, "delegate", "example", "saltmarsh.example", "--follow", "--dry-run", "--now", l.stamp())
	}
	for range 20 { // the new key asks for its DS in time
		if dry().status == 0 {
			break
		}
		l.now = l.now.Add(time.Hour)
		ok(t, l.home.dir, "roll", "step", "saltmarsh.example", "--now", l.stamp())
		l.inStep()
	}
	want(t, dry(), 0, "saltmarsh DS", "not followed: the CSYNC record of saltmarsh.example. lists MX")
	l.finish("the rollover")

	conf := filepath.Join(l.registry.dir, "fencepost.toml")
	write(t, conf, read(t, conf)+"follow-children = true\n")
	l.registry.stop()
	l.registry.args = []string{"--now", l.stamp()} // its clock stood still until now
	l.registry.start()
	eventually(t, "the refusal in status", func() bool {
		return strings.Contains(fp(t, l.registry.dir, "status").out, "saltmarsh.example: not followed since")
	})
	want(t, fp(t, l.registry.dir, "status"), 0, "lists MX")

	ok(t, l.home.dir, "remove", "saltmarsh.example", "@", "CSYNC")
	ok(t, l.home.dir, "add", "saltmarsh.example", "@", "CSYNC", "1", "1", "NS", "A", "AAAA")
	ok(t, l.home.dir, "add", "saltmarsh.example", "ns3", "A", "198.51.100.99")
	ok(t, l.home.dir, "add", "saltmarsh.example", "@", "NS", "ns3", "--reload")
	follow(3, "ns3.saltmarsh.example", "which its CSYNC record asks for, does not serve saltmarsh.example")
	write(t, conf, strings.Replace(read(t, conf), "[address-override]\n", "[address-override]\n\"ns3.saltmarsh.example\" = \""+l.harbour.addr+"\"\n", 1))
	follow(0, "wrote", "ns3.saltmarsh A 198.51.100.99")
}
