package fencepost_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

func readFile(t *testing.T, path string) string {
	t.Helper()
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

// Every local link in the documents leads to a file, and every screenshot is
// linked.
func TestLinks(t *testing.T) {
	docs, _ := filepath.Glob("*.md")
	more, _ := filepath.Glob("docs/*.md")
	link := regexp.MustCompile(`\]\(([^)#]+)(#[^)]*)?\)`)
	linked := map[string]bool{}
	for _, doc := range append(docs, more...) {
		for _, m := range link.FindAllStringSubmatch(readFile(t, doc), -1) {
			if strings.Contains(m[1], "://") {
				continue
			}
			target := filepath.Join(filepath.Dir(doc), m[1])
			linked[target] = true
			if _, err := os.Stat(target); err != nil {
				t.Errorf("%s links to %s, which does not exist", doc, m[1])
			}
		}
	}
	shots, _ := filepath.Glob("docs/screenshots/*.png")
	for _, s := range shots {
		if !linked[s] {
			t.Errorf("%s is linked nowhere", s)
		}
	}
}

// Tests do not look for a bare number in what a program says: keys, signatures, ports and times
// hold any number now and then.
func TestNoBareNumbers(t *testing.T) {
	bare := regexp.MustCompile(`strings\.(Contains|Index|Count)\([^"\n]+, "[0-9]{1,6}"\)`)
	files, _ := filepath.Glob("*/*_test.go")
	more, _ := filepath.Glob("*/*/*_test.go")
	for _, f := range append(files, more...) {
		for _, m := range bare.FindAllString(readFile(t, f), -1) {
			t.Errorf("%s: %s: look for more than a number", f, m)
		}
	}
}
