package ui

import (
	"bytes"
	"encoding/json"
	"errors"
	"strings"
	"testing"
)

// No control character gets out, by whatever way a text is shown; our own marks do.
func TestClean(t *testing.T) {
	hostile := "a\nerror: forged\x1b]0;owned\x07b\x1b[2Jc\r\x00\x7f\u009b31m\u202etxt\xffé\x1b[31m"
	for _, color := range []string{"always", "never"} {
		var out, errOut bytes.Buffer
		u, err := New(&out, &errOut, color, false, false)
		if err != nil {
			t.Fatal(err)
		}
		u.Printf("%s %s\n", u.Paint(Bad, "%s", hostile), hostile)
		u.Sayf("%s\n", hostile)
		u.Error(errors.New(hostile))
		u.Table([]string{"a", hostile}, [][]Text{Cells(hostile, u.Paint(Good, "%s", hostile))})
		if err := u.Object(map[string]string{hostile: hostile}); err != nil {
			t.Fatal(err)
		}
		all := out.String() + errOut.String()
		for _, s := range []Style{Bold, Dim, Bad, Suspect, Good, Aside, "0"} {
			all = strings.ReplaceAll(all, "\x1b["+string(s)+"m", "")
		}
		if i := strings.IndexFunc(all, func(r rune) bool { return r != '\n' && r != '\t' && obeyed(r) }); i >= 0 {
			t.Errorf("%s: %q gets out", color, all[max(0, i-10):min(len(all), i+10)])
		}
		if strings.Contains(out.String(), "\x1b[1;31m") != (color == "always") || !strings.Contains(all, `a\010error: forged\027]0;owned\007b`) || !strings.Contains(all, `\027[31m`) || !strings.Contains(all, "é") {
			t.Errorf("%s: %q", color, all)
		}
	}
	var v map[string]string
	text, _ := json.Marshal(map[string]string{"x": "\u009b\u202e\x7f"})
	if err := json.Unmarshal(cleanJSON(text), &v); err != nil || v["x"] != "\u009b\u202e\x7f" {
		t.Errorf("%q, %v", v, err)
	}
}
