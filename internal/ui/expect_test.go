package ui

import (
	"encoding/xml"
	"strings"
	"testing"
)

// The formats of test tools hold what there is, whatever stands in it.
func TestFormatsOfTests(t *testing.T) {
	cases := []TestCase{
		{Suite: "a.expect", Group: "Web", Name: `www TXT is "a # b \ <c>"`, File: "a.expect", Line: 3},
		{Suite: "a.expect", Name: "old does not exist", File: "a.expect", Line: 4, Failed: true, Message: `A "x" & <y>`},
		{Suite: "b.expect", Name: "www A is signed", File: "b.expect", Line: 2, Skipped: true, Message: "a file"},
	}
	var tap, junit strings.Builder
	if err := TAP(&tap, cases); err != nil {
		t.Fatal(err)
	}
	const want = `TAP version 14
1..3
ok 1 - www TXT is "a \# b \\ <c>"
not ok 2 - old does not exist
  ---
  message: "A \"x\" & <y>"
  at: "a.expect:4"
  ...
ok 3 - www A is signed # SKIP a file
`
	if tap.String() != want {
		t.Errorf("TAP:\n%s", tap.String())
	}
	if err := JUnit(&junit, cases); err != nil {
		t.Fatal(err)
	}
	var back junitSuites
	if err := xml.Unmarshal([]byte(junit.String()), &back); err != nil {
		t.Fatal(err)
	}
	a, b := back.Suites[0], back.Suites[1]
	if len(back.Suites) != 2 || a.Tests != 2 || a.Failures != 1 || b.Skipped != 1 || a.Cases[0].Name != cases[0].Name || a.Cases[0].Class != "Web" ||
		a.Cases[1].Failure.Message != cases[1].Message || a.Cases[0].Failure != nil || b.Cases[0].Skipped == nil {
		t.Errorf("JUnit:\n%s", junit.String())
	}
}
