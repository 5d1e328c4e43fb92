package workspace

import (
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"

	"fencepost/diag"
	"fencepost/source"
)

// taken lists the keys that fencepost.toml may have, from the types that it is read into.
func taken(t reflect.Type, header string, out map[string]bool) {
	switch t.Kind() {
	case reflect.Map:
		name := header + ".NAME"
		if t.Elem().Kind() == reflect.Struct {
			taken(t.Elem(), name, out)
			return
		}
		out[header] = true
	case reflect.Slice:
		if t.Elem().Kind() == reflect.Struct {
			taken(t.Elem(), header, out)
			return
		}
		out[header] = true
	case reflect.Struct:
		for i := range t.NumField() {
			f := t.Field(i)
			if f.Anonymous { // its keys are those of the section
				taken(f.Type, header, out)
				continue
			}
			taken(f.Type, strings.TrimPrefix(header+"."+f.Tag.Get("toml"), "."), out)
		}
	default:
		out[header] = true
	}
}

// Every key that is read stands in the reference and nothing else does.
func TestReferenceIsWhole(t *testing.T) {
	want := map[string]bool{}
	taken(reflect.TypeFor[raw](), "", want)
	for _, s := range Sections {
		header := strings.Trim(s.Header, "[]")
		for _, k := range s.Keys {
			key := header + "." + k.Key
			if k.Key == strings.ToUpper(k.Key) { // any word
				key = header
			}
			if !want[key] {
				t.Errorf("%s stands in the reference and is not read", key)
			}
			delete(want, key)
		}
	}
	for key := range want {
		t.Errorf("%s is read and not in the reference", key)
	}
}

func read(t *testing.T, text string) (*Config, []string) {
	t.Helper()
	src, diags := &source.Set{}, &diag.List{}
	f, err := src.Add("fencepost.toml", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	secrets := "[tsig.dhcp-2026]\nsecret = \"c2FsdG1hcnNoLW9ic2VydmF0b3J5LXRpZGVzLW9mLTI=\"\n"
	if err := os.WriteFile(filepath.Join(dir, SecretsFile), []byte(secrets), 0o600); err != nil {
		t.Fatal(err)
	}
	c, err := LoadText(dir, f, src, diags)
	if err != nil {
		t.Fatal(err)
	}
	var said []string
	for _, d := range diags.All {
		said = append(said, d.Message)
	}
	return c, said
}

// The reference is a file that can be used, and what it says counts without a word is
// what counts.
func TestReferenceStatesDefaults(t *testing.T) {
	text := Reference()
	for _, line := range strings.Split(text, "\n") {
		if len(line) > lineWidth {
			t.Errorf("%d columns: %s", len(line), line)
		}
	}
	full, said := read(t, text)
	if len(said) > 0 {
		t.Fatalf("the reference has findings: %q\n%s", said, text)
	}
	bare, _ := read(t, "[policy.standard]\n")
	full.Dir, bare.Dir, full.Control, bare.Control = "", "", "", ""
	p, q := full.Policies["standard"], bare.Policies["standard"]
	p.Signing, q.Signing = p.Signing.Filled(), q.Signing.Filled()
	p.Signing.Denial.Params.Salt = nil
	if !reflect.DeepEqual(p, q) {
		t.Errorf("the policy of the reference is\n%+v, without a word it is\n%+v", p, q)
	}
	full.Policies, bare.Policies = nil, nil
	full.Groups, bare.Groups = nil, nil // the section has a name there
	if !reflect.DeepEqual(full, bare) {
		t.Errorf("the reference makes\n%+v, an empty file\n%+v", full, bare)
	}
}

// A key of a zone that is given the value that counts without it changes nothing.
func TestReferenceStatesDefaultsOfZones(t *testing.T) {
	const zone = "[policy.standard]\n[[zone]]\nname = \"a.example\"\nsign = \"standard\"\n"
	bare, said := read(t, zone)
	if len(said) > 0 {
		t.Fatal(said)
	}
	i := slices.IndexFunc(Sections, func(s Section) bool { return s.Header == "[[zone]]" })
	given := 0
	for _, key := range Sections[i].Keys {
		if key.Optional {
			continue
		}
		given++
		full, said := read(t, zone+key.Key+" = "+key.Value+"\n")
		if len(said) > 0 {
			t.Fatalf("%s: %s", key.Key, said)
		}
		if a, b := *full.Zones[0], *bare.Zones[0]; !reflect.DeepEqual(a, b) {
			t.Errorf("%s = %s makes\n%+v, without it there is\n%+v", key.Key, key.Value, a, b)
		}
	}
	if given < 3 {
		t.Errorf("%d keys have a value that counts without them", given)
	}
}

// The examples are such that they could be used as they stand.
func TestReferenceExamples(t *testing.T) {
	sample := regexp.MustCompile(`(?m)^# (\[|[a-z-]+ = )`)
	text := sample.ReplaceAllString(Reference(), "$1")
	text = strings.NewReplacer(".NAME]", ".inside]").Replace(text)
	// What needs other things: peers, secrets, folders, and choices that exclude others.
	for _, key := range []string{"tsig", "tsig-also", "from", "send-to", "fetch-from", "members-from", "wait-for", "parent", "other-signers", "bits", "CODE", "HOST", "spread-ends"} {
		text = regexp.MustCompile(`(?m)^(# )?`+key+` = .*$`).ReplaceAllString(text, "")
	}
	if c, said := read(t, text); len(said) > 0 || c == nil || len(c.Zones) != 2 || c.Audiences["inside"] == nil {
		t.Errorf("the examples have findings: %q\n%s", said, text)
	}
}

func TestExplainSetting(t *testing.T) {
	for word, want := range map[string]string{"send-to": "[[zone]] [[catalog]] [group.NAME]", "zone": "[[zone]] [[check.allow]] [[follow]]", "POLICY": "[policy.NAME]", "[serve]": "[serve]", "listen": "[serve]", "nothing": ""} {
		var got []string
		for _, x := range ExplainSetting(word) {
			got = append(got, x.Section.Header)
		}
		slices.Sort(got)
		w := strings.Fields(want)
		slices.Sort(w)
		if !slices.Equal(got, w) {
			t.Errorf("%s: %v, want %s", word, got, want)
		}
	}
	if !slices.Contains(settingNames, "expect-parent") || slices.Contains(settingNames, "NAME") {
		t.Error("the words for did-you-mean are not the keys")
	}
}
