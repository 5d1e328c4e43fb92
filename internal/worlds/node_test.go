package worlds

import (
	"encoding/json"
	"net/netip"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"fencepost/rr"
)

// asked puts questions with the dns module of Node.js, and gives the answers as data of records.
const asked = `
const dns = require('dns').promises
const [server, questions] = JSON.parse(require('fs').readFileSync(0, 'utf8'))
const resolver = new dns.Resolver()
resolver.setServers([server])
const text = {
  MX: r => r.priority + ' ' + r.exchange + '.',
  NS: r => r + '.', PTR: r => r + '.', CNAME: r => r + '.',
  TXT: r => r.map(s => JSON.stringify(s)).join(' '),
  SOA: r => [r.nsname + '.', r.hostmaster + '.', r.serial, r.refresh, r.retry, r.expire, r.minttl].join(' '),
  CAA: r => r.critical + ' issue ' + JSON.stringify(r.issue),
}
Promise.all(questions.map(async ([name, type]) => {
  try {
    const found = await resolver.resolve(name, type)
    return [].concat(found).map(text[type] || (r => r))
  } catch (e) {
    return ['ENOTFOUND', 'ENODATA'].includes(e.code) ? [] : ['error ' + e.code]
  }
})).then(all => console.log(JSON.stringify(all)))
`

// The dns module of Node.js is told by a resolver of the world what ours is told.
func TestNodeResolver(t *testing.T) {
	node, err := exec.LookPath("node")
	if err != nil {
		t.Skip("there is no node here: the comparison with it is left out")
	}
	p := play(t, "")
	const at = "192.0.2.100"
	questions := [][2]string{
		{"www.saltmarsh.example", "A"}, {"www.saltmarsh.example", "AAAA"}, {"tides.saltmarsh.example", "A"}, {"tides.saltmarsh.example", "CNAME"},
		{"cams.saltmarsh.example", "A"}, {"old.archive.saltmarsh.example", "A"}, {"x.cams-old.saltmarsh.example", "A"}, {"north.gauges.saltmarsh.example", "A"},
		{"nosuch.saltmarsh.example", "A"}, {"mail.saltmarsh.example", "TXT"}, {"saltmarsh.example", "MX"}, {"saltmarsh.example", "NS"}, {"saltmarsh.example", "SOA"},
		{"saltmarsh.example", "CAA"}, {"_dmarc.saltmarsh.example", "TXT"}, {"25.100.51.198.in-addr.arpa", "PTR"}, {"gauges.saltmarsh.example", "NS"},
	}
	in, err := json.Marshal([]any{p.Places[netip.MustParseAddr(at)].String(), questions})
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.CommandContext(t.Context(), node, "-e", asked)
	cmd.Stdin = strings.NewReader(string(in))
	out, err := cmd.CombinedOutput()
	var got [][]string
	if err != nil || json.Unmarshal(out, &got) != nil || len(got) != len(questions) {
		t.Fatalf("node: %v: %s", err, out)
	}
	for i, q := range questions {
		typ, _ := rr.ParseType(q[1])
		var want []string
		for _, rec := range p.ask(t, at, q[0]+".", typ).Answer {
			if rec.Type == typ {
				want = append(want, rr.DataText(typ, rec.Data))
			}
		}
		slices.Sort(want)
		if slices.Sort(got[i]); !slices.Equal(got[i], want) {
			t.Errorf("%s %s: node says %q, we %q", q[0], q[1], got[i], want)
		}
	}
}
