package edit

import (
	"strings"

	"golang.org/x/net/idna"

	"fencepost/dnsname"
	"fencepost/rr"
)

// idn turns names typed by people into A-labels: capital letters become small and
// characters are composed before the checks of IDNA2008 (RFC 5891 §5.2, RFC 5895).
var idn = idna.New(idna.MapForLookup(), idna.BidiRule(), idna.StrictDomainName(false), idna.ValidateLabels(true))

// ALabels writes the labels of a name that hold characters outside ASCII as
// A-labels. Names in ASCII stay as they are.
func ALabels(name string) (string, error) {
	plain := true
	for i := 0; i < len(name); i++ {
		plain = plain && name[i] < 0x80
	}
	if plain {
		return name, nil
	}
	labels := strings.Split(name, ".")
	for i, l := range labels {
		for _, c := range l {
			if c < 0x80 {
				continue
			}
			a, err := idn.ToASCII(l)
			if err != nil {
				return "", Usage("%q cannot be an internationalised name: %v", l, err)
			}
			labels[i] = a
			break
		}
	}
	return strings.Join(labels, "."), nil
}

// encode turns an argument that is a name into A-labels, and says so.
func (e *ZoneEdit) encode(t rr.Type, i int, text string) (string, error) {
	info := rr.Lookup(t)
	if info == nil || i >= len(info.Fields) || takesText(info, i) || strings.HasPrefix(text, `"`) {
		return text, nil
	}
	for _, target := range info.Targets() {
		if target.Word == i {
			return e.encodeName(text)
		}
	}
	return text, nil
}

func (e *ZoneEdit) encodeName(text string) (string, error) {
	a, err := ALabels(text)
	if err == nil && a != text {
		e.b.note("%s is written %s", text, a)
	}
	return a, err
}

// WholeName reads a name as people give it, with or without its final dot and in any script.
func WholeName(text string) (dnsname.Name, error) {
	ascii, err := ALabels(text)
	if err != nil {
		return dnsname.Name{}, err
	}
	return dnsname.Parse(ascii, dnsname.Root)
}
