package checks

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint"
	"fencepost/source"
	"fencepost/zone"
	"fencepost/zonefile"
)

// lines makes random records in a zone of few names, so that they have to do with each
// other: aliases, wildcards, cuts, servers, names above that have nothing.
type lines struct{ rng *rand.Rand }

func (l lines) pick(of ...string) string { return of[l.rng.IntN(len(of))] }

func (l lines) name() string {
	parts := []string{l.pick("a", "b", "c", "a", "b", "*", "zones", "ns1")}
	for l.rng.IntN(3) == 0 && len(parts) < 4 {
		parts = append(parts, l.pick("a", "b", "c", "zones"))
	}
	return strings.Join(parts, ".")
}

func (l lines) target() string {
	switch l.rng.IntN(12) {
	case 0:
		return "@"
	case 1:
		return "mail.example.org"
	case 2:
		return "host.example.net."
	case 3:
		return "192.0.2.1"
	case 4:
		return "a."
	case 5: // the same name with and without its final dot
		return l.pick("b.example.com", "b.example.com.example.com.")
	}
	return strings.Replace(l.name(), "*", "b", 1)
}

func (l lines) record() string {
	owner := l.name()
	if l.rng.IntN(8) == 0 {
		owner = "@"
	}
	switch l.rng.IntN(14) {
	case 0, 1, 2:
		return owner + " A " + l.pick("192.0.2.1", "198.51.100.7", "10.0.0.1", "127.0.0.1")
	case 3:
		return owner + " AAAA 2001:db8::" + l.pick("1", "2")
	case 4, 5:
		return owner + " NS " + l.pick(l.target(), "ns1."+owner)
	case 6, 7:
		return owner + " CNAME " + l.target()
	case 8:
		return owner + " MX " + l.pick("0 .", "10 "+l.target())
	case 9:
		return owner + " DNAME " + l.target()
	case 10:
		return l.pick(owner, "version") + ` TXT "` + l.pick("2", "v=spf1 include:"+l.name()+".example.com -all", tenLookups, "v=DMARC1; p=none", "text") + `"`
	case 11:
		return "_x._tcp." + owner + " SRV 0 5 80 " + l.target()
	case 12:
		return owner + " DS 12345 13 2 2BB183AF5F22588179A53B0A98631FAD1A2921182BB183AF5F22588179A53B0A"
	}
	return owner + " " + l.pick("PTR "+l.target(), "HTTPS 0 "+l.target(), "HTTPS 1 . alpn=h2", `CAA 0 issue "x.example"`, "DNSKEY 256 3 13 AAAA")
}

// other is a record of the same owner and type with other data.
func (l lines) other(record string) string {
	owner, rest, _ := strings.Cut(record, " ")
	typ, _, _ := strings.Cut(rest, " ")
	for {
		_, rest, _ := strings.Cut(l.record(), " ")
		if strings.HasPrefix(rest, typ+" ") {
			return owner + " " + rest
		}
	}
}

// change changes a zone.
func (l lines) change(records []string) []string {
	if len(records) == 0 || l.rng.IntN(3) == 0 {
		return append(records, l.record())
	}
	i := l.rng.IntN(len(records))
	if l.rng.IntN(2) == 0 {
		return slices.Delete(slices.Clone(records), i, i+1)
	}
	records = slices.Clone(records)
	records[i] = l.other(records[i])
	return records
}

// tenLookups is as much as an SPF record may ask for (RFC 7208 §4.6.4): one that includes it
// asks for too much.
var tenLookups = "v=spf1 a mx" + strings.Repeat(" exists:a.example.net", 8) + " -all"

// scenes are records that lean on each other.
var scenes = [][]string{
	{"a NS ns1.a", "a NS ns.c.a", "ns1.a A 192.0.2.1", "ns.c.a A 192.0.2.2"},
	{"a CNAME b", "b CNAME c", "c CNAME host.example.net."},
	{"a.b.c CNAME a", "a CNAME c", "c A 192.0.2.1"},
	{`version TXT "2"`, "a.zones PTR a.example.", "b.zones PTR b.example."},
	{`a TXT "v=spf1 include:b.example.com -all"`, `b TXT "v=spf1 mx -all"`, "b A 192.0.2.1"},
	{"@ MX 10 a.b", "*.b A 192.0.2.1", "c.b A 192.0.2.1"},
	{"c DNAME host.example.net.", "a.c A 192.0.2.1", "a NS b.a", "b.a A 192.0.2.1"},
}

// zone is records to begin with.
func (l lines) zone() (records []string) {
	if l.rng.IntN(2) == 0 {
		records = slices.Clone(scenes[l.rng.IntN(len(scenes))])
	}
	for range l.rng.IntN(9) {
		records = append(records, l.record())
	}
	return records
}

// loadLines is the zone of some records.
func loadLines(t *testing.T, src *source.Set, serial int, records []string) *zonefile.Loaded {
	t.Helper()
	text := fmt.Sprintf("$TTL 3600\n@ SOA ns1 hostmaster %d 7200 900 1209600 300\n@ NS ns1\n@ NS ns2.example.net.\nns1 A 192.0.2.53\n", serial) +
		strings.ReplaceAll(strings.Join(records, "\n"), "@.", "") + "\n"
	f, err := src.Add("x.zone", []byte(strings.ReplaceAll(text, ".@ ", " ")))
	if err != nil {
		t.Fatal(err)
	}
	return zonefile.Load(f, zonefile.Options{Origin: dnsname.MustParse("example.com.")}, &diag.List{})
}

// Whatever the checks would find in the next version, where they found nothing in this one,
// is not passed over by looking at what differs alone; and mostly that is enough to tell.
func TestByTheChangeAsAWhole(t *testing.T) {
	const zones = 180
	told, whole := map[string]int{}, map[string]int{}
	found := map[string]int{}
	for seed := range zones {
		l := lines{rand.New(rand.NewPCG(uint64(seed), 1))}
		records := l.zone()
		var src source.Set
		old := loadLines(t, &src, 2026112301, records)
		cleared := map[string]*lint.CheckState{}
		for _, c := range All {
			if c.Workspace == nil {
				cleared[c.Code] = lint.Clear([]*lint.Check{c}, old, &src, present, &diag.List{})
			}
		}
		last := old.Snapshot
		for step := range 4 {
			for range 1 + l.rng.IntN(2) {
				records = l.change(records)
			}
			next := loadLines(t, &src, 2026112302+step, records)
			d := zone.Diff(last, next.Snapshot)
			shared, err := last.With(d)
			if err != nil {
				t.Fatal(err)
			}
			z := *next
			z.Built = &zone.Built{Snapshot: shared, Conflicts: next.Conflicts}
			finds := findings(next, &src)
			for _, c := range All {
				was := cleared[c.Code]
				if c.Workspace != nil || was == nil && finds[c.Code] != "" {
					continue
				}
				var is *lint.CheckState
				if was != nil {
					is = was.After(&z, d, present)
				}
				switch {
				case finds[c.Code] != "" && is != nil:
					t.Fatalf("seed %d step %d: %s finds %q, and nothing by the change.\nThe zone is\n%s\nand was changed by %v",
						seed, step, c.Code, finds[c.Code], strings.Join(records, "\n"), d)
				case finds[c.Code] != "":
					found[c.Code]++
				case is != nil:
					told[c.Code]++
				case was != nil:
					whole[c.Code]++
				}
				if is == nil {
					is = lint.Clear([]*lint.Check{c}, next, &src, present, &diag.List{})
				}
				cleared[c.Code] = is
			}
			last = shared
		}
	}
	for code, n := range whole {
		if n > told[code] {
			t.Errorf("%s: the whole zone was needed %d times, the change was enough %d times", code, n, told[code])
		}
	}
	for _, code := range []string{"target-missing", "target-is-alias", "target-without-address", "missing-glue", "missing-final-dot", "data-below-dname",
		"alias-beside-data", "alias-loop", "occluded-data", "ds-without-delegation", "dangling-alias", "catalog-version"} {
		if found[code] < 4 || told[code] < 4 {
			t.Errorf("%s was found %d times in a zone in which it was not, and told to be absent %d times: the zones prove little", code, found[code], told[code])
		}
	}
}

// findings are those of a whole zone: one of each check.
func findings(z *zonefile.Loaded, src *source.Set) map[string]string {
	var diags diag.List
	lint.Run(All, z, src, present, nil, &diags)
	out := map[string]string{}
	for _, d := range diags.All {
		out[d.Rule.Code] = d.Message
	}
	return out
}
