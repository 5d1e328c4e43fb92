package e2e

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// refusals are commands that cannot be done on the workspace of estate with cam-north
// in it: the status, and what must be said for a person to go on.
var refusals = []struct {
	command string
	status  int
	says    []string
}{
	// which zone or file is meant
	{"add saltmarsh.exmple a A 192.0.2.1", 3, []string{"there is no zone saltmarsh.exmple", "did you mean saltmarsh.example?"}},
	{"check nofile.zone", 3, []string{"there is no zone nofile.zone", "does not exist"}},
	{"tidy nofile.zone", 3, []string{"there is no zone nofile.zone", "does not exist"}},
	{"sign nozone", 3, []string{"there is no zone nozone", "fencepost new nozone"}},
	{"verify nozone", 3, []string{"there is no zone nozone", "fencepost new nozone"}},
	{"handover nozone", 3, []string{"there is no zone nozone"}},
	{"diff saltmarsh.example nozone", 3, []string{"there is no zone nozone"}},
	{"init .", 3, []string{"is a workspace already", "fencepost new ZONE"}},
	{"new saltmarsh.example", 3, []string{"saltmarsh.example"}},

	// what is to be done
	{"ad saltmarsh.example a A 192.0.2.1", 2, []string{"there is no command ad", "did you mean add"}},
	{"diff saltmarsh.example", 2, []string{"TO is missing", "fencepost diff FROM TO"}},
	{"change saltmarsh.example cam-north A", 2, []string{"say what to change", "--ttl"}},
	{"check --ignor x", 2, []string{"there is no flag --ignor", "fencepost check --help"}},
	{"find", 2, []string{"say what to look for"}},
	{"pull x.example", 2, []string{"say where to get the zone", "--from", "--file"}},
	{"explain nosuch", 2, []string{`"nosuch"`, "the code of a finding, a record type"}},

	// the record
	{"add saltmarsh.example a AAAA 192.0.2.1", 2, []string{`"192.0.2.1" is not an IPv6 address`, "an A record"}},
	{"add saltmarsh.example a MX mail", 2, []string{"MX preference exchange", "MX 10 mail"}},
	{"add saltmarsh.example a MAX 10 mail", 2, []string{`"MAX" is not a record type`, "did you mean MX?"}},
	{"add saltmarsh.example www.other.example. A 192.0.2.1", 2, []string{"www.other.example. is not in the zone saltmarsh.example."}},
	{"add saltmarsh.example a A 192.0.2.1 --ttl never", 2, []string{"--ttl never", "2147483647 seconds"}},
	{"add saltmarsh.example a..b A 192.0.2.1", 2, []string{"empty label"}},
	{"add saltmarsh.example a TXT text --ptr", 2, []string{"--ptr is for A and AAAA records, not for TXT"}},
	{"add saltmarsh.example * A 198.51.100.9 --ptr", 2, []string{"is a wildcard"}},
	{"add saltmarsh.example a A 203.0.113.9 --ptr", 3, []string{"no reverse zone of the workspace holds 203.0.113.9", "fencepost reverse NETWORK"}},
	{"remove saltmarsh.example nothere", 3, []string{"there is no nothere.saltmarsh.example.", "zones/saltmarsh.example.zone"}},
	{"remove saltmarsh.example cam-north AAAA", 3, []string{"has no such AAAA record", "it has A"}},
	{"remove saltmarsh.example cam-north A 192.0.2.99", 3, []string{"has no such A record"}},

	// many at once: all or nothing
	{"add saltmarsh.example g[1-40] A 192.0.2.[1-39]", 2, []string{"g[1-40] has 40 members", "192.0.2.[1-39] has 39"}},
	{"add saltmarsh.example g[5-1] A 192.0.2.1", 2, []string{"smaller to a larger"}},

	// keys and rollovers
	{"key new saltmarsh.example --role boss", 2, []string{"is not a role", "single, ksk or zsk"}},
	{"key new saltmarsh.example --algorithm 5", 2, []string{"SHA-1 can be forged", "ECDSAP256SHA256"}},
	{"key new saltmarsh.example --passphrase-file nofile", 3, []string{"nofile"}},
	{"key import saltmarsh.example fencepost.toml --role ksk", 3, []string{"not a private key", "PKCS#8"}},
	{"key import saltmarsh.example nofile --role ksk", 3, []string{"nofile"}},
	{"key import saltmarsh.example", 2, []string{"FILE is missing"}},
	{"key export saltmarsh.example 1", 2, []string{"-o FILE"}},
	{"key export saltmarsh.example 1 -o -", 3, []string{"key"}},
	{"key show saltmarsh.example 99999", 2, []string{"not a key tag"}},
	{"key delete saltmarsh.example 1", 3, []string{"saltmarsh.example"}},
	{"roll start saltmarsh.example", 2, []string{"is not signed by this workspace", "sign = "}},
	{"roll start saltmarsh.example --what all", 2, []string{"is not signed by this workspace"}},
	{"roll cancel nozone.example", 2, []string{"nozone.example is not signed"}},
	{"handover saltmarsh.example --party-takes digests=x", 2, []string{"not a number of digests"}},
	{"help nonsense", 2, []string{"no command fencepost nonsense"}},
	{"help roll strt", 2, []string{"did you mean start"}},
	{"handover saltmarsh.example --format xml", 2, []string{"text, json or epp"}},
	{"delegate saltmarsh.example nosuch --follow", 3, []string{"is not delegated"}},

	// serials, delegations, reverse zones
	{"serial saltmarsh.example --set 5", 2, []string{"serial arithmetic (RFC 1982)", "secondaries would ignore it", "fencepost serial saltmarsh.example --set 5 --plan"}},
	{"serial saltmarsh.example --plan", 2, []string{"--set N"}},
	{"serial saltmarsh.example --set lots", 2, []string{"lots"}},
	{"delegate saltmarsh.example child", 2, []string{"which servers answer for child.saltmarsh.example.", "--ns NAME=ADDRESS"}},
	{"delegate saltmarsh.example child --ns ns1.child", 2, []string{"its address is needed here", "--ns ns1.child.saltmarsh.example.=ADDRESS"}},
	{"reverse 198.51.100.0/33", 2, []string{"is not a network", "198.51.100.0/24"}},

	// the name of the zone a file holds
	{"check zones/saltmarsh.example.zone --origin a..b", 2, []string{"--origin a..b", "empty label"}},
	{"diff zones/saltmarsh.example.zone saltmarsh.example --origin a..b", 2, []string{"--origin a..b", "empty label"}},
	{"sign zones/saltmarsh.example.zone --origin a..b", 2, []string{"--origin a..b", "empty label"}},
	{"verify zones/saltmarsh.example.zone --origin a..b", 2, []string{"--origin a..b", "empty label"}},
}

// A command that is refused says why and what to do, on standard error alone, and
// leaves every file as it was.
func TestRefusals(t *testing.T) {
	t.Parallel()
	dir := estate(t)
	ok(t, dir, "add", "saltmarsh.example", "cam-north", "A", "198.51.100.34", clock)
	before := files(t, dir)
	for _, c := range refusals {
		r := fp(t, dir, append(strings.Fields(c.command), clock)...)
		t.Run(c.command, func(t *testing.T) {
			want(t, r, c.status, c.says...)
			if r.out != "" {
				t.Errorf("standard output holds %q", r.out)
			}
			if !strings.HasPrefix(r.err, "error: ") {
				t.Errorf("standard error does not begin with error: %q", r.err)
			}
			same(t, before, files(t, dir))
		})
	}
}

// files is what each file below dir holds, by its path. The lock and the notes that
// make the next reading quicker are not the user's, so they are left out.
func files(t *testing.T, dir string) map[string]string {
	t.Helper()
	out := map[string]string{}
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		rel, err := filepath.Rel(dir, path)
		if err != nil {
			return err
		}
		if top, _, _ := strings.Cut(filepath.ToSlash(rel), "/"); top == "state" {
			return nil
		}
		text, err := os.ReadFile(path)
		out[rel] = string(text)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func same(t *testing.T, before, after map[string]string) {
	t.Helper()
	for path, text := range after {
		was, there := before[path]
		switch {
		case !there:
			t.Errorf("%s is new", path)
		case was != text:
			t.Errorf("%s changed", path)
		}
	}
	for path := range before {
		if _, there := after[path]; !there {
			t.Errorf("%s is gone", path)
		}
	}
}
