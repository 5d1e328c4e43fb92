package ui

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"fencepost/diag"
	"fencepost/source"
)

func TestSARIFPlaces(t *testing.T) {
	var src source.Set
	f, err := src.Add("zones/a b.zone", []byte("x\nbü A 1\n"))
	if err != nil {
		t.Fatal(err)
	}
	g, err := src.Add("/abs/c.zone", []byte("y\n"))
	if err != nil {
		t.Fatal(err)
	}
	rule := &diag.Rule{Code: "some-rule", Severity: diag.Warning, Title: "title", Doc: "doc", Ref: "RFC 1035"}
	l := &diag.List{}
	at := source.Span{Start: f.Pos(6), End: f.Pos(7)} // the A: the fourth character, the fifth octet
	d := rule.At(at, "wrong").Suggest("right").See(source.Span{Start: g.Pos(0), End: g.Pos(1)}, "there")
	d.Fix = &diag.Fix{Edits: []diag.Edit{{Span: at, New: "AAAA"}}}
	l.Add(d)
	l.Add(rule.At(source.Span{}, "about nothing in particular"))
	var out bytes.Buffer
	u, err := New(&out, &out, "never", false, false)
	if err != nil {
		t.Fatal(err)
	}
	if err := u.SARIF(&src, l, "1.0"); err != nil {
		t.Fatal(err)
	}
	var log sarifLog
	if err := json.Unmarshal(out.Bytes(), &log); err != nil {
		t.Fatal(err)
	}
	r := log.Runs[0].Results
	if len(r) != 2 || len(log.Runs[0].Tool.Driver.Rules) != 1 || log.Runs[0].ColumnKind != "unicodeCodePoints" {
		t.Fatalf("%s", out.String())
	}
	p := r[0].Locations[0].Physical
	if p.Artifact.URI != "zones/a%20b.zone" || *p.Region != (sarifRegion{2, 4, 2, 5}) {
		t.Errorf("%+v %+v", p, *p.Region)
	}
	if rel := r[0].Related[0]; rel.Physical.Artifact.URI != "file:///abs/c.zone" || rel.Message.Text != "there" || rel.ID != 1 {
		t.Errorf("%+v", rel)
	}
	if fix := r[0].Fixes[0].Changes[0].Replacements[0]; fix.Inserted.Text != "AAAA" || fix.Deleted != (sarifRegion{2, 4, 2, 5}) {
		t.Errorf("%+v", fix)
	}
	if r[1].Locations[0].Physical.Region != nil {
		t.Error("a finding about no text has a region")
	}
	out.Reset()
	if err := u.SARIF(&src, &diag.List{}, ""); err != nil || !strings.Contains(out.String(), `"results": []`) || !strings.Contains(out.String(), `"rules": []`) {
		t.Errorf("without findings: %s", out.String())
	}
}
