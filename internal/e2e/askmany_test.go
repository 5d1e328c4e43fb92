package e2e

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
)

// Questions from a file: each is put as often as it should be, and what came of them adds up.
func TestAskMany(t *testing.T) {
	t.Parallel()
	dir := inWorld(t, "\n[[fault]]\nkind = \"away\"\nserver = \"ns.harbour.example\"\n")
	var lines []string
	for i := range 300 {
		lines = append(lines, []string{"www.saltmarsh.example", "saltmarsh.example MX", fmt.Sprintf("n%d.saltmarsh.example", i), "198.51.100.25 # a comment", "www.elsewhere.test"}[i%5])
	}
	write(t, filepath.Join(dir, "q.txt"), "# questions\r\n\r\n"+strings.Join(lines, "\r\n"))
	type summary struct {
		Questions    int
		Codes        map[string]int
		NoAnswer     int `json:"no_answer"`
		Milliseconds struct{ Least, Median, P90, P99, Most float64 }
		Trouble      []struct{ Question, Problem string }
	}
	run := func(status int, args ...string) (s summary) {
		t.Helper()
		r := fp(t, dir, append([]string{"ask", "--from", "q.txt", "--format", "json"}, args...)...)
		if err := json.Unmarshal([]byte(r.out), &s); err != nil || r.status != status {
			t.Fatalf("status %d, %v: %s%s", r.status, err, r.out, r.err)
		}
		return s
	}
	s := run(1, "--at", "198.51.100.53", "--rate", "100000")
	if s.Questions != 300 || s.Codes["NOERROR"] != 180 || s.Codes["NXDOMAIN"] != 60 || s.Codes["REFUSED"] != 60 || len(s.Trouble) != 1 || s.Trouble[0].Question != "www.elsewhere.test A" {
		t.Errorf("%+v", s)
	}
	if m := s.Milliseconds; !(m.Least <= m.Median && m.Median <= m.P90 && m.P90 <= m.P99 && m.P99 <= m.Most && m.Least > 0) {
		t.Errorf("times %+v", m)
	}
	if s := run(1, "--at", "198.51.100.53", "--count", "707", "--rate", "100000"); s.Questions != 707 || s.Codes["REFUSED"] != 2*60+21 {
		t.Errorf("%+v", s)
	}
	if s := run(0, "--at", "198.51.100.53", "--count", "1"); s.Questions != 1 || s.Codes["NOERROR"] != 1 {
		t.Errorf("%+v", s)
	}
	if s := run(3, "--at", "203.0.113.53", "--count", "3", "--attempts", "1", "--timeout", "100ms"); s.NoAnswer != 3 || s.Questions != 3 {
		t.Errorf("%+v", s)
	}
	for text, says := range map[string]string{"": "has no questions", "a b c\n": "line 1", "\n# x\nwww.example FOO\n": "line 3"} {
		write(t, filepath.Join(dir, "q.txt"), text)
		want(t, fp(t, dir, "ask", "--from", "q.txt", "--at", "198.51.100.53"), 2, says)
	}
}
