package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// signed makes a key and a signed zone of the demo in a bare folder.
func signed(t *testing.T) (dir string) {
	t.Helper()
	dir = t.TempDir()
	write(t, filepath.Join(dir, "saltmarsh.example.zone"), read(t, demoData+"/zones/saltmarsh.example.zone"))
	ok(t, dir, "key", "new", "saltmarsh.example", "--keys", "k")
	ok(t, dir, "sign", "saltmarsh.example.zone", "--keys", "k", "-o", "signed.zone", clock)
	return dir
}

func TestSignOffline(t *testing.T) {
	t.Parallel()
	dir := signed(t)
	want(t, fp(t, dir, "key", "list", "saltmarsh.example", "--keys", "k"), 0, "ECDSAP256SHA256", "single", "active")
	keys, _ := filepath.Glob(filepath.Join(dir, "k", "*.pem"))
	if len(keys) != 1 || !strings.Contains(read(t, keys[0]), "BEGIN PRIVATE KEY") {
		t.Fatalf("keys %v", keys)
	}
	if info, _ := os.Stat(keys[0]); info.Mode().Perm() != 0o600 {
		t.Errorf("the key has mode %v", info.Mode())
	}
	want(t, fp(t, dir, "verify", "signed.zone", clock), 0, "proved", "35 signatures valid", "no anchor given")
	// Same input, same time, same octets; and to standard output too.
	if again := ok(t, dir, "sign", "saltmarsh.example.zone", "--keys", "k", "-o", "-", clock); again != read(t, filepath.Join(dir, "signed.zone")) {
		t.Error("signing again gives another file")
	}
	ok(t, dir, "sign", "saltmarsh.example.zone", "--keys", "k", clock)
	if read(t, filepath.Join(dir, "saltmarsh.example.signed")) != read(t, filepath.Join(dir, "signed.zone")) {
		t.Error("without -o the signed zone is not in ZONE.signed")
	}
	if r := fp(t, dir, "check", "signed.zone"); r.status != 0 || r.out != "" {
		t.Errorf("the signed zone does not check clean: %s", r.out)
	}
	want(t, fp(t, dir, "verify", "signed.zone", "--now", "2026-12-22T00:00:00Z"), 1, "signature-expired", "has expired, on 2026-12-2")
	want(t, fp(t, dir, "verify", "saltmarsh.example.zone"), 1, "not-signed")
	v := object(t, ok(t, dir, "verify", "signed.zone", clock, "--format", "json"))
	if v["valid"] != true || v["signatures"] != 35.0 {
		t.Errorf("%v", v)
	}
}

// The DS that handover prints is an anchor for the zone; another is not.
func TestHandover(t *testing.T) {
	t.Parallel()
	dir := signed(t)
	out := ok(t, dir, "handover", "signed.zone")
	var ds string
	for _, l := range strings.Split(out, "\n") {
		if strings.Contains(l, "  DS  ") {
			ds = strings.TrimSpace(l)
		}
	}
	if ds == "" || !strings.Contains(out, "ns1.saltmarsh.example") || !strings.Contains(out, "address         198.51.100.53") {
		t.Fatalf("handover:\n%s", out)
	}
	write(t, filepath.Join(dir, "ds.txt"), ds+"\n")
	want(t, fp(t, dir, "verify", "signed.zone", "--anchor", "ds.txt", clock), 0, "the keys follow from the 1 anchor given")
	wrong := []byte(ds)
	if wrong[len(wrong)-1] = 'a'; ds[len(ds)-1] == 'a' {
		wrong[len(wrong)-1] = 'b'
	}
	write(t, filepath.Join(dir, "ds.txt"), string(wrong)+"\n")
	want(t, fp(t, dir, "verify", "signed.zone", "--anchor", "ds.txt", clock), 1, "untrusted-keys")
	v := object(t, ok(t, dir, "handover", "signed.zone", "--format", "json"))
	if len(v["name_servers"].([]any)) != 2 || len(v["keys"].([]any)) != 1 {
		t.Errorf("%v", v)
	}
	// Before signing, the key that is kept tells the same.
	if plain := ok(t, dir, "handover", "saltmarsh.example.zone", "--keys", "k"); plain != out {
		t.Errorf("from the key:\n%s", plain)
	}
	want(t, fp(t, dir, "handover", "saltmarsh.example.zone"), 0, "none: the zone has no key")
}

func TestTampering(t *testing.T) {
	t.Parallel()
	dir := signed(t)
	text := read(t, filepath.Join(dir, "signed.zone"))
	for what, c := range map[string]struct{ from, to, code string }{
		"an address":  {"IN\tA\t198.51.100.25", "IN\tA\t198.51.100.26", "bad-signature"},
		"a new name":  {"mail\t3600\tIN\tA", "spy\t60\tIN\tA\t192.0.2.66\nmail\t3600\tIN\tA", "missing-nsec"},
		"a lost name": {"cam-east\t3600\tIN\tA\t198.51.100.41\n", "", "wrong-nsec-types"},
	} {
		changed := strings.Replace(text, c.from, c.to, 1)
		if changed == text {
			t.Fatalf("%s: nothing to change", what)
		}
		write(t, filepath.Join(dir, "bad.zone"), changed)
		want(t, fp(t, dir, "verify", "bad.zone", clock), 1, c.code)
	}
}

func TestSignRefusals(t *testing.T) {
	t.Parallel()
	dir := signed(t)
	keys, _ := filepath.Glob(filepath.Join(dir, "k", "*.pem"))
	if err := os.Chmod(keys[0], 0o644); err != nil {
		t.Fatal(err)
	}
	want(t, fp(t, dir, "sign", "saltmarsh.example.zone", "--keys", "k", "-o", "x.zone"), 3, "others can read it", "chmod 600")
	want(t, fp(t, dir, "sign", "saltmarsh.example.zone", "--keys", "empty", "-o", "x.zone"), 3, "fencepost key new saltmarsh.example --keys empty")
	want(t, fp(t, dir, "sign", "saltmarsh.example.zone"), 3, "--keys DIR")
	write(t, filepath.Join(dir, "bad.zone"), read(t, demoData+"/estuary.example.zone"))
	want(t, fp(t, dir, "sign", "bad.zone", "--keys", "k", "-o", "x.zone"), 1, "nothing was signed")
	want(t, fp(t, dir, "key", "new", "x.example", "--keys", "k2", "--algorithm", "RSAMD5"), 2, "write ECDSAP256SHA256")
	want(t, fp(t, dir, "key", "new", "x.example", "--keys", "k2", "--role", "boss"), 2, "single, ksk or zsk")
	want(t, fp(t, dir, "sign", "saltmarsh.example.zone", "--keys", "empty", "-o", "saltmarsh.example.zone"), 2, "write the signed zone to another file")
	if _, err := os.Stat(filepath.Join(dir, "x.zone")); err == nil {
		t.Error("a refused signing wrote a file")
	}
	ok(t, dir, "key", "new", "split.example", "--keys", "s", "--role", "ksk")
	ok(t, dir, "key", "new", "split.example", "--keys", "s", "--role", "zsk")
	write(t, filepath.Join(dir, "split.example.zone"), "$TTL 60\n@ SOA ns.other. h 1 7200 900 1209600 300\n@ NS ns.other.\n@ NS ns2.other.\n")
	ok(t, dir, "sign", "split.example.zone", "--keys", "s", "-o", "split.signed", clock)
	want(t, fp(t, dir, "verify", "split.signed", clock), 0, "proved")
}

// verify tells a mistyped DS from one of another key, puts what has one cause together,
// and finds signatures that are about to end.
func TestVerifyCauses(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	text := tides
	for i := range 30 {
		text += fmt.Sprintf("h%d A 192.0.2.%d\n", i, i+1)
	}
	write(t, filepath.Join(dir, "tides.example.zone"), text)
	ok(t, dir, "key", "new", "tides.example", "--keys", "keys")
	ok(t, dir, "sign", "tides.example.zone", "--keys", "keys", "-o", "signed", "--denial", "nsec3")
	verify := []string{"verify", "signed", "--origin", "tides.example"}
	var tag string
	for _, f := range strings.Split(ok(t, dir, "key", "list", "tides.example", "--keys", "keys"), "\n")[1:] {
		tag = strings.Fields(f)[0]
		break
	}
	ds := strings.Fields(strings.Split(ok(t, dir, "key", "export", "tides.example", tag, "--keys", "keys", "--as", "ds"), "\n")[0])
	data := ds[len(ds)-4:]
	want(t, fp(t, dir, append(verify, "--ds", strings.Join(data, " "))...), 0, "the keys follow")
	swapped := []byte(data[3])
	for i := range swapped[1:] { // two digits exchanged, as in copying by hand
		if swapped[i] != swapped[i+1] {
			swapped[i], swapped[i+1] = swapped[i+1], swapped[i]
			break
		}
	}
	want(t, fp(t, dir, append(verify, "--ds", strings.Join(append(data[:3:3], string(swapped)), " "))...), 1, "the DS of key "+tag+" is mistyped in its digest: it has to be "+strings.Join(data, " "))
	want(t, fp(t, dir, append(verify, "--ds", "1 "+strings.Join(data[1:], " "))...), 1, "mistyped in its key tag")
	want(t, fp(t, dir, append(verify, "--ds", "1 13 2 "+strings.Repeat("AB", 32))...), 1, "of key 1, which the zone does not have")
	want(t, fp(t, dir, append(verify, "--expires-within", "20d")...), 0, "proved")
	want(t, fp(t, dir, append(verify, "--expires-within", "40d")...), 1, "signature-expires-soon")
	want(t, fp(t, dir, append(verify, "--expires-within", "soon")...), 2, "5d or 36h")
	signed := read(t, filepath.Join(dir, "signed"))
	write(t, filepath.Join(dir, "signed"), strings.ReplaceAll(signed, "NSEC3PARAM\t1 0 0 -", "NSEC3PARAM\t1 0 0 ABCD"))
	r := fp(t, dir, verify...)
	want(t, r, 1, "nsec3-parameters")
	if n := strings.Count(r.out, "  error  "); n > 3 {
		t.Errorf("one wrong salt has %d findings:\n%s", n, r.out)
	}
	write(t, filepath.Join(dir, "signed"), strings.ReplaceAll(signed, "\tA\t192.0.2.", "\tA\t192.0.3."))
	r = fp(t, dir, verify...)
	want(t, r, 1, "bad-signature", "more of the kind")
	if n := strings.Count(r.out, "  error  "); n > 4 {
		t.Errorf("one cause has %d findings:\n%s", n, r.out)
	}
}
