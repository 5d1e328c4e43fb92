package zonefile_test

import (
	"strings"
	"testing"

	"fencepost/source"
	"fencepost/zonefile"
)

func TestExpandRanges(t *testing.T) {
	for in, want := range map[string]string{
		"$GENERATE 1-3 host$ A 192.0.2.$\n":                               "host1 A 192.0.2.1\nhost2 A 192.0.2.2\nhost3 A 192.0.2.3\n",
		"a A 192.0.2.1\n$generate 0-4/2 $ PTR h$.x. ; c\nb A 192.0.2.2\n": "a A 192.0.2.1\n; c\n0 PTR h0.x.\n2 PTR h2.x.\n4 PTR h4.x.\nb A 192.0.2.2\n",
		"$GENERATE 9-10 n${0,3,d} 60 IN CNAME m${-9}\n":                   "n009 60 IN CNAME m0\nn010 60 IN CNAME m1\n",
		"$GENERATE 10-10 a TXT \"${0,4,x} ${0,0,X} ${0,2,o}\"\n":          "a TXT \"000a A 12\"\n",
		"$GENERATE 18-18 ${0,7,n} PTR a\\$b$$c\n":                         "2.1.0.0 PTR a$b$c\n",
		// What is not of this form stays, for check to tell.
		"$GENERATE 3-1 a A 192.0.2.$\n":             "",
		"$GENERATE 1-2/0 a A 192.0.2.$\n":           "",
		"$GENERATE 1-99999999 a A 192.0.2.$\n":      "",
		"$GENERATE 1-2 a A ${x}\n":                  "",
		"$GENERATE 1-2 a A ${-5}\n":                 "",
		"$GENERATE 1-2 a A ${0,1\n":                 "",
		"$GENERATE x a A 1\n":                       "",
		"$ORIGIN example.\na TXT $GENERATE 1-2 a\n": "",
	} {
		var src source.Set
		f, err := src.Add("x", []byte(in))
		if err != nil {
			t.Fatal(err)
		}
		got, done := zonefile.ExpandRanges(f)
		if want == "" {
			want = in
		}
		if string(got) != want || (len(done) > 0) != (want != in) {
			t.Errorf("%q became\n%s\nwant\n%s", in, got, want)
		}
	}
	// A line after one with a mistake keeps its owner when the file is tidied.
	file, _ := parseText(t, []byte("$TTL 1\nns1 A 192.0.2.1\nbad A 1.2.3\n  TXT after\n"))
	if got := string(zonefile.Tidy(file)); !strings.Contains(got, "bad             TXT    after") {
		t.Errorf("tidied to\n%s", got)
	}
}

// FuzzRanges: whatever is expanded is at most as many lines as are permitted, and is
// not expanded again.
func FuzzRanges(f *testing.F) {
	f.Add([]byte("$GENERATE 1-3 host$ A 192.0.2.${1,2,n} ; c\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		var src source.Set
		file, err := src.Add("x", text)
		if err != nil || len(text) > 1000 {
			return
		}
		out, done := zonefile.ExpandRanges(file)
		for _, d := range done {
			if d.Records < 1 || d.Records > 65536 {
				t.Fatalf("%d records", d.Records)
			}
		}
		if len(done) == 0 && string(out) != string(text) {
			t.Fatal("nothing was expanded, and the text differs")
		}
	})
}
