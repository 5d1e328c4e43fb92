package audit

import (
	"fmt"
	"strings"

	"fencepost/dnsname"
	"fencepost/rr"
)

// Limits of an evaluation (RFC 7208 §4.6.4).
const (
	spfLookups = 10
	spfVoids   = 2
	spfHosts   = 10 // of one mx
)

// spfWalk follows an SPF record through all that it includes, as a receiver does in the worst
// case: all terms are looked up.
type spfWalk struct {
	f       *Facts
	lookups int
	voids   int
	seen    map[string]bool
	faults  []string
}

// spf says why the SPF record of the zone cannot be evaluated; nothing where it can, or there
// is none.
func (f *Facts) spf() []string {
	list, err := f.texts(f.Zone, "v=spf1")
	if err != nil || len(list) != 1 {
		return nil
	}
	w := &spfWalk{f: f, seen: map[string]bool{f.Zone.Key(): true}}
	w.record(f.Zone, list[0])
	if w.lookups > spfLookups {
		w.fault("it takes %d lookups; receivers make %d", w.lookups, spfLookups)
	}
	if w.voids > spfVoids {
		w.fault("%d of the names that it looks up have nothing; receivers put up with %d", w.voids, spfVoids)
	}
	return w.faults
}

func (w *spfWalk) fault(format string, args ...any) {
	w.faults = append(w.faults, fmt.Sprintf(format, args...))
}

// maxWalked bounds what one record can make us look up, beyond what a receiver would.
const maxWalked = 60

func (w *spfWalk) record(domain dnsname.Name, text string) {
	for _, word := range strings.Fields(text)[1:] {
		word = strings.TrimLeft(word, "+-~?")
		end := strings.IndexAny(word, ":=/")
		name, value := word, ""
		if end >= 0 {
			name, value = word[:end], word[end:]
		}
		target := domain
		if strings.HasPrefix(value, ":") || strings.HasPrefix(value, "=") {
			host, _, _ := strings.Cut(value[1:], "/")
			n, err := dnsname.Parse(host, dnsname.Root)
			if strings.Contains(host, "%") || err != nil {
				n = dnsname.Name{} // it depends on the message
			}
			target = n
		}
		w.term(strings.ToLower(name), target)
		if w.lookups > maxWalked {
			return
		}
	}
}

// term looks up what a term names; the zero name: it cannot be known.
func (w *spfWalk) term(name string, target dnsname.Name) {
	switch name {
	case "include", "redirect":
		w.lookups++
		if !target.IsZero() {
			w.follow(name, target)
		}
	case "a":
		w.lookups++
		if !target.IsZero() {
			if addrs, _, err := w.f.addrs(target); err == nil && len(addrs) == 0 {
				w.voids++
			}
		}
	case "mx":
		w.lookups++
		if target.IsZero() {
			return
		}
		found, err := w.f.find(target, rr.TypeMX)
		if err == nil && len(found.Data) == 0 {
			w.voids++
		}
		if len(found.Data) > spfHosts {
			w.fault("%s has %d MX records; receivers look at %d", target.Plain(), len(found.Data), spfHosts)
		}
	case "ptr", "exists":
		w.lookups++
	}
}

func (w *spfWalk) follow(how string, target dnsname.Name) {
	if w.seen[target.Key()] {
		w.fault("%s is included again from within itself", target.Plain())
		return
	}
	w.seen[target.Key()] = true
	defer delete(w.seen, target.Key())
	list, err := w.f.texts(target, "v=spf1")
	switch {
	case err != nil:
		w.fault("%s cannot be looked up: %v", target.Plain(), err)
	case len(list) == 0:
		w.fault("%s, which %s names, has no SPF record", target.Plain(), how)
	case len(list) > 1:
		w.fault("%s has %d SPF records", target.Plain(), len(list))
	default:
		w.record(target, list[0])
	}
}
