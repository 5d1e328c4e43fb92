package expect_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"fencepost/answer"
	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/expect"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zone"
	"fencepost/zonefile"
)

const zoneText = `$TTL 3600
@ SOA ns1 hostmaster 7 7200 900 1209600 300
@ NS ns1
@ NS ns.harbour.example.
@ MX 10 mail
@ MX 20 backup.harbour.example.
@ TXT "v=spf1 mx -all" "and more # of it"
ns1 A 198.51.100.53
mail 600 A 198.51.100.25
www CNAME web
Web A 198.51.100.80
web A 198.51.100.81
gauges NS ns.gauges
gauges NS ns.harbour.example.
ns.gauges A 198.51.100.61
*.wild A 198.51.100.90
`

func load(t testing.TB, text string) *zone.Snapshot {
	t.Helper()
	var src source.Set
	var diags diag.List
	f, err := src.Add("z", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	z := zonefile.Load(f, zonefile.Options{Origin: dnsname.MustParse("saltmarsh.example.")}, &diags)
	if diags.Count(diag.Error) > 0 {
		t.Fatal(diags.All[0].Message)
	}
	return z.Snapshot
}

// ask answers as a server of the zone does.
func ask(z *zone.Snapshot, q message.Question) (*message.Message, error) {
	query := message.AppendQuery(nil, q.Name, q.Type, message.QueryOptions{EDNS: true, UDPSize: 1232})
	var pq message.Query
	message.ParseQuery(query, &pq)
	var r answer.Responder
	return message.Decode(r.Respond(nil, &pq, answer.Single{Snapshot: z}, answer.Options{TCP: true, Limit: message.MaxLen, UDPSize: 1232, Expire: -1}))
}

func parse(t testing.TB, text string) (*expect.File, []string) {
	t.Helper()
	var src source.Set
	var diags diag.List
	f, err := src.Add("x.expect", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	out := expect.Parse(f, &diags)
	var said []string
	for _, d := range diags.All {
		p := src.Position(d.Span.Start)
		said = append(said, fmt.Sprintf("%d:%d %s; %s", p.Line, p.Column, d.Message, d.Suggestion))
	}
	return out, said
}

// What each statement holds of, and what is said where it does not.
func TestJudge(t *testing.T) {
	z := load(t, zoneText)
	for line, want := range map[string]string{ // what comes instead; empty: it holds
		`@ MX is 10 mail and 20 backup.harbour.example.`: "",
		`@ MX is 20 BACKUP.harbour.example. and 10 mail`: "",
		`@ MX is 10 mail`:        "MX 10 mail.saltmarsh.example., MX 20 backup.harbour.example.",
		`@ MX contains 10 mail`:  "",
		`@ MX contains 10 mail2`: "MX 10 mail.saltmarsh.example., MX 20 backup.harbour.example.",
		`@ MX is one of 10 mail or 20 backup.harbour.example.`:   "MX 10 mail.saltmarsh.example., MX 20 backup.harbour.example.",
		`mail A is one of 198.51.100.25 or 198.51.100.26`:        "",
		`mail A is one of 198.51.100.24 or 198.51.100.26`:        "A 198.51.100.25",
		`@ TXT is "v=spf1 mx -all" "and more # of it"`:           "",
		`@ TXT is "v=spf1 mx -all"`:                              `TXT "v=spf1 mx -all" "and more # of it"`,
		`www A is 198.51.100.80 and 198.51.100.81`:               "",
		`www CNAME is web`:                                       "",
		`www CNAME is web2`:                                      "CNAME web.saltmarsh.example.",
		`WWW.saltmarsh.example. CNAME is WEB`:                    "",
		`any.wild A is 198.51.100.90`:                            "",
		`nosuch does not exist`:                                  "",
		`nosuch AAAA does not exist`:                             "",
		`www does not exist`:                                     "A 198.51.100.80, A 198.51.100.81, CNAME web.saltmarsh.example.",
		`mail AAAA has no data`:                                  "",
		`mail A has no data`:                                     "A 198.51.100.25",
		`nosuch A has no data`:                                   "no such name",
		`mail AAAA does not exist`:                               "no AAAA records",
		`gauges NS refers to ns.gauges and ns.harbour.example.`:  "",
		`x.gauges A refers to NS.harbour.example. and ns.gauges`: "",
		`gauges NS refers to ns.gauges`:                          "a referral to ns.gauges.saltmarsh.example, ns.harbour.example",
		`gauges A has no data`:                                   "a referral to ns.gauges.saltmarsh.example, ns.harbour.example",
		`@ NS refers to ns1 and ns.harbour.example.`:             "", // as of a child that is served here too
		`@ NS refers to ns1`:                                     "NS ns.harbour.example., NS ns1.saltmarsh.example.",
		`mail NS refers to ns.gauges`:                            "no NS records",
		`mail A ttl at most 10m`:                                 "",
		`mail A ttl at most 599`:                                 "TTL 600",
		`mail A ttl at least 601`:                                "TTL 600",
		`mail A ttl 1m to 10m`:                                   "",
		`mail AAAA ttl at most 10m`:                              "no AAAA records",
		`elsewhere.example. A is 192.0.2.1`:                      "the server refuses to answer this (REFUSED)",
	} {
		f, said := parse(t, "zone saltmarsh.example\n"+line+"\n")
		if len(said) > 0 || len(f.Expectations) != 1 {
			t.Errorf("%s: %v", line, said)
			continue
		}
		e := f.Expectations[0]
		m, err := ask(z, message.Question{Name: e.Name, Type: e.Type})
		if err != nil {
			t.Fatal(err)
		}
		if got := e.Judge(m); got != want && !(want != "" && strings.HasSuffix(got, "(REFUSED)") && strings.HasSuffix(want, "(REFUSED)")) {
			t.Errorf("%s: %q, want %q", line, got, want)
		}
	}
}

// What is wrong is said at its place, with what to write, and the rest is read.
func TestParseErrors(t *testing.T) {
	for text, want := range map[string]string{
		"":                                                            "1:1 this stands before anything says which zone",
		"zone a..b\n":                                                 `1:6 "a..b" is not a name`,
		"zone x.example\nzone y.example\n":                            "2:6 a file is about one zone",
		"zone x.example\nwww A iss 192.0.2.1\n":                       "2:7 this says nothing that can be expected of www; did you mean is?",
		"zone x.example\nwww a is 192.0.2.1\n":                        "2:5 this says nothing that can be expected of www; write types in capitals: A",
		"zone x.example\nwww AAA is 192.0.2.1\n":                      "2:5 this says nothing that can be expected of www; did you mean A",
		"zone x.example\nwww is 192.0.2.1\n":                          "2:1 nothing says which type www is; write the type behind the name",
		"zone x.example\nwww A is 192.0.2.256\n":                      "2:10 256 is over 255",
		"zone x.example\nwww A is 192.0.2.1 and\n":                    "2:1 data of a A record are missing",
		"zone x.example\nwww A does not exist at all\n":               "2:22 nothing more is expected here",
		"zone x.example\nwww A is 192.0.2.1 over pigeon\n":            `2:25 "pigeon" is not a transport`,
		"zone x.example\nwww A ttl at most soon\n":                    `2:19 "soon" is not a time`,
		"zone x.example\nwww NS refers to a b\n":                      "2:1 a delegation is to servers",
		"zone x.example\nwww A is 192.0.2.1 ; a comment of another\n": "2:10",
		"zone x.example\nwww TXT is \"a\n":                            "2:12",
	} {
		f, said := parse(t, text+"good A is 192.0.2.7 # and so on\n")
		if len(said) != 1 || !strings.HasPrefix(said[0], want) {
			if want == "2:10" && len(said) == 0 {
				continue // as in a master file, the rest is a comment
			}
			t.Errorf("%q: %q, want %q", text, said, want)
			continue
		}
		if n := len(f.Expectations); strings.Contains(text, "zone x.example") && n != 1 {
			t.Errorf("%q: %d statements were read besides", text, n)
		}
	}
}

// What is recorded of a zone can be read, and holds of it; when a record is taken away or
// changed, something fails.
func TestRecord(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 2026))
	pick := func(of ...string) string { return of[r.IntN(len(of))] }
	for range 150 {
		lines := []string{"first A 192.0.2.77"}
		for range r.IntN(25) {
			name := pick("a", "b", "c", "d", "*.e", "f.g", "X-1")
			lines = append(lines, name+" "+pick("A 192.0.2."+pick("1", "2", "3"), "AAAA 2001:db8::"+pick("1", "2"), `TXT "`+pick("one", "and", "a # b", `q\"q`, "x ; y")+`"`, "MX "+pick("0", "10")+" "+pick("a", "mail.example.net."),
				"SRV 0 5 80 "+pick("a", "b.example.org."), `CAA 0 issue "ca.example"`))
		}
		if r.IntN(2) == 0 {
			lines = append(lines, "sub NS ns.sub", "sub NS ns.example.org.", "ns.sub A 192.0.2.9")
		}
		if r.IntN(2) == 0 {
			lines = append(lines, "alias CNAME "+pick("a", "elsewhere.example.net.", "nowhere"))
		}
		text := "$TTL 3600\n@ SOA ns1.example.net. h 1 2 3 4 5\n@ NS ns1.example.net.\n"
		z := load(t, text+strings.Join(lines, "\n")+"\n")
		recorded, err := expect.Record(z.Apex(), expect.Questions(z), "a test", time.Unix(0, 0), func(q message.Question) (*message.Message, error) { return ask(z, q) })
		if err != nil {
			t.Fatal(err)
		}
		f, said := parse(t, recorded)
		if len(said) > 0 || len(f.Expectations) < 2 {
			t.Fatalf("what is recorded cannot be read: %q\n%s", said, recorded)
		}
		if wrong := failing(t, f, z); len(wrong) > 0 {
			t.Fatalf("what is recorded does not hold: %q\n%s", wrong, recorded)
		}
		i := r.IntN(len(lines))
		for strings.HasPrefix(lines[i], "*") || strings.HasPrefix(lines[i], "ns.sub") { // which nobody asked for
			i = r.IntN(len(lines))
		}
		gone := lines[i]
		var rest []string
		for _, l := range lines {
			if l != gone {
				rest = append(rest, l)
			}
		}
		if wrong := failing(t, f, load(t, text+strings.Join(rest, "\n")+"\n")); len(wrong) == 0 {
			t.Fatalf("without %q all still holds\n%s", gone, recorded)
		}
	}
}

func failing(t *testing.T, f *expect.File, z *zone.Snapshot) (out []string) {
	t.Helper()
	for _, e := range f.Expectations {
		m, err := ask(z, message.Question{Name: e.Name, Type: e.Type})
		if err != nil {
			t.Fatal(err)
		}
		if got := e.Judge(m); got != "" {
			out = append(out, e.Text+": "+got)
		}
	}
	return out
}

// Whatever stands in a file, it is read without harm, and places lie in it.
func FuzzParse(f *testing.F) {
	f.Add("zone saltmarsh.example\ngroup Web\nwww A is 198.51.100.80 and 198.51.100.81 over tcp\nold does not exist\n")
	f.Add("zone x\n@ TXT is \"a \\\" # b\" # c\n@ MX is one of 10 a or 20 b\nz NS refers to a and b.\nq A ttl 1h to 1d\n")
	f.Fuzz(func(t *testing.T, text string) {
		var src source.Set
		var diags diag.List
		file, err := src.Add("x.expect", []byte(text))
		if err != nil {
			return
		}
		out := expect.Parse(file, &diags)
		for _, d := range diags.All {
			if at := file.Offset(d.Span.Start); at < 0 || at > len(text) || d.Message == "" {
				t.Fatalf("%q: a finding at %d: %s", text, at, d.Message)
			}
		}
		empty, err := message.Decode(make([]byte, message.HeaderLen))
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range out.Expectations {
			e.Judge(empty)
		}
	})
}

// Each word of a statement that is right is one that may stand there.
func TestNext(t *testing.T) {
	for _, line := range []string{"zone saltmarsh.example", "group The zone itself", "@ NS is ns1 and ns.harbour.example.", "@ MX contains 10 mail and 20 mail2", "@ SOA is the same everywhere",
		"www A is 198.51.100.80", "www AAAA is one of 2001:db8::1 or 2001:db8::2", "www A ttl at most 1h", "www A ttl at least 60", "www A ttl 60 to 1h over tcp", "www A is signed", "www A is 10.0.0.5 for inside", "www A is 10.0.0.5 over tcp for inside", "www A is 10.0.0.5 for inside over udp", "old does not exist for inside", "www A is 198.51.100.80 over tcp",
		"old does not exist", "www TXT has no data over udp", "gauges NS refers to ns.gauges and ns.harbour.example.", "is A is 192.0.2.1", "and TYPE65280 has no data"} {
		words := strings.Fields(line)
		for i, w := range words {
			p := expect.Next(words[:i])
			rest := strings.Join(words[i:], " ")
			offered := slices.ContainsFunc(p.Words, func(o string) bool { return strings.HasPrefix(rest+" ", o+" ") })
			_, isType := rr.ParseType(w)
			free := p.Wanted == expect.Names || p.Wanted == expect.Data || p.Wanted == expect.Hosts || p.Wanted == expect.Anything && !slices.Contains([]string{"udp", "tcp"}, w) || p.Wanted == expect.Types && isType || p.Wanted == expect.Joins && len(p.Words) > 2
			inside := i > 0 && slices.ContainsFunc(expect.Next(words[:i-1]).Words, func(o string) bool { return strings.HasPrefix(strings.Join(words[i-1:], " ")+" ", o+" ") })
			if !offered && !free && !inside && p.Wanted != expect.Verbs {
				t.Errorf("%q: before %q is wanted %d, %q", line, w, p.Wanted, p.Words)
			}
			if p.Wanted == expect.Verbs && !offered {
				t.Errorf("%q: %q is not offered: %q", line, w, p.Words)
			}
		}
	}
}
