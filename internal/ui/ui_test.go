package ui

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/source"
)

func show(t *testing.T, text, color string, asJSON bool, find func(f *source.File) []diag.Diagnostic) string {
	t.Helper()
	var out bytes.Buffer
	u, err := New(&out, &out, color, asJSON, false)
	if err != nil {
		t.Fatal(err)
	}
	var src source.Set
	f, err := src.Add("x.zone", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	var l diag.List
	for _, d := range find(f) {
		l.Add(d)
	}
	if err := u.Findings(&src, &l); err != nil {
		t.Fatal(err)
	}
	return out.String()
}

var rule = &diag.Rule{Code: "test-rule", Severity: diag.Warning, Ref: "RFC 1"}

func span(f *source.File, from, to int) source.Span {
	return source.Span{Start: f.Pos(from), End: f.Pos(to)}
}

func TestExcerpt(t *testing.T) {
	text := "a\tA 192.0.2.256\nsecond line\n"
	got := show(t, text, "never", false, func(f *source.File) []diag.Diagnostic {
		return []diag.Diagnostic{rule.At(span(f, 4, 15), "it is wrong").Suggest("do this").See(span(f, 16, 22), "over there")}
	})
	want := "x.zone:1:5  warning  test-rule\n" +
		"  1 │ a  A 192.0.2.256\n" +
		"    │      ‾‾‾‾‾‾‾‾‾‾‾\n" +
		"    it is wrong\n" +
		"    → do this\n" +
		"    see x.zone:2:1: over there\n\n"
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

// Whatever the text, an excerpt is one safe line with its mark below.
func TestHostileText(t *testing.T) {
	for _, text := range []string{"\x1b[31mred\x07\x00 A", strings.Repeat("x", 5000), "\xff\xfe\x80 bad utf-8", "日本語 name", "", "\n", "\r\n"} {
		for at := 0; at <= len(text); at += max(1, len(text)/7) {
			got := show(t, text, "never", false, func(f *source.File) []diag.Diagnostic {
				return []diag.Diagnostic{rule.At(span(f, at, min(at+3, len(text))), "m")}
			})
			if strings.ContainsAny(got, "\x1b\x07\x00\r") {
				t.Errorf("control characters of %q reach the terminal: %q", text, got)
			}
			for _, l := range strings.Split(got, "\n") {
				if len([]rune(l)) > 130 {
					t.Errorf("a line of %d characters", len([]rune(l)))
				}
			}
		}
	}
}

func TestManyAlike(t *testing.T) {
	many := func(f *source.File) (out []diag.Diagnostic) {
		for range 1000 {
			out = append(out, rule.At(span(f, 0, 1), "m"))
		}
		return out
	}
	got := show(t, "a\n", "never", false, many)
	if n := strings.Count(got, "x.zone:1:1"); n != maxAlike || !strings.Contains(got, "980 more of test-rule") {
		t.Errorf("%d are shown: %s", n, got[len(got)-100:])
	}
	if n := strings.Count(show(t, "a\n", "never", true, many), "\n"); n != 1000 {
		t.Errorf("as JSON there are %d", n)
	}
}

func TestJSONFinding(t *testing.T) {
	got := show(t, "one\ntwo three\n", "never", true, func(f *source.File) []diag.Diagnostic {
		d := rule.At(span(f, 8, 13), "m <&>")
		d.Fix = &diag.Fix{Edits: []diag.Edit{{Span: d.Span, New: "four"}}}
		return []diag.Diagnostic{d}
	})
	var v map[string]any
	if err := json.Unmarshal([]byte(got), &v); err != nil {
		t.Fatal(err)
	}
	for k, want := range map[string]any{"file": "x.zone", "line": 2.0, "column": 5.0, "end_line": 2.0, "end_column": 10.0, "severity": "warning", "code": "test-rule", "message": "m <&>", "reference": "RFC 1"} {
		if v[k] != want {
			t.Errorf("%s is %v, not %v", k, v[k], want)
		}
	}
	if fix := v["fix"].([]any)[0].(map[string]any); fix["text"] != "four" || fix["column"] != 5.0 {
		t.Errorf("fix %v", fix)
	}
	if strings.Contains(got, `\u003c`) {
		t.Error("the text is escaped for HTML")
	}
}

func TestColor(t *testing.T) {
	find := func(f *source.File) []diag.Diagnostic { return []diag.Diagnostic{rule.At(span(f, 0, 1), "m")} }
	if got := show(t, "a\n", "auto", false, find); strings.Contains(got, "\x1b") {
		t.Error("there is colour without a terminal")
	}
	if got := show(t, "a\n", "always", false, find); !strings.Contains(got, "\x1b[1;33m") {
		t.Error("there is no colour where it was asked for")
	}
	if _, err := New(nil, nil, "sometimes", false, false); err == nil {
		t.Error("--color sometimes is taken")
	}
}

func TestTable(t *testing.T) {
	var out bytes.Buffer
	u, _ := New(&out, &out, "never", false, false)
	u.Table([]string{"zone", ">records"}, [][]Text{{"a.example", "7"}, {"b", "1,200"}})
	if want := "zone       records\na.example        7\nb            1,200\n"; out.String() != want {
		t.Errorf("got\n%s\nwant\n%s", out.String(), want)
	}
}

func TestWords(t *testing.T) {
	for d, want := range map[time.Duration]string{
		250 * time.Microsecond: "0.25 ms", 40 * time.Millisecond: "40 ms", 2500 * time.Millisecond: "2.5 s", 42 * time.Second: "42 s",
		90 * time.Second: "1 minute", 2*time.Hour + 15*time.Minute: "2 hours 15 minutes", 14*24*time.Hour - time.Second: "14 days",
		25 * time.Hour: "1 day 1 hour", -90 * time.Minute: "-1 hour 30 minutes",
	} {
		if got := Duration(d); got != want {
			t.Errorf("%v is %q, not %q", d, got, want)
		}
	}
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	if got := When(now.Add(14*24*time.Hour), now); got != "2026-12-07 12:00:00 UTC (in 14 days)" {
		t.Error(got)
	}
	if got := When(now.Add(-time.Hour), now); got != "2026-11-23 11:00:00 UTC (1 hour ago)" {
		t.Error(got)
	}
	if Plural(1, "zone") != "1 zone" || Plural(1234567, "zone") != "1,234,567 zones" {
		t.Error(Plural(1234567, "zone"))
	}
}

// The JSON of a message holds what RFC 8427 names.
func TestMessageJSON(t *testing.T) {
	var q message.Query
	message.ParseQuery(message.AppendQuery(nil, dnsname.MustParse("a.example."), rr.TypeMX, message.QueryOptions{ID: 77, RD: true}), &q)
	var b message.Builder
	b.Begin(nil, &q, 512, 1232)
	b.SetFlag(message.FlagAA)
	b.Record(message.AnswerSection, message.QName, rr.TypeMX, 60, []byte("\x00\x0a\x04mail\x00"))
	raw := b.Finish()
	m, err := message.Decode(raw)
	if err != nil {
		t.Fatal(err)
	}
	text, err := json.Marshal(MessageJSON(m, raw))
	if err != nil {
		t.Fatal(err)
	}
	var v map[string]any
	_ = json.Unmarshal(text, &v)
	for k, want := range map[string]any{"ID": 77.0, "QR": 1.0, "AA": 1.0, "RD": 1.0, "RA": 0.0, "RCODE": 0.0, "QDCOUNT": 1.0, "ANCOUNT": 1.0, "QNAME": "a.example.", "QTYPE": 15.0, "QTYPEname": "MX", "QCLASS": 1.0} {
		if v[k] != want {
			t.Errorf("%s is %v, not %v", k, v[k], want)
		}
	}
	r := v["answerRRs"].([]any)[0].(map[string]any)
	if r["RDATAHEX"] != "000A046D61696C00" || r["rdata"] != "10 mail." || r["TTL"] != 60.0 {
		t.Errorf("record %v", r)
	}
}

// A line that is broken has all its words, in lines that fit.
func TestFit(t *testing.T) {
	long := "signing: the keys of saltmarsh.example are not in keys/saltmarsh.example, and \x1b[1;31mthe version\x1b[0m in service"
	for width := 30; width < 120; width++ {
		got := fit(long, 2, width)
		for i, line := range strings.Split(got, "\n") {
			if i > 0 && !strings.HasPrefix(line, "  ") {
				t.Errorf("%d columns: line %d is not indented: %q", width, i, line)
			}
			if n := len(strings.NewReplacer("\x1b[1;31m", "", "\x1b[0m", "").Replace(line)); n > width {
				t.Errorf("%d columns: %q has %d", width, line, n)
			}
		}
		plain := strings.NewReplacer("\x1b[1;31m", "", "\x1b[0m", "")
		if a, b := strings.Fields(plain.Replace(got)), strings.Fields(plain.Replace(long)); strings.Join(a, " ") != strings.Join(b, " ") {
			t.Errorf("%d columns: the words are %q", width, a)
		}
	}
}

// A table that is too wide for the terminal breaks its cells between words, where that helps most, and
// never a word; one that fits stays as it is, and so does all that goes to no terminal.
func TestShrink(t *testing.T) {
	head := []string{"where", ">TTL", "data"}
	rows := [][]Text{{"zones/tides.example.zone:13", "3600", "v=spf1 include:harbour.example include:dune.example -all"}, {"a:1", "60", "\x1b[1;31mred\x1b[0m"}}
	for width, want := range map[int]string{0: "[0 0 0]", 200: "[0 0 0]", 91: "[0 0 0]", 90: "[0 0 55]", 70: "[0 0 35]", 40: "[0 0 23]", 1: "[0 0 23]"} {
		if got := fmt.Sprint(shrink(head, rows, width)); got != want {
			t.Errorf("%d columns: %s, want %s", width, got, want)
		}
	}
	if got := shrink(nil, rows, 10); len(got) != 0 {
		t.Errorf("without heads: %v", got)
	}
}
