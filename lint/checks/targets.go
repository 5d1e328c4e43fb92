package checks

import (
	"bytes"
	"net/netip"
	"slices"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint"
	"fencepost/rr"
	"fencepost/source"
)

// Types whose data hold names that ought to exist, those where it must be a host
// with an address, and where these names are: the table of types says so.
var targetTypes, hostTypes, targetsOf = func() (targets, hosts []rr.Type, of map[rr.Type][]rr.Target) {
	of = map[rr.Type][]rr.Target{}
	for i := range rr.Table() {
		info := &rr.Table()[i]
		list := info.Targets()
		if len(list) == 0 {
			continue
		}
		of[info.Type] = list
		targets = append(targets, info.Type)
		if slices.ContainsFunc(list, func(t rr.Target) bool { return t.Host }) {
			hosts = append(hosts, info.Type)
		}
	}
	return targets, hosts, of
}()

// sampleHost is a name for a host that a type points to.
func sampleHost(t rr.Type) string {
	switch t {
	case rr.TypeNS:
		return "ns1"
	case rr.TypeMX:
		return "mail"
	}
	return "host"
}

// role says what a type's target is called.
func role(t rr.Type) string {
	if s := roles[t]; s != "" {
		return s
	}
	return "target"
}

var roles = map[rr.Type]string{rr.TypeNS: "name server", rr.TypeMX: "mail exchanger", rr.TypeSRV: "service host",
	rr.TypeCNAME: "alias target", rr.TypePTR: "host name", rr.TypeDNAME: "alias target", rr.TypeHTTPS: "web host", rr.TypeSVCB: "service host"}

// target is a name in a record's data.
type target struct {
	wire []byte
	span source.Span // of the word
	text string      // as written
}

func (t target) name() dnsname.Name { return nameOf(t.wire) }

// ref is a target that a record has: which record, and which of its words.
type ref struct {
	set  lint.Set
	i    int
	word int
	wire []byte
}

// place completes a ref with where it is written. A record in the generic form
// has no words to point at: then it is the type, and the text is as good as with
// a final dot.
func (r ref) place(p *lint.Pass) target {
	l := r.set.Layout(r.i)
	if len(l.Data) > 0 && string(p.Text(l.Data[0])) == `\#` {
		return target{r.wire, l.Type, "."}
	}
	span := l.Field(r.word)
	return target{r.wire, span, string(p.Text(span))}
}

// eachTarget calls f for each target of the set's records. The root is none: it
// says "no host".
func eachTarget(set lint.Set, f func(r ref)) {
	var data []byte
	for i, rest := 0, set.RRset; rest.N > 0; i++ {
		data, rest = rest.Next()
		if int(set.Type) < len(lastName) && lastName[set.Type] >= 0 { // by far the most
			if wire := data[lastName[set.Type]:]; len(wire) > 1 {
				f(ref{set, i, targetsOf[set.Type][0].Word, wire})
			}
			continue
		}
		eachName(set.Type, data, func(t rr.Target, wire []byte) {
			if len(wire) > 1 {
				f(ref{set, i, t.Word, wire})
			}
		})
	}
}

// lastName is, for the types one meets, how many octets stand before the target
// where that is all the rest of the data, else -1.
var lastName = func() (at [64]int) {
	for t := range at {
		at[t] = -1
	}
	for _, t := range targetTypes {
		list, fields := targetsOf[t], rr.Lookup(t).Fields
		if int(t) >= len(at) || len(list) != 1 || list[0].Field != len(fields)-1 {
			continue
		}
		before := 0
		for _, f := range fields[:list[0].Field] {
			if f.Kind != rr.U16 {
				before = -1
				break
			}
			before += 2
		}
		at[t] = before
	}
	return at
}()

// eachName calls f for the targets in data.
func eachName(t rr.Type, data []byte, f func(rr.Target, []byte)) {
	list := targetsOf[t]
	field := 0
	for it := rr.NewParts(t, data); len(list) > 0 && it.Next(); field++ {
		if field == list[0].Field {
			f(list[0], it.Bytes)
			list = list[1:]
		}
	}
}

// wellKnownTops are endings that nobody uses as the name of a subdomain, so
// that a name with one of them inside a zone has most likely lost its dot.
var wellKnownTops = map[string]bool{"com": true, "net": true, "org": true, "edu": true, "gov": true, "int": true, "mil": true,
	"info": true, "biz": true, "arpa": true, "example": true, "test": true, "invalid": true, "eu": true, "io": true, "dev": true, "app": true}

// lostDot reports whether a name inside the zone was most likely written without
// its final dot: what stands before the zone's name already is a whole name.
// sure means that it ends in the zone's own name.
func lostDot(p *lint.Pass, wire []byte) (lost, sure bool) {
	apex := []byte(p.Zone.Apex().Key())
	d := len(wire) - len(apex)
	if d <= 0 || len(apex) <= 1 {
		return false, false
	}
	inner := append(bytes.Clone(wire[:d]), 0)
	name := nameOf(inner)
	if name.IsZero() {
		return false, false
	}
	if name.AtOrBelow(p.Zone.Apex()) {
		return true, true
	}
	if name.Labels() < 2 {
		return false, false
	}
	top := name
	for top.Labels() > 1 {
		top = top.Parent()
	}
	zoneTop := p.Zone.Apex()
	for zoneTop.Labels() > 1 {
		zoneTop = zoneTop.Parent()
	}
	return wellKnownTops[strings.ToLower(top.Label())] || top.Equal(zoneTop), false
}

var missingDotTarget = &lint.Check{Rule: diag.Rule{
	Code: "missing-final-dot", Severity: diag.Error, Title: "a name in the data has most likely lost its final dot", Ref: "RFC 1035 §5.1",
	Doc: "A name without a final dot is completed with the origin. mail.example.org in the zone example.com means mail.example.org.example.com., " +
		"which does not exist there. Write the final dot.",
	Bad:  "@ MX 10 mail.example.org\n",
	Good: "@ MX 10 mail.example.org.\n"},
	Types: targetTypes, Set: func(p *lint.Pass, set lint.Set) {
		eachTarget(set, func(r ref) {
			at := p.Look(r.wire)
			if !at.InZone || at.Exists && !at.Wildcard || isURL(r.wire) {
				return
			}
			if lost, _ := lostDot(p, r.wire); !lost || isAddress(p, r.wire) {
				return
			}
			t := r.place(p)
			if strings.HasSuffix(t.text, ".") {
				return
			}
			why := "which does not exist"
			if at.Wildcard {
				why = "which only a wildcard supplies"
			}
			d := p.Report(t.span, "without a final dot this %s means %s, %s", role(set.Type), t.name(), why).
				Suggest("write %s.", t.text)
			d.Fix = &diag.Fix{Edits: []diag.Edit{{Span: t.span, New: t.text + "."}}}
			p.Add(d)
		})
	},
}

var extraDot = &lint.Check{Rule: diag.Rule{
	Code: "extra-final-dot", Severity: diag.Warning, Title: "a name has a final dot that it should most likely not have", Ref: "RFC 1035 §5.1",
	Doc:  "web. with a final dot is the name web at the top of the whole DNS, where there is none. The zone has a web of its own: without the dot the name is completed with the origin.",
	Bad:  "www CNAME web.\nweb A 192.0.2.1\n",
	Good: "www CNAME web\nweb A 192.0.2.1\n"},
	Types: targetTypes, Set: func(p *lint.Pass, set lint.Set) {
		eachTarget(set, func(r ref) {
			if len(r.wire) != int(r.wire[0])+2 || len(p.Zone.Apex().Wire()) <= 1 { // not one label, or the root zone
				return
			}
			inside, err := p.Zone.Apex().Child(nameOf(r.wire).Label())
			if err != nil {
				return
			}
			if t := p.Look([]byte(inside.Wire())); !t.InZone || !t.Exists {
				return
			}
			t := r.place(p)
			if text, ok := strings.CutSuffix(t.text, "."); ok && text != "" {
				p.Add(fixed(p.Report(t.span, "this %s is a name at the top of the DNS, not %s", role(set.Type), inside).Suggest("write %s", text), text))
			}
		})
	},
}

// pointsNowhere reports whether a name lies in the zone and does not exist there.
func pointsNowhere(p *lint.Pass, wire []byte) bool {
	t := p.Look(wire)
	return t.InZone && !t.Exists
}

var missingDotOwner = &lint.Check{Rule: diag.Rule{
	Code: "owner-repeats-zone", Severity: diag.Warning, Title: "an owner ends in the zone's name twice", Ref: "RFC 1035 §5.1",
	Doc:  "An owner without a final dot is completed with the origin: www.example.com in the zone example.com means www.example.com.example.com. Write the final dot, or only www.",
	Bad:  "www.example.com A 192.0.2.1\n",
	Good: "www.example.com. A 192.0.2.1\nmail A 192.0.2.25\n"},
	Name: func(p *lint.Pass, n *lint.Name) {
		if n.IsApex() || len(p.ApexKey) == 0 || !n.HasKeyPrefix(p.ApexKey) {
			return
		}
		var first lint.Set
		for set := range n.Sets {
			first = set
			break
		}
		l := first.Layout(0)
		text := string(p.Text(l.Owner))
		d := p.Report(l.OwnerOrType(), "without a final dot this owner means %s", n.Owner())
		if text != "" && !strings.HasSuffix(text, ".") {
			d = d.Suggest("write %s.", text)
			d.Fix = &diag.Fix{Edits: []diag.Edit{{Span: l.Owner, New: text + "."}}}
		}
		p.Add(d)
	},
}

// isAddress reports whether a name is an IPv4 address in disguise, completed with
// the origin or not.
func isAddress(p *lint.Pass, wire []byte) bool {
	_, ok := addressIn(p, wire)
	return ok
}

func addressIn(p *lint.Pass, wire []byte) (netip.Addr, bool) {
	v6 := bytes.IndexByte(wire, ':') >= 0
	if !v6 && (wire[0] > 3 || wire[0] == 0 || wire[1] < '0' || wire[1] > '9') { // nearly all names
		return netip.Addr{}, false
	}
	head := bytes.Clone(wire)
	if d := len(wire) - len(p.Zone.Apex().Wire()); d > 0 && nameOf(wire).Below(p.Zone.Apex()) {
		head = append(head[:d], 0)
	}
	if n := dnsname.LabelsWire(head); n != 4 && (!v6 || n != 1) {
		return netip.Addr{}, false
	}
	a, err := netip.ParseAddr(strings.TrimSuffix(string(dnsname.AppendText(nil, head)), "."))
	return a, err == nil
}

var addressAsName = &lint.Check{Rule: diag.Rule{
	Code: "address-as-name", Severity: diag.Error, Title: "an address stands where a host name belongs", Ref: "RFC 1035 §3.3.9, RFC 1912 §2.4",
	Doc:  "MX, NS, SRV and CNAME point to names. An address there is read as a name of digits, which does not exist. Give the host a name with an A record and write that.",
	Bad:  "@ MX 10 192.0.2.25\n",
	Good: "@ MX 10 mail\nmail A 192.0.2.25\n"},
	Types: targetTypes, Set: func(p *lint.Pass, set lint.Set) {
		eachTarget(set, func(r ref) {
			if a, ok := addressIn(p, r.wire); ok {
				t := r.place(p)
				p.Add(p.Report(t.span, "the %s is the address %s; a name belongs here", role(set.Type), a).
					Suggest("give the host a name, such as: %s %s %s", sampleHost(set.Type), addressType(a), a))
			}
		})
	},
}

var targetIsAlias = &lint.Check{Rule: diag.Rule{
	Code: "target-is-alias", Severity: diag.Error, Title: "an NS, MX or SRV record points to an alias", Ref: "RFC 2181 §10.3, RFC 2782",
	Doc:  "These records must name the host itself, one with addresses. Many resolvers and mail servers do not follow an alias there.",
	Bad:  "@ MX 10 mail\nmail CNAME box\nbox A 192.0.2.25\n",
	Good: "@ MX 10 box\nbox A 192.0.2.25\n"},
	Types: hostTypes, Set: func(p *lint.Pass, set lint.Set) {
		eachTarget(set, func(r ref) {
			if t := p.Look(r.wire); t.InZone && t.Alias {
				at := r.place(p)
				p.Add(p.Report(at.span, "the %s %s is an alias", role(set.Type), at.name()).
					Suggest("name the host that the alias points to"))
			}
		})
	},
}

var targetMissing = &lint.Check{Rule: diag.Rule{
	Code: "target-missing", Severity: diag.Error, Title: "an NS, MX or SRV record points to a name that does not exist in the zone", Ref: "RFC 1912 §2.3, §2.4",
	Doc:  "The name lies in this zone, and the zone has no such name: the host cannot be reached. Add its address, or correct the name.",
	Bad:  "@ MX 10 mail\n",
	Good: "@ MX 10 mail\nmail A 192.0.2.25\n"},
	Types: hostTypes, Set: func(p *lint.Pass, set lint.Set) {
		eachTarget(set, func(r ref) {
			if !pointsNowhere(p, r.wire) || isAddress(p, r.wire) || isURL(r.wire) {
				return
			}
			t := r.place(p)
			if lost, _ := lostDot(p, r.wire); lost && !strings.HasSuffix(t.text, ".") {
				return // said by missing-final-dot
			}
			p.Add(p.Report(t.span, "the %s %s does not exist in the zone", role(set.Type), t.name()).
				Suggest("add its address: %s A ADDRESS", t.name().Relative(p.Zone.Apex())))
		})
	},
}

var targetByWildcard = &lint.Check{Rule: diag.Rule{
	Code: "target-by-wildcard", Severity: diag.Warning, Title: "a record points to a name that only a wildcard supplies", Ref: "RFC 1912 §2.7, RFC 4592 §2.2",
	Doc:  "The zone has no such name: a wildcard answers for it, as it would for any other, misspelt ones too. Give the host records of its own, or correct the name.",
	Bad:  "* A 192.0.2.1\n@ MX 10 mial\nmail A 192.0.2.25\n",
	Good: "* A 192.0.2.1\n@ MX 10 mail\nmail A 192.0.2.25\n"},
	Types: targetTypes, Set: func(p *lint.Pass, set lint.Set) {
		eachTarget(set, func(r ref) {
			look := p.Look(r.wire)
			if !look.InZone || !look.Wildcard || isAddress(p, r.wire) || isURL(r.wire) {
				return
			}
			if isTypeWithHost(set.Type) && !look.Alias && !look.Address {
				return // said by target-without-address
			}
			t := r.place(p)
			if lost, _ := lostDot(p, r.wire); lost && !strings.HasSuffix(t.text, ".") {
				return // said by missing-final-dot
			}
			p.Add(p.Report(t.span, "the %s %s has no records of its own: a wildcard supplies it", role(set.Type), t.name()).
				Suggest("give it records of its own, or correct the name"))
		})
	},
}

var targetNoAddress = &lint.Check{Rule: diag.Rule{
	Code: "target-without-address", Severity: diag.Error, Title: "an NS, MX or SRV record points to a name that has no address", Ref: "RFC 1912 §2.3, RFC 2782",
	Doc:  "The name exists and has neither an A nor an AAAA record, so clients cannot connect to it.",
	Bad:  "@ MX 10 mail\nmail TXT \"no address\"\n",
	Good: "@ MX 10 mail\nmail A 192.0.2.25\n"},
	Types: hostTypes, Set: func(p *lint.Pass, set lint.Set) {
		eachTarget(set, func(r ref) {
			if t := p.Look(r.wire); t.InZone && t.Exists && !t.Alias && !t.Address {
				at := r.place(p)
				p.Add(p.Report(at.span, "the %s %s has no address", role(set.Type), at.name()).
					Suggest("add one: %s A ADDRESS", at.name().Relative(p.Zone.Apex())))
			}
		})
	},
}

var danglingAlias = &lint.Check{Rule: diag.Rule{
	Code: "dangling-alias", Severity: diag.Warning, Title: "an alias points to a name that does not exist in the zone", Ref: "RFC 1034 §3.6.2",
	Doc:  "The target does not exist, so the alias does not work. Often the host was removed and its alias forgotten.",
	Bad:  "www CNAME webb\nweb A 192.0.2.1\n",
	Good: "www CNAME web\nweb A 192.0.2.1\n"},
	Types: []rr.Type{rr.TypeCNAME}, Set: func(p *lint.Pass, set lint.Set) {
		eachTarget(set, func(r ref) {
			if !pointsNowhere(p, r.wire) || isAddress(p, r.wire) || isURL(r.wire) {
				return
			}
			t := r.place(p)
			if lost, _ := lostDot(p, r.wire); lost && !strings.HasSuffix(t.text, ".") {
				return
			}
			p.Add(p.Report(t.span, "the alias %s points to %s, which does not exist", set.Name.Owner(), t.name()).
				Suggest("correct the name, or remove the alias"))
		})
	},
}

var nullMX = &lint.Check{Rule: diag.Rule{
	Code: "null-mx-beside-others", Severity: diag.Error, Title: "\"no mail here\" stands beside a mail exchanger", Ref: "RFC 7505 §3",
	Doc:  "MX 0 . says that the domain accepts no mail. It must be the only MX record of its name.",
	Bad:  "@ MX 0 .\n@ MX 10 mail\nmail A 192.0.2.25\n",
	Good: "@ MX 0 .\n"},
	Types: []rr.Type{rr.TypeMX}, Set: func(p *lint.Pass, set lint.Set) {
		i := 0
		for data := range set.Data {
			if len(data) == 3 && set.N > 1 {
				p.Add(p.Report(set.Layout(i).Type, "%s says that it accepts no mail, and lists mail exchangers", set.Name.Owner()).
					Suggest("keep either this record or the others"))
			}
			i++
		}
	},
}
