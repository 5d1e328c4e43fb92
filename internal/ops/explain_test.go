package ops

import (
	"strings"
	"testing"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zonefile"
)

// Every type that is written in fields of its own has an example, which is read without
// an error and is of the type.
func TestTypeExamples(t *testing.T) {
	const head = "$ORIGIN saltmarsh.example.\n$TTL 3600\n"
	for _, word := range rr.Mnemonics() {
		typ, _ := rr.ParseType(word)
		info := rr.Lookup(typ)
		example := info.Example()
		if example == "" {
			if len(info.Fields) > 0 && info.Use == rr.Data {
				t.Errorf("%s has no example: OWNER %s", word, info.Synopsis())
			}
			continue
		}
		src, diags := &source.Set{}, &diag.List{}
		f, err := src.Add("z", []byte(head+example+"\n"))
		if err != nil {
			t.Fatal(err)
		}
		tree := zonefile.Parse(f, zonefile.Options{Origin: dnsname.MustParse("saltmarsh.example")}, diags)
		var found []string
		for _, d := range diags.All {
			found = append(found, d.Message)
		}
		if len(found) > 0 || tree == nil || !strings.Contains(example, " "+word+" ") {
			t.Errorf("%s: %s: %q", word, example, found)
		}
	}
}
