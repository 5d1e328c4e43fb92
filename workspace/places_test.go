package workspace

import (
	"fmt"
	"strings"
	"testing"

	"fencepost/diag"
	"fencepost/source"
)

// All mistakes of a configuration are told at once, each at its place: in sections, in dotted keys, in
// inline tables and over several lines; and what only follows from one is not told.
func TestAllMistakes(t *testing.T) {
	for what, c := range map[string]struct {
		text string
		want []string // line:column code
	}{
		"sections": {`[serve]
listen = ["127.0.0.1:53000x"]
nsid = 7
[serial]
style = "lunar"
[peer.harbour]
adress = "192.0.2.1"
[policy.standard]
algorithm = "ROT13"
bits = "many"
[[zone]]
name = "a..example"
[[zone]]
name = "tides.example"
send-to = ["dune"]
`, []string{"2:1 config-bad-value", "3:8 config-bad-value", "5:1 config-bad-value", "7:1 config-unknown-key", "9:1 config-bad-value", "10:8 config-bad-value", "12:1 config-bad-value", "15:1 config-missing-reference"}},
		"other layouts": {`serial = { style = "lunar" }
serve.listen = [
  "127.0.0.1:5300",
  "nowhere",
]
peer = { harbour = { address = "dune" }, reef = { address = "192.0.2.2" } }
zone = [ { name = "tides.example", send-to = ["gull"] }, { name = "x..y" } ]
`, []string{"1:12 config-bad-value", "2:1 config-bad-value", "6:22 config-bad-value", "7:36 config-missing-reference", "7:60 config-bad-value"}},
		"quoted names": {"[peer.\"the harbour\"]\naddress = \"nowhere\"\n", []string{"2:1 config-bad-value"}},
		"CRLF":         {"[serial]\r\nstyle = \"lunar\"\r\n[[zone]]\r\nname = \"a..b\"\r\n", []string{"2:1 config-bad-value", "4:1 config-bad-value"}},
		"no TOML":      {"[serve\nlisten = 7\n", []string{"1:7 config-syntax"}},
		"nothing":      {"", nil},
	} {
		src, diags := &source.Set{}, &diag.List{}
		f, err := src.Add("fencepost.toml", []byte(c.text))
		if err != nil {
			t.Fatal(err)
		}
		conf, err := LoadText(t.TempDir(), f, src, diags)
		if err != nil {
			t.Fatal(err)
		}
		diags.Sort()
		var got []string
		for _, d := range diags.All {
			p := src.Position(d.Span.Start)
			got = append(got, fmt.Sprintf("%d:%d %s", p.Line, p.Column, d.Rule.Code))
		}
		if strings.Join(got, ", ") != strings.Join(c.want, ", ") || (conf == nil) != (len(c.want) > 0) {
			t.Errorf("%s: %v, want %v", what, got, c.want)
			for _, d := range diags.All {
				t.Log(src.Position(d.Span.Start), d.Message)
			}
		}
	}
}

// Whatever a configuration is like, reading it ends, and findings lie in it.
func FuzzConfig(f *testing.F) {
	f.Add("[serve]\nlisten = [\"127.0.0.1:0\"]\n[[zone]]\nname = \"tides.example\"\n")
	f.Add("peer = { a = { address = 7 }, b.c = {} }\nzone = [ {}, { name = [] } ]\n")
	f.Add("[[zone]]\nname = 7\n[[zone]]\nsend-to = 7\n[zone]\n")
	f.Fuzz(func(t *testing.T, text string) {
		src, diags := &source.Set{}, &diag.List{}
		file, err := src.Add("fencepost.toml", []byte(text))
		if err != nil {
			t.Skip()
		}
		c, err := LoadText(t.TempDir(), file, src, diags)
		if err != nil {
			t.Fatal(err)
		}
		if c == nil && diags.Count(diag.Error) == 0 {
			t.Error("nothing is wrong, and there is no configuration")
		}
		for _, d := range diags.All {
			if from, to := file.Offset(d.Span.Start), file.Offset(d.Span.End); from < 0 || to < from || to > len(text) {
				t.Errorf("%s lies at %d to %d of %d", d.Message, from, to, len(text))
			}
		}
	})
}
