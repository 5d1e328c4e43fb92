package edit

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"fencepost/diag"
	"fencepost/source"
	"fencepost/zone"
	"fencepost/zonefile"
)

// versionOf reads a version of a zone.
func versionOf(t *testing.T, path string) *zone.Snapshot {
	t.Helper()
	a := &Files{Now: time.Now}
	src, diags := &source.Set{}, &diag.List{}
	text, err := a.Reader().Open(src, path, OriginOf(path))
	if err != nil {
		t.Fatal(err)
	}
	z, err := a.Reader().Read(text, diags)
	if err != nil {
		t.Fatal(err)
	}
	return z.Snapshot
}

// Whatever edit is made for an audience, everyone's version and other zones stay as they are, to
// the serial; and an edit of everyone's version says which others it changes. Records stand in the
// files of the versions, in one that they include, and in one that another zone includes too.
func TestEditsForAudience(t *testing.T) {
	now := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	names := []string{"www", "db", "mail", "lab"}
	done, refused, shared := 0, 0, 0
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 20))
		dir := t.TempDir()
		put := func(name, text string) string {
			path := filepath.Join(dir, name)
			if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
			return path
		}
		some := func(kind int) (out string) {
			for _, n := range names {
				if r.IntN(2) == 0 {
					out += fmt.Sprintf("%s A 192.0.2.%d\n", n, 10*kind+r.IntN(3))
				}
			}
			return out
		}
		put("fencepost.toml", "[audience.inside]\nnetworks = [\"198.51.100.0/24\"]\n[[zone]]\nname = \"office.example\"\naudiences = [\"inside\"]\n[[zone]]\nname = \"other.example\"\n")
		head := "$TTL 60\n@ SOA ns hostmaster %d 5400 1200 1209600 600\n@ NS ns.saltmarsh.example.\n@ NS ns2.saltmarsh.example.\n"
		put("zones/office.example.part", some(1)+"ns A 192.0.2.1\n")
		put("zones/common.part", some(2))
		include := []string{"", "$INCLUDE office.example.part\n"}
		common := []string{"", "$INCLUDE common.part\n"}
		files := []string{
			put("zones/office.example.zone", fmt.Sprintf(head, 1)+some(3)+include[1]+common[r.IntN(2)]),
			put("zones/office.example@inside.zone", fmt.Sprintf(head, 100)+some(4)+include[r.IntN(2)]+common[r.IntN(2)]),
			put("zones/other.example.zone", fmt.Sprintf(head, 200)+"ns A 192.0.2.1\n"+common[r.IntN(2)]),
		}
		a := &Files{Workspace: dir, Now: func() time.Time { return now }}
		for range 4 {
			var before, after []*zone.Snapshot
			texts := map[string]string{}
			for _, f := range files {
				before = append(before, versionOf(t, f))
			}
			every, _ := filepath.Glob(filepath.Join(dir, "zones", "*"))
			for _, f := range every {
				text, _ := os.ReadFile(f)
				texts[f] = string(text)
			}
			operand := []string{"office.example@inside", files[1], "office.example"}[r.IntN(3)]
			name := names[r.IntN(len(names))]
			rec := RecordArg{Owner: name, Type: "A", Data: []string{fmt.Sprint("192.0.2.", 100+r.IntN(100))}}
			var res *Edited
			renamed := false
			var err error
			switch r.IntN(6) {
			case 0:
				res, err = a.Add(Edit{Zone: operand, Records: []RecordArg{rec}})
			case 1:
				res, err = a.Change(Edit{Zone: operand, Records: []RecordArg{rec}})
			case 2:
				res, err = a.Remove(Edit{Zone: operand, Records: []RecordArg{{Owner: name}}})
			case 3:
				renamed = true
				res, err = a.Rename(Rename{Zone: operand, From: name, To: "new-" + name})
			case 4:
				res, err = a.SetAside(Edit{Zone: operand, Records: []RecordArg{{Owner: name, Type: "A"}}}, zonefile.AsideNote{Why: "moving"})
			default:
				res, err = a.Restore(Restore{Zone: operand, Serial: 7, Version: before[r.IntN(2)]})
			}
			for _, f := range files {
				after = append(after, versionOf(t, f))
			}
			if err != nil {
				if strings.Contains(err.Error(), "includes too") {
					refused++
				}
				for _, f := range every {
					if text, _ := os.ReadFile(f); string(text) != texts[f] {
						t.Fatalf("seed %d: %v, and %s was changed", seed, err, f)
					}
				}
				continue
			}
			done++
			if strings.Contains(operand, "@") {
				for _, i := range []int{0, 2} {
					if !zone.Equal(before[i], after[i]) || before[i].Serial() != after[i].Serial() {
						t.Fatalf("seed %d: an edit of %s changes %s", seed, operand, files[i])
					}
				}
				continue
			}
			notes := strings.Join(res.Notes, "\n")
			for i, version := range []string{1: "office.example@inside", 2: "other.example"} {
				if i == 0 {
					continue
				}
				changed, own := !zone.Equal(before[i], after[i]), renamed && i == 1 // all versions are renamed
				if said := strings.Contains(notes, version); changed && !own && !said || said && !changed {
					t.Fatalf("seed %d: %s changes: %v; the notes are %q", seed, version, changed, notes)
				}
				if changed {
					shared++
				}
			}
			if alone := zone.Equal(before[1], after[1]); alone != strings.Contains(notes, "everyone sees this except inside") {
				t.Fatalf("seed %d: inside is left as it is: %v; the notes are %q", seed, alone, notes)
			}
		}
	}
	if done < 60 || refused < 10 || shared < 10 {
		t.Errorf("%d edits, %d refused, %d that others see: too few to tell anything", done, refused, shared)
	}
}
