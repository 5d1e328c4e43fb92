package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// What is mechanical is mended, shown and counted in the serial; the rest is reported.
func TestFix(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := filepath.Join(dir, "estuary.example.zone")
	write(t, path, read(t, filepath.Join(demoData, "estuary.example.zone")))
	r := fp(t, dir, "check", "estuary.example.zone", "--fix", clock)
	want(t, r, 1, "- @TTL 3600", "+ $TTL 3600", "+         IN MX   20 mx.harbour.example.", "wrote estuary.example.zone, serial 2026112001 → 2026112300", "address-leading-zero")
	if strings.Contains(r.out, "missing-final-dot\n  2") {
		t.Error("a finding that was mended is reported again")
	}
	text := read(t, path)
	if !strings.Contains(text, "$TTL 3600\n") || !strings.Contains(text, "192.0.2.010") || !strings.Contains(text, "2026112300") {
		t.Errorf("the file is now\n%s", text)
	}
	want(t, fp(t, dir, "check", "estuary.example.zone", "--fix", clock), 1, "nothing that can be fixed")
	if read(t, path) != text {
		t.Error("a second run changed the file again")
	}
}

// Severities and exceptions are the workspace's; an exception that is not needed
// is reported.
func TestExceptions(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ok(t, dir, "init", ".", "--zone", "lab.example", "--ns", "ns1=192.0.2.1", "--ns", "ns2=198.51.100.1")
	zone, config := filepath.Join(dir, "zones", "lab.example.zone"), filepath.Join(dir, "fencepost.toml")
	plain, toml := read(t, zone), read(t, config)
	write(t, zone, plain+"lo A 127.0.0.1\n")
	want(t, fp(t, dir, "check"), 0, "unusable-address")
	write(t, zone, plain+"lo A 127.0.0.1 ; fencepost allow unusable-address: on the machine itself\n")
	want(t, fp(t, dir, "check"), 0, "nothing to report")
	write(t, zone, plain+"; fencepost allow unusable-address\nlo A 127.0.0.1\n")
	want(t, fp(t, dir, "check"), 0, "nothing to report")
	write(t, zone, plain+"lo A 192.0.2.7 ; fencepost allow unusable-address\n")
	want(t, fp(t, dir, "check"), 0, "exception-unused")
	write(t, zone, plain+"lo A 127.0.0.1 ; fencepost allow unusable-adress\n")
	want(t, fp(t, dir, "check"), 0, "did you mean unusable-address?")
	write(t, zone, plain+"lo A 127.0.0.300 ; fencepost allow address-out-of-range\n")
	want(t, fp(t, dir, "check"), 1, "is over 255", "no finding address-out-of-range that can be allowed")

	write(t, zone, plain+"lo A 127.0.0.1\n")
	write(t, config, toml+"\n[check.severity]\nunusable-address = \"error\"\n")
	want(t, fp(t, dir, "check"), 1, "error  unusable-address")
	want(t, fp(t, dir, "add", "lab.example", "lo", "A", "127.0.0.2"), 1, "nothing was changed")
	write(t, config, toml+"\n[check.severity]\nunusable-address = \"off\"\n")
	want(t, fp(t, dir, "check"), 0, "nothing to report")
	write(t, config, toml+"\n[[check.allow]]\ncode = \"unusable-address\"\nzone = \"lab.example\"\nname = \"lo\"\n")
	want(t, fp(t, dir, "check"), 0, "nothing to report")
	write(t, config, toml+"\n[[check.allow]]\ncode = \"alias-loop\"\n")
	want(t, fp(t, dir, "check"), 0, "exception-unused", "fencepost.toml:")
	write(t, config, toml+"\n[check.severity]\nunusable-addres = \"off\"\n")
	want(t, fp(t, dir, "check"), 1, "config-bad-value", "did you mean unusable-address?")
	write(t, config, toml+"\n[check.severity]\nunusable-address = \"grave\"\n")
	want(t, fp(t, dir, "check"), 1, "error, warning, note or off")
}

// A zone that changed after it was served needs a new serial, whether the server
// runs or not.
func TestSerialNotMoved(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ok(t, dir, "init", ".", "--zone", "lab.example", "--ns", "ns1=192.0.2.1", "--ns", "ns2=198.51.100.1", clock)
	zone := filepath.Join(dir, "zones", "lab.example.zone")
	write(t, filepath.Join(dir, "fencepost.toml"), "[serve]\nlisten = [\"127.0.0.1:0\"]\n[[zone]]\nname = \"lab.example\"\n")
	s := serve(t, dir)
	write(t, zone, read(t, zone)+"web A 192.0.2.80\n")
	want(t, fp(t, dir, "check", clock), 1, "serial-not-moved", "changed since serial 2026112300 was put in service")
	s.stop()
	want(t, fp(t, dir, "check", clock), 1, "serial-not-moved")
	want(t, fp(t, dir, "check", "--fix", clock), 0, "2026112301", "nothing to report")
	if !strings.Contains(read(t, zone), "2026112301") {
		t.Error("the serial was not raised")
	}
}

func TestModes(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ok(t, dir, "init", ".", "--zone", "lab.example", "--ns", "ns1=192.0.2.1", "--ns", "ns2=198.51.100.1")
	keys := filepath.Join(dir, "keys", "lab.example")
	ok(t, dir, "key", "new", "lab.example")
	want(t, fp(t, dir, "check"), 0, "nothing to report")
	if err := os.Chmod(keys, 0o750); err != nil {
		t.Fatal(err)
	}
	want(t, fp(t, dir, "check"), 1, "key-readable", "chmod 700 keys/lab.example")
	if err := os.Chmod(filepath.Join(dir, "zones", "lab.example.zone"), 0o666); err != nil {
		t.Fatal(err)
	}
	want(t, fp(t, dir, "check"), 1, "zone-file-writable")
}

// The log has what SARIF 2.1.0 requires: version, rules that results point to by
// index, and levels and regions of the permitted kinds.
func TestSARIF(t *testing.T) {
	t.Parallel()
	r := fp(t, demoData, "check", "estuary.example.zone", "--format", "sarif")
	want(t, r, 1)
	var log struct {
		Schema  string `json:"$schema"`
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct {
					Name  string
					Rules []struct {
						ID               string
						ShortDescription struct{ Text string }
					}
				}
			}
			ColumnKind string
			Results    []struct {
				RuleID    string `json:"ruleId"`
				RuleIndex int    `json:"ruleIndex"`
				Level     string
				Message   struct{ Text string }
				Locations []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine, StartColumn, EndLine, EndColumn int }
					}
				}
				Fixes []struct {
					ArtifactChanges []struct {
						Replacements []struct {
							DeletedRegion   struct{ StartLine int }
							InsertedContent struct{ Text string }
						}
					}
				}
			}
		}
	}
	if err := json.Unmarshal([]byte(r.out), &log); err != nil {
		t.Fatal(err)
	}
	if log.Version != "2.1.0" || !strings.Contains(log.Schema, "sarif-schema-2.1.0") || len(log.Runs) != 1 || len(log.Runs[0].Results) < 10 {
		t.Fatalf("version %s, %d runs", log.Version, len(log.Runs))
	}
	run, fixes := log.Runs[0], 0
	for _, res := range run.Results {
		if run.Tool.Driver.Rules[res.RuleIndex].ID != res.RuleID || res.Message.Text == "" || len(res.Locations) != 1 {
			t.Errorf("%+v", res)
		}
		if res.Level != "error" && res.Level != "warning" && res.Level != "note" {
			t.Errorf("level %s", res.Level)
		}
		at := res.Locations[0].PhysicalLocation
		if at.ArtifactLocation.URI != "estuary.example.zone" || at.Region.StartLine < 1 || at.Region.StartColumn < 1 || at.Region.EndLine < at.Region.StartLine ||
			at.Region.EndLine == at.Region.StartLine && at.Region.EndColumn < at.Region.StartColumn {
			t.Errorf("%s: %+v", res.RuleID, at)
		}
		for _, f := range res.Fixes {
			fixes += len(f.ArtifactChanges[0].Replacements)
		}
	}
	if fixes < 4 {
		t.Errorf("%d mends", fixes)
	}
}

// A text from standard input is checked like a file, and fixes can be looked at first.
func TestStdinAndDryFix(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	text := "$ORIGIN x.example.\n$TTL 3600\n@ SOA ns1 h 1 5400 1200 1209600 600\n@ NS ns1\n@ NS ns2.other.example.\n# the server\nns1 A 600 192.0.2.1\n"
	path := filepath.Join(dir, "x.zone")
	write(t, path, text)
	want(t, fpIn(t, dir, text, "check", "-"), 1, "standard input:6:1", "comment-sign", "standard input:7:5", "field-order")
	want(t, fpIn(t, dir, strings.Replace(text, "$ORIGIN x.example.\n", "", 1), "check", "-", "--origin", "x.example"), 1, "standard input:5:1")
	want(t, fpIn(t, dir, text, "check", "-", "x.zone", "--format", "json"), 1, `"standard input"`, `"x.zone"`)
	want(t, fpIn(t, dir, text, "check", "-", "--fix"), 1, "nothing that can be fixed")
	want(t, fp(t, dir, "check", "-", "--watch"), 2, "cannot be watched")
	want(t, fp(t, dir, "check", "x.zone", "--dry-run"), 2, "goes with --fix")
	want(t, fp(t, dir, "check", "x.zone", "--fix", "--dry-run"), 1, "+ ; the server", "+ ns1 600 A 192.0.2.1", "would write x.zone, serial 1 → 20")
	if read(t, path) != text {
		t.Error("a dry run changed the file")
	}
	want(t, fp(t, dir, "check", "x.zone", "--fix"), 0, "wrote x.zone", "nothing to report")
}
