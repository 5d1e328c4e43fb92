package edit

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"fencepost/rr"
	"fencepost/workspace"
)

func TestExpand(t *testing.T) {
	for _, c := range []struct {
		owner, typ, data string
		want             string // first, last and count, or what the error says
	}{
		{"gauge[01-40]", "A", "198.51.100.[11-50]", "gauge01 198.51.100.11, gauge40 198.51.100.50, 40"},
		{"g[1-10]", "TXT", "unit [1-10]", "g1 unit 1, g10 unit 10, 10"},
		{"g[1-3]", "CNAME", "h", "g1 h, g3 h, 3"},
		{"pool", "A", "192.0.2.[1-3]", "pool 192.0.2.1, pool 192.0.2.3, 3"},
		{"note", "TXT", "pages [1-3]", "note pages [1-3], note pages [1-3], 1"},
		{"r[1-2]-u[1-2]", "A", "192.0.2.[1-2]", "r1-u1 192.0.2.1, r2-u2 192.0.2.2, 2"},
		{"h[8-11]", "AAAA", "2001:db8::[8-b]", "h8 2001:db8::8, h11 2001:db8::b, 4"},
		{"h[007-009]", "A", "192.0.2.[7-9]", "h007 192.0.2.7, h009 192.0.2.9, 3"},
		{"g[1-40]", "A", "192.0.2.[1-39]", "the ranges differ: g[1-40] has 40 members and 192.0.2.[1-39] has 39"},
		{"g[1-2]", "A", "192.0.[1-3].[1-2]", "the ranges differ"},
		{"g[5-1]", "A", "192.0.2.1", "smaller to a larger"},
		{"g[0-99999999]", "A", "192.0.2.1", "more than 65536 members"},
		{"g[0-99999999999999999999999]", "A", "192.0.2.1", "smaller to a larger"},
		{"plain", "A", "192.0.2.1", "plain 192.0.2.1, plain 192.0.2.1, 1"},
		{"a[b]", "A", "192.0.2.1", "a[b] 192.0.2.1, a[b] 192.0.2.1, 1"},
	} {
		out, err := expandAll([]RecordArg{{Owner: c.owner, Type: c.typ, Data: []string{c.data}}})
		got := ""
		if err != nil {
			got = err.Error()
		} else {
			first, last := out[0], out[len(out)-1]
			got = fmt.Sprintf("%s %s, %s %s, %d", first.Owner, first.Data[0], last.Owner, last.Data[0], len(out))
		}
		if !strings.Contains(got, c.want) {
			t.Errorf("%s %s %s: %s, want %s", c.owner, c.typ, c.data, got, c.want)
		}
	}
	many := make([]RecordArg, 2)
	for i := range many {
		many[i] = RecordArg{Owner: "h[1-60000]", Type: "A", Data: []string{"192.0.2.1"}}
	}
	if _, err := expandAll(many); err == nil {
		t.Error("120,000 records at once were accepted")
	}
}

func TestParseRecords(t *testing.T) {
	list, err := ParseRecords([]byte("a 300 IN A 192.0.2.1 ; first\n  IN 60 TXT \"x y\" z\n\n; only a remark\nb HTTPS 1 . alpn=\"h2,h3\"\nc\nd MX\n"))
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, r := range list {
		got = append(got, fmt.Sprintf("%s|%s|%s|%s", r.Owner, r.TTL, r.Type, strings.Join(r.Data, " ")))
	}
	want := []string{"a|300|A|192.0.2.1", `a|60|TXT|"x y" z`, `b||HTTPS|1 . alpn="h2,h3"`, "c|||", "d||MX|"}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("%q", got)
	}
	for _, bad := range []string{"", "; nothing\n", "  A 192.0.2.1\n", "a TXT \"open\n", "a TXT ( x\n"} {
		if _, err := ParseRecords([]byte(bad)); err == nil {
			t.Errorf("%q was accepted", bad)
		}
	}
}

func TestReverseNames(t *testing.T) {
	for _, c := range []struct{ net, first, last string }{
		{"198.51.100.0/24", "100.51.198.in-addr.arpa.", "100.51.198.in-addr.arpa."},
		{"198.51.0.0/16", "51.198.in-addr.arpa.", "51.198.in-addr.arpa."},
		{"10.0.0.0/8", "10.in-addr.arpa.", "10.in-addr.arpa."},
		{"198.51.96.0/20", "96.51.198.in-addr.arpa.", "111.51.198.in-addr.arpa."},
		{"255.255.252.0/22", "252.255.255.in-addr.arpa.", "255.255.255.in-addr.arpa."},
		{"2001:db8:5a17::/48", "7.1.a.5.8.b.d.0.1.0.0.2.ip6.arpa.", "7.1.a.5.8.b.d.0.1.0.0.2.ip6.arpa."},
		{"2001:db8::/46", "0.0.0.0.8.b.d.0.1.0.0.2.ip6.arpa.", "3.0.0.0.8.b.d.0.1.0.0.2.ip6.arpa."},
		{"::/0", "ip6.arpa.", "ip6.arpa."},
	} {
		parts := reverseNames(netip.MustParsePrefix(c.net))
		first, last := reverseZone(parts[0]).String(), reverseZone(parts[len(parts)-1]).String()
		if first != c.first || last != c.last {
			t.Errorf("%s: %s to %s, want %s to %s", c.net, first, last, c.first, c.last)
		}
	}
}

// Each step of a plan is forward for secondaries, and the last is the one wanted.
func TestSerialPlan(t *testing.T) {
	now := time.Unix(0, 0)
	for _, c := range []struct {
		from, to uint32
		steps    int
	}{{1, 2, 1}, {1, 1 << 31, 1}, {0, 1 << 31, 2}, {2, 1, 3}, {2062010101, 2026112301, 2}, {4294967295, 5, 1}, {5, 4294967295, 2}, {100, 0, 2}} {
		plan := serialPlan(rr.SOA{Serial: c.from, Refresh: 100, Retry: 10}, c.to, now)
		at := c.from
		for i, s := range plan {
			if !rr.NewerSerial(s.Serial, at) {
				t.Errorf("%d to %d: %d is not forward of %d", c.from, c.to, s.Serial, at)
			}
			if s.Serial == 0 && c.to != 0 {
				t.Errorf("%d to %d goes over 0", c.from, c.to)
			}
			if got := s.After.Sub(now); got != time.Duration(110*i)*time.Second {
				t.Errorf("step %d is not before %s", i, got)
			}
			at = s.Serial
		}
		if at != c.to || len(plan) != c.steps {
			t.Errorf("%d to %d: %d steps, ending at %d", c.from, c.to, len(plan), at)
		}
	}
}

func TestALabels(t *testing.T) {
	for in, want := range map[string]string{"www": "www", "bücher": "xn--bcher-kva", "BÜCHER.example.": "xn--bcher-kva.example.", "_sip._tcp.bücher": "_sip._tcp.xn--bcher-kva",
		"@": "@", "*.straße": "*.xn--strae-oqa", "xn--bcher-kva": "xn--bcher-kva", "bu\u0308cher": "xn--bcher-kva"} {
		if got, err := ALabels(in); err != nil || got != want {
			t.Errorf("%s: %s, %v; want %s", in, got, err, want)
		}
	}
	for _, bad := range []string{"a\u200db", "\u05d0a", "-ü"} {
		if got, err := ALabels(bad); err == nil {
			t.Errorf("%q became %s", bad, got)
		}
	}
}

func TestSplitAudience(t *testing.T) {
	for in, want := range map[string][2]string{"a.example": {"a.example", ""}, "a.example@inside": {"a.example", "inside"}, `a\@b.example`: {`a\@b.example`, ""}, "@x": {"@x", ""}} {
		if zone, audience := workspace.SplitAudience(in); zone != want[0] || audience != want[1] {
			t.Errorf("%s: %s, %s", in, zone, audience)
		}
	}
	for path, want := range map[string]string{"zones/a.example.zone": "a.example.", "a.example@in.zone": "a.example.", "0%2f25.x.zone": "0/25.x.", "root.zone": ".", "plain.txt": ""} {
		if got := OriginOf(path).String(); got != want {
			t.Errorf("%s is the zone %q", path, got)
		}
	}
}

func TestLineChanges(t *testing.T) {
	for _, c := range []struct{ a, b, removed, added string }{
		{"1\n2\n3\n", "1\n3\n", "2", ""},
		{"1\n3\n", "1\n2\n3\n", "", "2"},
		{"1\n2\n3\n", "1\nx\n3\n", "2", "x"},
		{"1\n1\n", "1\n", "1", ""},
		{"", "1\n", "", "1"},
		{"1\r\n2\r\n", "1\r\n3\r\n", "2", "3"}, // the end of a line is none of its text
	} {
		removed, added := lineChanges([]byte(c.a), []byte(c.b))
		if r := strings.Trim(strings.Join(removed, ","), ","); r != c.removed {
			t.Errorf("%q to %q removes %q", c.a, c.b, r)
		}
		if a := strings.Join(added, ","); a != c.added {
			t.Errorf("%q to %q adds %q", c.a, c.b, a)
		}
	}
}

func TestDKIMTextIsSplit(t *testing.T) {
	long := strings.Repeat("k", 600)
	if got := quoteText(long, true); strings.Count(got, `"`) != 6 || strings.ReplaceAll(strings.ReplaceAll(got, `"`, ""), " ", "") != long {
		t.Errorf("%d quotes", strings.Count(got, `"`))
	}
	if got := quoteText(`say "hi"`, false); got != `"say \"hi\""` {
		t.Error(got)
	}
}
