package workspace

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"
)

// places say where things stand in a configuration, as its parser sees them: in sections, dotted keys and
// inline tables alike.
type places struct {
	text []byte
	// keys is where the key of each setting and section begins, by its path: the words of its header, the
	// number of an array's table, and its own words, with a zero octet between them.
	keys map[string]int
	// sections are where sections begin, in order; all before the first is one too.
	sections []int
	// expressions are where settings and headers begin, in order.
	expressions []int
}

// pathOf is a path in places.
func pathOf(words ...string) string { return strings.Join(words, "\x00") }

// placesOf reads a configuration as far as it is TOML.
func placesOf(text []byte) *places {
	w := &places{text: text, keys: map[string]int{}, sections: []int{0}}
	var p unstable.Parser
	p.Reset(text)
	counted := map[string]int{}
	var prefix []string
	for p.NextExpression() {
		e := p.Expression()
		words, at := w.words(&p, e.Key())
		if at < 0 {
			continue
		}
		switch e.Kind {
		case unstable.Table:
			prefix = words
			w.section(prefix, at)
		case unstable.ArrayTable:
			n := counted[pathOf(words...)]
			counted[pathOf(words...)]++
			prefix = append(slices.Clone(words), fmt.Sprint(n))
			w.section(prefix, at)
		case unstable.KeyValue:
			w.expressions = append(w.expressions, at)
			w.value(&p, append(slices.Clone(prefix), words...), at, e.Value())
		}
	}
	return w
}

// section notes where a section begins: at the line of its header.
func (w *places) section(path []string, at int) {
	at = bytes.LastIndexByte(w.text[:at], '\n') + 1
	w.keys[pathOf(path...)] = at
	w.sections = append(w.sections, at)
	w.expressions = append(w.expressions, at)
}

// words are those of a key, and where it begins; -1: that is not known.
func (w *places) words(p *unstable.Parser, it unstable.Iterator) (words []string, at int) {
	at = -1
	for it.Next() {
		n := it.Node()
		words = append(words, string(n.Data))
		if at < 0 && n.Raw.Length > 0 {
			at = int(n.Raw.Offset)
		}
	}
	return words, at
}

// value notes a setting and, of an inline table or an array of them, what is in it.
func (w *places) value(p *unstable.Parser, path []string, at int, v *unstable.Node) {
	if _, there := w.keys[pathOf(path...)]; !there {
		w.keys[pathOf(path...)] = at
	}
	switch {
	case v == nil || !v.Valid():
	case v.Kind == unstable.InlineTable:
		for it := v.Children(); it.Next(); {
			n := it.Node()
			if words, in := w.words(p, n.Key()); in >= 0 {
				w.value(p, append(slices.Clone(path), words...), in, n.Value())
			}
		}
	case v.Kind == unstable.Array:
		i := 0
		for it := v.Children(); it.Next(); i++ {
			if n := it.Node(); n.Kind == unstable.InlineTable {
				w.value(p, append(slices.Clone(path), fmt.Sprint(i)), at, n)
			}
		}
	}
}

// line is the line, from 1, in which what has a path stands; 0: that is not known.
func (w *places) line(path string) int {
	at, ok := w.keys[path]
	if !ok {
		return 0
	}
	return 1 + bytes.Count(w.text[:at], []byte("\n"))
}

// named is the part of a header that is a name: of [peer.NAME] and its like, whatever is in that.
var named = []string{"peer", "policy", "audience"}

// find is where a key of the n-th section with a header stands, else the section, else the beginning.
func (w *places) find(header string, n int, key string) int {
	inner := strings.Trim(header, "[]")
	path := strings.Split(inner, ".")
	if kind, name, ok := strings.Cut(inner, "."); ok && slices.Contains(named, kind) {
		path = []string{kind, name}
	}
	if strings.HasPrefix(header, "[[") {
		path = append(path, fmt.Sprint(n))
	}
	for _, p := range []string{pathOf(append(slices.Clone(path), key)...), pathOf(path...)} {
		if at, ok := w.keys[p]; ok {
			return at
		}
	}
	return 0
}

// around is the first of a list that is not after an offset, and the next one or the end.
func (w *places) around(list []int, at int) (begin, end int) {
	end = len(w.text)
	for _, x := range list {
		if x > at {
			return begin, x
		}
		begin = x
	}
	return begin, end
}
