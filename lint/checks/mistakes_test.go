package checks

import (
	"flag"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint"
	"fencepost/source"
	"fencepost/zonefile"
)

var long = flag.Duration("long", 0, "how long the random test goes on")

// Whatever becomes of a file under an editor, the checks have something to say or
// not, and end: a server reads the file too. The zones are the examples of all rules,
// with words and lines taken out, doubled, exchanged and brought in from others.
func TestSlips(t *testing.T) {
	var texts []string
	for _, c := range All {
		for _, text := range []string{c.Bad, c.Good} {
			if _, body, bare := strings.Cut(text, "-- bare --\n"); bare {
				text = body
			} else {
				text = head + text
			}
			if text != head && !strings.Contains(text, "-- file ") {
				texts = append(texts, text)
			}
		}
	}
	const rounds = 6000
	r := rand.New(rand.NewPCG(9, 2026))
	pick := func() string { return texts[r.IntN(len(texts))] }
	for i, start := 0, time.Now(); i < rounds || time.Since(start) < *long; i++ {
		text := pick()
		for range 1 + r.IntN(3) {
			text = slip(r, text, pick())
		}
		survives(t, text)
	}
}

// slip makes one mistake in a text; other is where foreign lines come from.
func slip(r *rand.Rand, text, other string) string {
	lines := strings.Split(text, "\n")
	i := r.IntN(len(lines))
	words := strings.Fields(lines[i])
	switch r.IntN(7) {
	case 0:
		lines = append(lines[:i], lines[i+1:]...)
	case 1:
		lines = append(lines, lines[i])
	case 2:
		foreign := strings.Split(other, "\n")
		lines = append(lines, foreign[r.IntN(len(foreign))])
	case 3:
		lines[i] = strings.ToUpper(lines[i])
	default:
		if len(words) < 2 {
			break
		}
		j, k := r.IntN(len(words)), r.IntN(len(words))
		switch r.IntN(4) {
		case 0:
			words = append(words[:j], words[j+1:]...)
		case 1:
			words[j], words[k] = words[k], words[j]
		case 2:
			words[j] = words[j][:r.IntN(len(words[j]))] + `"`[:r.IntN(2)]
		default:
			words[j] += words[k][:1]
		}
		lines[i] = strings.Join(words, " ")
		if len(words) == 0 || r.IntN(8) == 0 {
			lines[i] = " " + lines[i]
		}
	}
	return strings.Join(lines, "\n")
}

func survives(t *testing.T, text string) {
	t.Helper()
	defer func() {
		if p := recover(); p != nil {
			t.Fatalf("%v, for\n%s", p, text)
		}
	}()
	var src source.Set
	var diags diag.List
	f, err := src.Add("x.zone", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	z := zonefile.Load(f, zonefile.Options{Origin: dnsname.MustParse("example.com.")}, &diags)
	lint.Run(All, z, &src, present, nil, &diags)
	lint.RunWorkspace(All, []*lint.Zone{{Loaded: z}}, &src, &diags)
}
