package ops

import (
	"path/filepath"
	"testing"
	"time"

	"fencepost/internal/edit"
)

// In an editor a file of expectations has its own findings, not those of a zone.
func TestExpectBuffer(t *testing.T) {
	a := &App{Files: edit.Files{Workspace: t.TempDir(), Now: time.Now}}
	path := filepath.Join(t.TempDir(), "saltmarsh.example.expect")
	for text, want := range map[string]string{
		"zone saltmarsh.example\nwww A is 198.51.100.80\n":  "",
		"zone saltmarsh.example\nwww A iss 198.51.100.80\n": "expectation-not-understood",
		"zone saltmarsh.example\nwww A is 198.51.100.800\n": "expectation-data",
		"www A is 198.51.100.80\n":                          "expectation-without-zone",
	} {
		b := a.CheckBuffer(path, text, nil)
		got := ""
		for _, d := range b.Diags.All {
			got += d.Rule.Code
		}
		if got != want || b.Main == nil || b.File != nil {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}
