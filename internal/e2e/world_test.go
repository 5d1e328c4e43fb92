package e2e

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// inWorld plays the demo's world with more in it, and gives a workspace that sees it.
func inWorld(t *testing.T, more string) (dir string) {
	t.Helper()
	dir = t.TempDir()
	write(t, filepath.Join(dir, "more.toml"), more)
	playWorld(t, program, dir, "more.toml")
	return dir
}

// playWorld plays the demo's world with what a file adds to it, and makes the folder a workspace
// that sees it.
func playWorld(t *testing.T, program, dir, more string) {
	t.Helper()
	file := filepath.Join(dir, "world.toml")
	write(t, file, ok(t, dir, "demo", "world", "--show")+read(t, filepath.Join(dir, more)))
	cmd := exec.Command(program, "demo", "world", file, "--into", dir)
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = cmd.Process.Signal(os.Interrupt); _ = cmd.Wait() })
	begun := make(chan string, 1)
	go func() {
		line, _ := bufio.NewReader(out).ReadString('\n')
		begun <- line
	}()
	select {
	case line := <-begun:
		if !strings.Contains(line, "the world is there") {
			t.Fatalf("the world says %q", line)
		}
	case <-time.After(30 * time.Second):
		t.Fatal("the world does not come up")
	}
}

// The child exists and is served; the zone above has no NS of it. trace says where the way ends,
// prints what is missing, and the command that adds it; which mends it.
func TestTraceForgottenDelegation(t *testing.T) {
	t.Parallel()
	dir := inWorld(t, "\n[[fault]]\nkind = \"no-delegation\"\nzone = \"gauges.saltmarsh.example\"\n"+
		"\n[[fault]]\nkind = \"refuses\"\nserver = \"ns.harbour.example\"\nzone = \"gauges.saltmarsh.example\"\n")
	healthy := fp(t, dir, "trace", "www.saltmarsh.example")
	want(t, healthy, 0, "the root", "example", "refers to saltmarsh.example", "2001:db8:5a17::53", "found  A 198.51.100.80")
	if strings.Contains(healthy.out, "warning") {
		t.Errorf("something is said of a healthy way:\n%s", healthy.out)
	}
	want(t, fp(t, dir, "trace", "north.gauges.saltmarsh.example"), 0, "no such name  saltmarsh.example says that there is no north.gauges.saltmarsh.example")

	conf := read(t, filepath.Join(dir, "fencepost.toml"))
	write(t, filepath.Join(dir, "fencepost.toml"), conf+"\n[[zone]]\nname = \"saltmarsh.example\"\n\n[[zone]]\nname = \"gauges.saltmarsh.example\"\n")
	write(t, filepath.Join(dir, "zones", "saltmarsh.example.zone"), "$TTL 3600\n@ SOA ns1 hostmaster 1 7200 900 1209600 300\n@ NS ns1\n@ NS ns.harbour.example.\nns1 A 198.51.100.53\n")
	write(t, filepath.Join(dir, "zones", "gauges.saltmarsh.example.zone"), "$TTL 3600\n@ SOA ns hostmaster 1 7200 900 1209600 300\n@ NS ns\n@ NS ns.harbour.example.\nns A 198.51.100.61\nnorth A 198.51.100.101\n")
	r := fp(t, dir, "trace", "north.gauges.saltmarsh.example")
	command := "fencepost delegate saltmarsh.example gauges --ns ns.gauges.saltmarsh.example=198.51.100.61 --ns ns.harbour.example"
	want(t, r, 1, "delegation-missing", "saltmarsh.example has no NS records of gauges.saltmarsh.example",
		"gauges.saltmarsh.example. 3600 NS ns.gauges.saltmarsh.example.", "ns.gauges.saltmarsh.example. 3600 A 198.51.100.61", command, "stopped at saltmarsh.example")
	ok(t, dir, strings.Fields(command)[1:]...)
	if zone := read(t, filepath.Join(dir, "zones", "saltmarsh.example.zone")); !strings.Contains(zone, "gauges") {
		t.Errorf("the command that trace prints adds nothing:\n%s", zone)
	}
	o := object(t, fp(t, dir, "trace", "north.gauges.saltmarsh.example", "--format", "json").out)
	legs := o["legs"].([]any)
	steps := legs[0].(map[string]any)["steps"].([]any)
	last := steps[len(steps)-1].(map[string]any)
	trouble := last["troubles"].([]any)[0].(map[string]any)
	if trouble["code"] != "delegation-missing" || trouble["missing_in"] != "saltmarsh.example." || len(trouble["missing"].([]any)) != 3 {
		t.Errorf("in JSON the trouble is %v", trouble)
	}
	want(t, fp(t, dir, "explain", "delegation-missing"), 0, "the parent does not delegate the zone")
	want(t, fp(t, dir, "trace", "x", "A", "more"), 2, "one argument too many")
}

// The workspace of a world is written beside nothing that people wrote.
func TestWorldKeepsWorkspaces(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	config := filepath.Join(dir, "fencepost.toml")
	write(t, config, "# mine\n")
	want(t, fp(t, dir, "demo", "world", "--into", "."), 3, "is there already")
	if got := read(t, config); got != "# mine\n" {
		t.Errorf("the configuration is now\n%s", got)
	}
	write(t, filepath.Join(dir, "w.toml"), "[[zone]]\nnome = \".\"\n")
	want(t, fp(t, dir, "demo", "world", "w.toml"), 3, "w.toml: line 2: worlds have no key zone.nome")
}

// What an audience is to see is judged on its own file.
func TestExpectAudience(t *testing.T) {
	t.Parallel()
	dir := estate(t)
	ok(t, dir, "add", "saltmarsh.example", "www", "A", "198.51.100.80", clock)
	ok(t, dir, "new", "saltmarsh.example", "--audience", "inside", "--network", "10.0.0.0/8", clock)
	ok(t, dir, "add", "saltmarsh.example@inside", "intern", "A", "10.0.0.80", clock)
	statements := filepath.Join(dir, "expect", "saltmarsh.example.expect")
	write(t, statements, "zone saltmarsh.example\nwww A is 198.51.100.80 for inside\nintern does not exist\nintern A is 10.0.0.80 for inside\nold does not exist for inside over udp\n")
	want(t, fp(t, dir, "expect"), 0, "holds  intern A is 10.0.0.80 for inside", "all 4")
	want(t, fp(t, dir, "expect", "--zone", "saltmarsh.example"), 0, "left out")
	write(t, statements, "zone saltmarsh.example\nintern A is 10.0.0.81 for inside\nwww A is 10.0.0.80 for outside\n")
	want(t, fp(t, dir, "expect"), 1, "got: A 10.0.0.80", "there is no file for the audience outside")
}

// The chain of trust, as text, JSON and pictures, in a healthy world and with a DS that was copied
// from a former key.
func TestChain(t *testing.T) {
	t.Parallel()
	dir := inWorld(t, "\n[[fault]]\nkind = \"old-ds\"\nzone = \"gauges.saltmarsh.example\"\n")
	good := fp(t, dir, "chain", "cams.saltmarsh.example")
	want(t, good, 0, "cams.saltmarsh.example A  secure", "trusted: root.key", "DS ", "of saltmarsh.example", "cams.saltmarsh.example CNAME cams.harbour.example.", "example, as above", "cams.harbour.example A 203.0.113.90", "(in 2")
	want(t, fp(t, dir, "chain", "www.island.example"), 0, "insecure", "island.example is delegated without a DS", "proved by 1 NSEC3 record")
	want(t, fp(t, dir, "chain", "nosuch.saltmarsh.example"), 0, "secure", "there is no nosuch.saltmarsh.example", "proved by 2 NSEC records")
	bad := fp(t, dir, "chain", "north.gauges.saltmarsh.example")
	want(t, bad, 1, "bogus", "matches no key", "broken: no DS at the parent, or anchor, matches a key of gauges.saltmarsh.example", "fencepost handover gauges.saltmarsh.example")
	want(t, fp(t, dir, "chain", "north.gauges.saltmarsh.example", "--negative-anchor", "gauges.saltmarsh.example"), 0, "insecure", "negative anchor")
	want(t, fp(t, dir, "chain", "www.saltmarsh.example", "--now", now().AddDate(0, 6, 0).Format(time.RFC3339)), 1, "bogus", "has expired")

	o := object(t, fp(t, dir, "chain", "north.gauges.saltmarsh.example", "--format", "json").out)
	links := o["links"].([]any)
	last := links[len(links)-1].(map[string]any)
	if o["status"] != "bogus" || o["extended_error"] != 9.0 || last["kind"] != "keys" || last["name"] != "gauges.saltmarsh.example." || len(last["keys"].([]any)) != 1 {
		t.Errorf("in JSON the chain is %v, its last link %v", o, last)
	}
	for _, format := range []string{"svg", "html"} {
		r := fp(t, dir, "chain", "north.gauges.saltmarsh.example", "--format", format)
		want(t, r, 1, "<svg", "gauges.saltmarsh.example", "bogus", "matches no key")
		if strings.Contains(strings.ReplaceAll(r.out, "http://www.w3.org/2000/svg", ""), "http") {
			t.Errorf("the %s needs something from elsewhere", format)
		}
		if format == "html" {
			inBrowser(t, r.out, "matches no key")
		}
	}

	// Another anchor, and one that is not valid any more.
	key := strings.Fields(read(t, filepath.Join(dir, "root.key")))
	wrong := strings.Join(key[:len(key)-1], " ") + " " + strings.Repeat("AAAA", 16) + "\n"
	write(t, filepath.Join(dir, "both.key"), wrong+read(t, filepath.Join(dir, "root.key")))
	want(t, fp(t, dir, "chain", "www.saltmarsh.example", "--anchor", "both.key"), 0, "secure", "missing: the zone has no such key now")
	write(t, filepath.Join(dir, "wrong.key"), wrong)
	want(t, fp(t, dir, "chain", "www.saltmarsh.example", "--anchor", "wrong.key"), 1, "bogus", "no DS at the parent, or anchor, matches a key of .")
	anchors := `<?xml version="1.0"?><TrustAnchor id="x" source="y"><Zone>.</Zone><KeyDigest id="a" validFrom="2010-07-15T00:00:00+00:00" validUntil="2019-01-11T00:00:00+00:00">
<KeyTag>19036</KeyTag><Algorithm>8</Algorithm><DigestType>2</DigestType><Digest>49AAC11D7B6F6446702E54A1607371607A1A41855200FD2CE1CDDE32F24E8FB5</Digest></KeyDigest></TrustAnchor>`
	write(t, filepath.Join(dir, "anchors.xml"), anchors)
	want(t, fp(t, dir, "chain", "www.saltmarsh.example", "--anchor", "anchors.xml"), 3, "none of the trust anchors is valid now")
	write(t, filepath.Join(dir, "anchors.xml"), strings.ReplaceAll(anchors, "2019-01-11", "2039-01-11"))
	want(t, fp(t, dir, "chain", "www.saltmarsh.example", "--anchor", "anchors.xml"), 1, "bogus")
	write(t, filepath.Join(dir, "anchors.xml"), anchors[:90])
	want(t, fp(t, dir, "chain", "www.saltmarsh.example", "--anchor", "anchors.xml"), 3, "cannot be read")
}

// All servers of a zone side by side, and what resolvers hold while a change spreads.
func TestAskAllAndSpread(t *testing.T) {
	t.Parallel()
	healthy := inWorld(t, "")
	r := fp(t, healthy, "ask", "www.saltmarsh.example", "--at", "all")
	want(t, r, 0, "at 4 addresses", "A 198.51.100.80", "[2001:db8:b0a7::53]:53", "all say the same")
	want(t, fp(t, healthy, "ask", "cams.saltmarsh.example", "--at", "all"), 0, "CNAME cams.harbour.example.", "all say the same")
	want(t, fp(t, healthy, "ask", "www.saltmarsh.example", "--at", "ns1.saltmarsh.example", "--nsid", "--cookie", "--pad", "128", "--hex"), 0, "authoritative", "saltmarsh.exampl")
	want(t, fp(t, healthy, "ask", "www.saltmarsh.example", "--at", "192.0.2.100", "--recursion"), 0, "checked by the resolver", "198.51.100.80")
	want(t, fp(t, healthy, "ask", "x", "--at", "192.0.2.1", "--without-edns", "--nsid"), 2, "--without-edns leaves no place")
	want(t, fp(t, healthy, "ask", "x", "--at", "192.0.2.1", "--client-subnet", "198.51.100"), 2, "is not a network")
	want(t, fp(t, healthy, "spread", "www.saltmarsh.example", "--at", "192.0.2.100", "--at", "192.0.2.102"), 0, "has it", "for 1 hour", "all have it")
	want(t, fp(t, healthy, "spread", "www.saltmarsh.example"), 2, "--at RESOLVER")

	dir := inWorld(t, "\n[[fault]]\nkind = \"differs\"\nzone = \"saltmarsh.example\"\nserver = \"ns.harbour.example\"\nrecords = \"mail A 198.51.100.99\"\n"+
		"\n[[fault]]\nkind = \"away\"\nserver = \"ns1.saltmarsh.example\"\naddress = \"2001:db8:5a17::53\"\n"+
		"\n[[fault]]\nkind = \"differs\"\nzone = \"harbour.example\"\nserver = \"ns.island.example\"\nrecords = \"mail 3000 A 203.0.113.26\"\n"+
		"\n[[fault]]\nkind = \"no-authority\"\nserver = \"ns.gauges.saltmarsh.example\"\n")
	r = fp(t, dir, "ask", "mail.saltmarsh.example", "--at", "all", "--timeout", "300ms")
	want(t, r, 1, "A 198.51.100.99", "A 198.51.100.25", "no answer after 3 tries", "3 different answers")
	o := object(t, fp(t, dir, "ask", "mail.saltmarsh.example", "--at", "all", "--timeout", "300ms", "--format", "json").out)
	if o["alike"] != false || len(o["answers"].([]any)) != 4 {
		t.Errorf("in JSON: %v", o)
	}
	want(t, fp(t, dir, "ask", "north.gauges.saltmarsh.example", "--at", "198.51.100.61"), 0, "data without authority")
	// The resolver asks the server of the island first, which has another address than most.
	r = fp(t, dir, "spread", "mail.harbour.example", "--at", "192.0.2.100", "--at", "192.0.2.250", "--timeout", "200ms")
	want(t, r, 1, "the servers say: A 203.0.113.25", "not all of them", "has another answer", "for 50 minutes", "A 203.0.113.26", "does not answer", "the last of the other answers is forgotten by")
}

// Expectations of a file, of servers and of what resolvers are told; what is recorded holds, and a
// server that differs is found.
func TestExpect(t *testing.T) {
	t.Parallel()
	dir := inWorld(t, "\n[[fault]]\nkind = \"differs\"\nzone = \"saltmarsh.example\"\nserver = \"ns.harbour.example\"\nrecords = \"mail A 198.51.100.99\"\n"+
		"\n[[fault]]\nkind = \"no-tcp\"\nserver = \"ns.island.example\"\n")
	config := filepath.Join(dir, "fencepost.toml")
	write(t, config, read(t, config)+"\n[[zone]]\nname = \"saltmarsh.example\"\n")
	write(t, filepath.Join(dir, "zones", "saltmarsh.example.zone"), "$TTL 3600\n@ SOA ns1 hostmaster 1 7200 900 1209600 300\n@ NS ns1\n@ NS ns.harbour.example.\nns1 A 198.51.100.53\nns1 AAAA 2001:db8:5a17::53\nmail A 198.51.100.25\nmail AAAA 2001:db8:5a17::25\nwww A 198.51.100.80\ngauges NS ns.gauges\ngauges NS ns.harbour.example.\nns.gauges A 198.51.100.61\n")
	want(t, fp(t, dir, "expect"), 2, "there are no expectations in", "fencepost expect --record ZONE")
	want(t, fp(t, dir, "expect", "--record", "saltmarsh.example"), 0, "wrote expect/saltmarsh.example.expect")
	want(t, fp(t, dir, "expect", "--record", "saltmarsh.example"), 3, "exists already")
	want(t, fp(t, dir, "expect"), 0, "asked: zones/saltmarsh.example.zone", "holds  gauges NS refers to", "all 8 expectations hold")

	more := filepath.Join(dir, "more.expect")
	write(t, more, "zone saltmarsh.example\ngroup Outside\nmail A is the same everywhere\nwww A is the same everywhere\nwww A is signed\nnosuch A is signed\nwww A is 198.51.100.80 over tcp\nwww A ttl at most 1h\n")
	want(t, fp(t, dir, "expect", more), 0, "left out  mail A is the same everywhere", "2 expectations hold, 4 left out")
	r := fp(t, dir, "expect", more, "--at", "all")
	want(t, r, 1, "fails  mail A is the same everywhere", "ns.harbour.example 203.0.113.53:53", "say A 198.51.100.99", "holds  www A is the same everywhere", "holds  nosuch A is signed", "1 fail of 6 expectations")
	want(t, fp(t, dir, "expect", more, "--through", "192.0.2.100"), 1, "through 192.0.2.100", "holds  www A is 198.51.100.80 over tcp")
	want(t, fp(t, dir, "expect", "--at", "198.51.100.53"), 0, "asked: 198.51.100.53", "all 8 expectations hold")
	want(t, fp(t, dir, "expect", "--at", "203.0.113.53"), 1, "fails  mail A is 198.51.100.25", "got: A 198.51.100.99", "expect/saltmarsh.example.expect:")

	write(t, filepath.Join(dir, "island.expect"), "zone island.example\nwww A is 203.0.113.99 over tcp\nwww A is 203.0.113.99\n")
	want(t, fp(t, dir, "expect", "island.expect", "--at", "all", "--timeout", "500ms"), 1, "fails  www A is 203.0.113.99 over tcp", "ns.island.example 203.0.113.77:53", "holds  www A is 203.0.113.99\n")
	for format, text := range map[string]string{"tap": "not ok 1 - www A is 203.0.113.99 over tcp", "junit": "<failure message="} {
		want(t, fp(t, dir, "expect", "island.expect", "--at", "all", "--timeout", "500ms", "--format", format), 1, text)
	}
	o := object(t, fp(t, dir, "expect", more, "--at", "all", "--format", "json").out)
	if o["fails"] != 1.0 || o["holds"] != 5.0 || len(o["expectations"].([]any)) != 6 {
		t.Errorf("in JSON: %v", o)
	}
	write(t, more, "zone saltmarsh.example\nwww A ist 198.51.100.80\nwww A is 198.51.100\n")
	r = fp(t, dir, "expect", more)
	want(t, r, 1, "more.expect:2:7", "expectation-not-understood", "did you mean is?", "more.expect:3:10", "expectation-data")
	want(t, fp(t, dir, "expect", more, "--at", "all", "--through", "192.0.2.100"), 1, "expectation-not-understood")
	want(t, fp(t, dir, "expect", "--at", "all", "--through", "192.0.2.100"), 2, "one of them")
	want(t, fp(t, dir, "explain", "expectation-not-understood"), 0, "docs/expect.md")
}

// All addresses of a zone's servers: one with other content under the same serial, one behind, one
// without TCP; and waiting until all have a serial.
func TestSecondariesOutside(t *testing.T) {
	t.Parallel()
	dir := inWorld(t, "\n[[fault]]\nkind = \"differs\"\nzone = \"saltmarsh.example\"\nserver = \"ns.harbour.example\"\naddress = \"203.0.113.53\"\nrecords = \"@ MX 10 elsewhere\"\n"+
		"\n[[fault]]\nkind = \"no-tcp\"\nserver = \"ns1.saltmarsh.example\"\naddress = \"2001:db8:5a17::53\"\n"+
		"\n[[fault]]\nkind = \"stale\"\nzone = \"harbour.example\"\nserver = \"ns.island.example\"\nuntil = \"6s\"\n")
	want(t, fp(t, dir, "secondaries", "island.example", "--at", "all"), 0, "all 3 servers are in sync")
	r := fp(t, dir, "secondaries", "saltmarsh.example", "--at", "all")
	want(t, r, 1, "other content", "not over TCP", "3 of 4 servers in sync with serial 2026112801")
	o := object(t, fp(t, dir, "secondaries", "saltmarsh.example", "--at", "all", "--format", "json").out)
	answers := map[string]int{}
	for _, s := range o["servers"].([]any) {
		answers[s.(map[string]any)["answers"].(string)]++
	}
	if len(answers) != 2 || o["in_sync"] != false {
		t.Errorf("in JSON the answers are %v of %v", answers, o)
	}
	// With the zone at hand more is asked; that the harbour has the zone below too is no other content.
	config := filepath.Join(dir, "fencepost.toml")
	write(t, config, read(t, config)+"\n[[zone]]\nname = \"saltmarsh.example\"\n")
	write(t, filepath.Join(dir, "zones", "saltmarsh.example.zone"), "$TTL 3600\n@ SOA ns1 hostmaster 1 7200 900 1209600 300\n@ NS ns1\n@ NS ns.harbour.example.\n@ MX 10 mail\nns1 A 198.51.100.53\nmail A 198.51.100.25\ngauges NS ns.gauges\ngauges NS ns.harbour.example.\nns.gauges A 198.51.100.61\n")
	want(t, fp(t, dir, "secondaries", "saltmarsh.example", "--at", "all"), 1, "3 of 4 servers in sync with serial 2026112801")
	want(t, fp(t, dir, "secondaries", "harbour.example", "--at", "all", "--wait", "1"), 0, "all 3 servers are in sync with serial 1")
	want(t, fp(t, dir, "secondaries", "harbour.example", "--at", "all", "--wait", "9", "--patience", "1s"), 1, "waiting for serial 9", "it needs 9")
	want(t, fp(t, dir, "secondaries", "harbour.example", "--at", "all", "--wait", "soon"), 2, "is not a serial")
	want(t, fp(t, dir, "secondaries", "harbour.example"), 2, "--at all")
}

// A zone that is not handed over is read by asking: whole along its NSEC records, and else by usual
// names, which is said.
func TestPullByAsking(t *testing.T) {
	t.Parallel()
	dir := inWorld(t, "")
	r := fp(t, dir, "pull", "saltmarsh.example", "--from", "198.51.100.53", "-o", "out.zone")
	want(t, r, 0, "does not hand over", "along its NSEC records", "are all there are")
	text := read(t, filepath.Join(dir, "out.zone"))
	for _, line := range []string{"cams.harbour.example.", "*.cams-old", "archive.harbour.example.", "ns.gauges", "v=DMARC1"} {
		if !strings.Contains(text, line) {
			t.Errorf("%q was not taken over:\n%s", line, text)
		}
	}
	if strings.Contains(text, "RRSIG") || strings.Contains(text, "NSEC") {
		t.Errorf("what a signer made was taken over:\n%s", text)
	}
	want(t, fp(t, dir, "pull", "island.example", "--from", "203.0.113.77", "-o", "island.zone"), 0, "usual names were asked for", "whatever has another name IS MISSING")
	if text := read(t, filepath.Join(dir, "island.zone")); !strings.Contains(text, "203.0.113.99") {
		t.Errorf("www is missing:\n%s", text)
	}
	want(t, fp(t, dir, "pull", "nosuch.example", "--from", "203.0.113.77", "-o", "x.zone"), 3)
}

// Two providers compared before a move: alike and whole, by what is known where neither hands the
// zone over, and with the DS in the advice where they sign with keys of their own.
func TestDiffServersForMove(t *testing.T) {
	t.Parallel()
	dir := inWorld(t, "\n[[zone]]\nname = \"seals.example\"\nservers = [\"ns.harbour.example\", \"ns.island.example\"]\nrecords = '''\nwww A 203.0.113.5\nseal-watch-7 A 203.0.113.7\n'''\n"+
		"\n[[fault]]\nkind = \"differs\"\nzone = \"seals.example\"\nserver = \"ns.island.example\"\nrecords = \"seal-watch-7 A 203.0.113.8\"\n"+
		"\n[[fault]]\nkind = \"no-signatures\"\nzone = \"harbour.example\"\nserver = \"ns.island.example\"\n"+
		"\n[[fault]]\nkind = \"gives-to-all\"\nserver = \"ns1.saltmarsh.example\"\n")
	want(t, fp(t, dir, "diff", "server:198.51.100.53", "server:203.0.113.53", "saltmarsh.example"), 0, "198.51.100.53: handed over whole", "203.0.113.53: read along its NSEC records, whole",
		"the answers are alike: safe to move", "1. have the parent's operator change the NS records", "2. keep 198.51.100.53 answering")
	both := []string{"diff", "server:203.0.113.53", "server:203.0.113.77", "seals.example"}
	want(t, fp(t, dir, both...), 0, "others may be missing", "the answers are alike, as far as could be asked")
	config := filepath.Join(dir, "fencepost.toml")
	write(t, config, read(t, config)+"\n[[zone]]\nname = \"seals.example\"\n")
	write(t, filepath.Join(dir, "zones", "seals.example.zone"), "$TTL 3600\n@ SOA ns.harbour.example. h.harbour.example. 1 7200 900 1209600 300\n@ NS ns.harbour.example.\nseal-watch-7 A 203.0.113.7\n")
	r := fp(t, dir, both...)
	want(t, r, 1, "- seal-watch-7.seals.example", "203.0.113.8", "the answers differ: 0 added, 0 removed, 1 changed")
	o := object(t, fp(t, dir, append(both, "--format", "json")...).out)
	if o["alike"] != false || o["complete"] != false || len(o["changes"].([]any)) != 1 {
		t.Errorf("in JSON: %v", o)
	}
	want(t, fp(t, dir, "diff", "server:203.0.113.53", "server:203.0.113.77", "harbour.example"), 1, "Not safe to move", "the new servers do not sign: validating resolvers would reject the zone", "take the DS out first: the parent's operator removes it; wait 1 h")
	want(t, fp(t, dir, "diff", "a.zone", "b.zone", "x.example"), 2, "server:OLD server:NEW ZONE")
}
