package ops

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"fencepost/internal/edit"
)

// What somebody writes between an edit and its being handed to the server is not taken for
// the edit: the stamp is that of the text which was checked, however long ago.
func TestStepIsOfWhatWasChecked(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "zones", "tides.example.zone")
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		t.Fatal(err)
	}
	put(t, filepath.Join(dir, "fencepost.toml"), "[[zone]]\nname = \"tides.example\"\n")
	put(t, file, "$TTL 3600\n@ SOA ns1 hostmaster 2026112801 5400 1200 1209600 600\n  NS ns1\n  NS ns2.saltmarsh.example.\nns1 A 192.0.2.53\n")
	a := &App{Files: edit.Files{Workspace: dir, Now: time.Now}}
	c, err := a.Config()
	if err != nil {
		t.Fatal(err)
	}
	read := howRead(c)[nil]
	for _, meddled := range []bool{false, true} {
		done, err := a.Add(edit.Edit{Zone: "tides.example", Records: []edit.RecordArg{{Owner: "h" + time.Now().Format("150405.000"), Type: "TXT", Data: []string{"x"}}}})
		if err != nil || len(done.Files) != 1 {
			t.Fatal(err)
		}
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		if meddled {
			put(t, file, string(text)+"more TXT meanwhile\n")
		}
		old := time.Now().Add(-time.Hour)
		if err := os.Chtimes(file, old, old); err != nil { // as if it were long ago
			t.Fatal(err)
		}
		st := stepOf(done.Files[0], c)
		if st == nil {
			t.Fatal("there is no step")
		}
		if _, same := stillStamped(st.Stamp, read); same == meddled {
			t.Errorf("written to meanwhile: %v; the files count as those of the edit: %v", meddled, same)
		}
	}
}
