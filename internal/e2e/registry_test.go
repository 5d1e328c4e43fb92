package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A server of one's own in the stand-in Internet: the zone is nobody's, is handed in with what
// handover prints, and then found, and every link to it holds; a form that is wrong changes nothing.
func TestRegistry(t *testing.T) {
	t.Parallel()
	own := t.TempDir()
	port := freePort(t)
	ok(t, own, "init", ".", "--zone", "heron.example", "--ns", "ns1=198.51.100.99", "--ns", "ns2=198.51.100.98")
	config := filepath.Join(own, "fencepost.toml")
	write(t, config, fmt.Sprintf("[serve]\nlisten = [\"127.0.0.1:%d\"]\n[policy.standard]\nalgorithm = \"ECDSAP256SHA256\"\n[[zone]]\nname = \"heron.example\"\nsign = \"standard\"\n", port))
	ok(t, own, "add", "heron.example", "www", "A", "198.51.100.97")
	serve(t, own)

	dir := t.TempDir()
	write(t, filepath.Join(dir, "more.toml"), fmt.Sprintf("\n[[server]]\nname = \"ns1.heron.example\"\naddresses = [\"198.51.100.99\", \"198.51.100.98\"]\nat = \"127.0.0.1:%d\"\n\n[[registry]]\nzone = \"example\"\n", port))
	playWorld(t, program, dir, "more.toml")
	want(t, fp(t, dir, "trace", "www.heron.example"), 0, "example says that there is no www.heron.example")

	form, answer := filepath.Join(dir, "registrar", "heron.example.txt"), filepath.Join(dir, "registrar", "heron.example.answer")
	answers := func(says string) {
		t.Helper()
		eventually(t, "the registrar answers: "+says, func() bool {
			text, _ := os.ReadFile(answer)
			return strings.Contains(string(text), says)
		})
	}
	write(t, form, "please delegate heron.example to me\n")
	answers("it has no records")
	handed := ok(t, own, "handover", "heron.example")
	write(t, form, handed)
	answers("entered, ")
	want(t, fp(t, dir, "trace", "www.heron.example"), 0, "refers to heron.example", "found  A 198.51.100.97")
	want(t, fp(t, dir, "chain", "www.heron.example"), 0, "secure", "of heron.example")
	want(t, fp(t, dir, "audit", "heron.example"), 0, "servers-in-one-network")
	write(t, form, strings.ReplaceAll(handed, "heron.example.  3600  IN  NS", "egret.example.  3600  IN  NS"))
	answers("it is not entered")
	want(t, fp(t, dir, "chain", "www.heron.example"), 0, "secure")
}
