package workspace

import (
	"bytes"
	"errors"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"fencepost/diag"
)

func (p *checker) decode(text []byte, r *raw) (toml bool) {
	const most = 50 // mistakes that are looked for one after the other
	text = bytes.Clone(text)
	for range most {
		bad := p.decodeOnce(text, r)
		if bad == nil {
			return true
		}
		at := p.offset(bad.Position())
		have, want, ok := typeMismatch(strings.TrimPrefix(bad.Error(), "toml: "))
		if !ok {
			p.diags.Add(RuleSyntax.At(p.span1(at), "%s", strings.TrimPrefix(bad.Error(), "toml: ")))
			return false
		}
		p.diags.Add(RuleBadValue.At(p.span1(at), "this value is %s; %s belongs here", have, want))
		p.spoil(at)
		begin, end := p.where.around(p.where.expressions, at)
		if begin == end {
			return true
		}
		for i := begin; i < end; i++ { // the rest is read without it
			if text[i] != '\n' {
				text[i] = ' '
			}
		}
	}
	return true
}

// spoil notes that the setting at an offset could not be read: it looks as if it were not there, and its
// section as if it lacked something.
func (p *checker) spoil(at int) {
	section, _ := p.where.around(p.where.sections, at)
	setting, _ := p.where.around(p.where.expressions, at)
	p.spoiled = append(p.spoiled, section, setting)
}

// dropEchoes takes back findings after the first n that only follow from what could not be read.
func (p *checker) dropEchoes(n int) {
	if len(p.spoiled) == 0 {
		return
	}
	kept := p.diags.All[:n]
	for _, d := range p.diags.All[n:] {
		if !slices.Contains(p.spoiled, p.file.Offset(d.Span.Start)) {
			kept = append(kept, d)
		}
	}
	p.diags.All = kept
}

// decodeOnce decodes as far as it can; keys that nothing knows are told, and what stops it comes back.
func (p *checker) decodeOnce(text []byte, r *raw) *toml.DecodeError {
	*r = raw{}
	err := toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields().Decode(r)
	var strict *toml.StrictMissingError
	var bad *toml.DecodeError
	switch {
	case err == nil:
	case errors.As(err, &strict):
		for i := range strict.Errors {
			p.unknownKey(&strict.Errors[i])
		}
	case errors.As(err, &bad):
		return bad
	default:
		p.diags.Add(RuleSyntax.At(p.span(1, 1, 1), "%v", err))
	}
	return nil
}

func (p *checker) unknownKey(e *toml.DecodeError) {
	line, column := e.Position()
	key := e.Key()
	word := key[len(key)-1]
	d := RuleUnknownKey.At(p.span(line, column, len(word)), "there is no key %s", strings.Join(key, "."))
	switch meant := closestSetting(key); {
	case meant == word:
		d = d.Suggest("%s belongs in %s", word, sectionWith(word))
	case meant != "":
		d = d.Suggest("did you mean %s?", meant)
	}
	p.diags.Add(d)
	p.spoil(p.offset(line, column))
}

// closestSetting is the key that was meant by one that is not there: of the same section if one is
// close or has it as a part, else of any.
func closestSetting(key []string) string {
	word := key[len(key)-1]
	header := strings.Join(key[:len(key)-1], ".")
	for _, s := range Sections {
		if strings.Trim(s.Header, "[]") != header {
			continue
		}
		var names []string
		for _, k := range s.Keys {
			names = append(names, k.Key)
		}
		if meant := diag.Closest(word, names); meant != "" {
			return meant
		}
		if i := slices.IndexFunc(names, func(name string) bool { return slices.Contains(strings.Split(name, "-"), word) }); i >= 0 {
			return names[i]
		}
	}
	if now := renamed[word]; now != "" {
		return now
	}
	return diag.Closest(word, settingNames)
}

// sectionWith is the header of the first section that has a key or that is called so.
func sectionWith(word string) string {
	for _, s := range Sections {
		if slices.ContainsFunc(s.Keys, func(k Setting) bool { return k.Key == word }) {
			return s.Header
		}
	}
	return "a section of its own"
}

// tomlKinds are the kinds of values, as the decoder calls them, in plain words;
// goKinds those that belong into the fields here.
var (
	tomlKinds = map[string]string{"integer": "a number", "float": "a number", "boolean": "true or false", "string": "a text", "array": "a list", "inline table": "a table",
		"table": "a table", "datetime": "a time", "local date": "a date"}
	goKinds = map[string]string{"string": "a text in quotes", "[]string": "a list of texts in square brackets", "bool": "true or false"}
)

// typeMismatch reads the decoder's message about a value of the wrong kind.
func typeMismatch(text string) (have, want string, ok bool) {
	rest, ok := strings.CutPrefix(text, "cannot decode TOML ")
	if !ok {
		return "", "", false
	}
	from, _, _ := strings.Cut(rest, " into ")
	to := rest[strings.LastIndex(rest, " ")+1:]
	if have = tomlKinds[from]; have == "" {
		have = "of another kind"
	}
	if want = goKinds[to]; want == "" {
		want = "a section or another kind of value"
	}
	return have, want, true
}

// renamed are words that settings had before, with what they are called now.
var renamed = map[string]string{"validity": "valid-for", "refresh": "renew-before-end", "jitter": "spread-ends", "inception": "begin-before"}
