package e2e

import (
	"path/filepath"
	"strings"
	"testing"
)

// What is set aside is gone for askers and stays in the file, through tidying and other edits, until
// it is put back, with its PTR record.
func TestSetAside(t *testing.T) {
	t.Parallel()
	dir := estate(t)
	ok(t, dir, "add", "saltmarsh.example", "cam[1-3]", "A", "198.51.100.[31-33]", "--ptr", clock)
	file := filepath.Join(dir, "zones", "saltmarsh.example.zone")
	write(t, file, strings.Replace(read(t, file), "198.51.100.32", "198.51.100.32 ; on the mast", 1))
	ok(t, dir, "set-aside", "saltmarsh.example", "cam2", "A", "--because", "the lens is broken", "--ptr", clock)
	want(t, fp(t, dir, "ask", "cam2.saltmarsh.example", "--zone", "saltmarsh.example"), 0, "NXDOMAIN")
	want(t, fp(t, dir, "ask", "198.51.100.32", "--zone", "100.51.198.in-addr.arpa"), 0, "NXDOMAIN")
	ok(t, dir, "tidy", "saltmarsh.example", clock)
	ok(t, dir, "add", "saltmarsh.example", "cam4", "A", "198.51.100.34", clock)
	text := read(t, file)
	if !strings.Contains(text, "because the lens is broken\n;~ cam2") || !strings.Contains(text, "; on the mast") {
		t.Fatalf("it is not in the file any more:\n%s", text)
	}
	want(t, fp(t, dir, "find", "198.51.100.32"), 0, "set aside 20", "because the lens is broken")
	want(t, fp(t, dir, "set-aside", "saltmarsh.example", "cam2", "--because", "twice"), 0, "set aside already")
	want(t, fp(t, dir, "set-aside", "saltmarsh.example", "cam1", "--because", "two\nlines"), 2, "one line")
	want(t, fp(t, dir, "set-aside", "saltmarsh.example", "@", "NS", "--because", "x"), 1, "nothing was changed")
	want(t, fp(t, dir, "put-back", "saltmarsh.example", "cam1"), 3, "set aside are: cam2 A")
	ok(t, dir, "put-back", "saltmarsh.example", "cam2", "--ptr", clock)
	want(t, fp(t, dir, "ask", "cam2.saltmarsh.example", "--zone", "saltmarsh.example"), 0, "198.51.100.32")
	want(t, fp(t, dir, "ask", "198.51.100.32", "--zone", "100.51.198.in-addr.arpa"), 0, "cam2.saltmarsh.example.")
	if text := read(t, file); strings.Contains(text, ";~") || !strings.Contains(text, "198.51.100.32 ; on the mast") {
		t.Errorf("put back the file says\n%s", text)
	}
}
