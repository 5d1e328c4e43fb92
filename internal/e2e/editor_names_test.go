package e2e

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// failure is the error code that a request is answered with.
func (c *client) failure(method string, params any) float64 {
	c.t.Helper()
	c.id++
	c.send(map[string]any{"id": c.id, "method": method, "params": params})
	for {
		if v := c.read(); v["id"] == float64(c.id) {
			if v["error"] == nil {
				c.t.Fatalf("%s was answered: %v", method, v)
			}
			return v["error"].(map[string]any)["code"].(float64)
		}
	}
}

// What is no message is answered and does not end the server; before initialize and
// after shutdown nothing is done.
func TestEditorLifecycle(t *testing.T) {
	t.Parallel()
	c := newClient(t, t.TempDir())
	for text, code := range map[string]float64{"{\"jsonrpc\":": -32700, "\xff\xfe": -32700, "[]": -32600, "42": -32600} {
		if _, err := fmt.Fprintf(c.in, "Content-Length: %d\r\n\r\n%s", len(text), text); err != nil {
			t.Fatal(err)
		}
		v := c.read()
		if v["error"] == nil || v["error"].(map[string]any)["code"] != code || v["id"] != nil {
			t.Errorf("%q is answered by %v, not %v", text, v, code)
		}
	}
	if code := c.failure("initialize", map[string]any{}); code != -32600 {
		t.Errorf("a second initialize: %v", code)
	}
	c.request("shutdown", nil)
	if code := c.failure("textDocument/hover", at("file:///x.zone", 0, 0)); code != -32600 {
		t.Errorf("a request after shutdown: %v", code)
	}
	c.notify("exit", nil)
	if err := c.cmd.Wait(); err != nil {
		t.Error(err)
	}
	early := &client{t: t, cmd: exec.Command(program, "editor"), diags: map[string][]map[string]any{}}
	early.begin(t.TempDir())
	if code := early.failure("textDocument/hover", at("file:///x.zone", 0, 0)); code != -32002 {
		t.Errorf("a request before initialize: %v", code)
	}
	early.notify("exit", nil)
	if err := early.cmd.Wait(); err == nil {
		t.Error("to leave without shutdown is not a clean end")
	}
}

// places are locations as FILE:LINE:CHARACTER.
func places(v any) string {
	var out []string
	list, _ := v.([]any)
	for _, l := range list {
		m := l.(map[string]any)
		start := m["range"].(map[string]any)["start"].(map[string]any)
		out = append(out, fmt.Sprintf("%s:%v:%v", filepath.Base(m["uri"].(string)), start["line"], start["character"]))
	}
	return strings.Join(out, " ")
}

// Names are followed through all zones of the workspace, whether saved or only open.
func TestEditorNames(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	zone := func(name, body string) string {
		text := "$ORIGIN " + name + ".\n$TTL 3600\n@ SOA ns1.salt.example. h.salt.example. 2026112801 5400 1200 1209600 600\n@ NS ns1.salt.example.\n@ NS ns2.salt.example.\n" + body
		write(t, filepath.Join(dir, "zones", name+".zone"), text)
		return "file://" + filepath.ToSlash(filepath.Join(dir, "zones", name+".zone"))
	}
	conf := "[[zone]]\nname = \"salt.example\"\n[[zone]]\nname = \"tide.example\"\n[[zone]]\nname = \"100.51.198.in-addr.arpa\"\n"
	write(t, filepath.Join(dir, "fencepost.toml"), conf)
	salt := zone("salt.example", "ns1 A 198.51.100.53\nns2 A 203.0.113.53\nweb A 198.51.100.80\n_443._tcp.web TLSA 3 1 1 "+strings.Repeat("ab", 32)+"\nwww CNAME web\n$INCLUDE hosts.part\n")
	tide := zone("tide.example", "www CNAME web.salt.example.\n")
	zone("100.51.198.in-addr.arpa", "80 PTR web.salt.example.\n")
	part := filepath.Join(dir, "zones", "hosts.part")
	write(t, part, "cam A 198.51.100.81\ncam2 CNAME web\n")
	open := func(c *client, uri, text string) []map[string]any {
		c.notify("textDocument/didOpen", map[string]any{"textDocument": map[string]any{"uri": uri, "version": 1, "text": text}})
		return c.findings(uri)
	}
	c := newClient(t, dir)
	text := read(t, filepath.Join(dir, "zones", "tide.example.zone"))
	if found := open(c, tide, text); len(found) != 0 {
		t.Errorf("%v", found)
	}
	// From the alias in one zone to the host in another, and to all that point to it.
	def := c.request("textDocument/definition", at(tide, 5, 14)).(map[string]any)
	if got := places([]any{def}); got != "salt.example.zone:7:0" {
		t.Errorf("definition: %s", got)
	}
	hover := c.request("textDocument/hover", at(tide, 5, 14)).(map[string]any)["contents"].(map[string]any)["value"].(string)
	if !strings.Contains(hover, "web.salt.example.") || !strings.Contains(hover, "198.51.100.80") {
		t.Errorf("hover: %s", hover)
	}
	refs := at(tide, 5, 14)
	refs["context"] = map[string]any{"includeDeclaration": true}
	if got, want := places(c.request("textDocument/references", refs)), "tide.example.zone:5:10 100.51.198.in-addr.arpa.zone:5:7 salt.example.zone:7:0 salt.example.zone:9:10"; got != want {
		t.Errorf("references: %s, want %s", got, want)
	}
	rename := at(tide, 5, 14)
	rename["newName"] = "site.salt.example."
	edits := c.request("textDocument/rename", rename).(map[string]any)["changes"].(map[string]any)
	var new []string
	for uri, list := range edits {
		for _, e := range list.([]any) {
			new = append(new, filepath.Base(uri)+" "+e.(map[string]any)["newText"].(string))
		}
	}
	for _, w := range []string{"tide.example.zone site.salt.example.", "salt.example.zone site", "salt.example.zone _443._tcp.site", "100.51.198.in-addr.arpa.zone site.salt.example."} {
		if !strings.Contains("\n"+strings.Join(new, "\n")+"\n", "\n"+w+"\n") {
			t.Errorf("the renaming lacks %s: %q", w, new)
		}
	}
	taken := at(tide, 5, 2)
	taken["newName"] = "@"
	if code := c.failure("textDocument/rename", taken); code != -32803 {
		t.Errorf("a renaming to a name that exists: %v", code)
	}
	// The rules are those of the command: not out of the zone, not where somebody is, not into another zone.
	for _, to := range []string{"site.tide.example.", "site", "salt.example.", "ns1.salt.example.", "a.web.salt.example.", "web.salt.example.", "site.salt.example.salt.example", "büro..salt.example.", "site.salt.example"} {
		wrong := at(tide, 5, 14)
		wrong["newName"] = to
		if code := c.failure("textDocument/rename", wrong); code != -32803 {
			t.Errorf("renamed to %s: %v", to, code)
		}
	}
	script := at(tide, 5, 14)
	script["newName"] = "Büro.salt.example."
	edits = c.request("textDocument/rename", script).(map[string]any)["changes"].(map[string]any)
	if got := fmt.Sprint(edits[tide]); !strings.Contains(got, "xn--bro-hoa.salt.example.") {
		t.Errorf("a name in another script: %s", got)
	}
	// Where a target belongs, the names of other zones are offered too, whole; where an owner does, not.
	offered := func(line, char int) (out string) {
		for _, i := range c.request("textDocument/completion", at(tide, line, char)).([]any) {
			out += i.(map[string]any)["label"].(string) + " "
		}
		return out
	}
	if got := offered(5, 10); !strings.Contains(got, "cam.salt.example. ") || !strings.Contains(got, "www ") {
		t.Errorf("offered as a target: %s", got)
	}
	if got := offered(5, 0); strings.Contains(got, "salt.example. ") {
		t.Errorf("offered as an owner: %s", got)
	}
	// What is open counts, not what is saved.
	saltText := read(t, filepath.Join(dir, "zones", "salt.example.zone"))
	open(c, salt, strings.Replace(saltText, "ns1 A", "\n\nns1 A", 1))
	if got := places([]any{c.request("textDocument/definition", at(tide, 5, 14))}); got != "salt.example.zone:9:0" {
		t.Errorf("definition in a text that is not saved: %s", got)
	}
	var names []string
	for _, s := range c.request("textDocument/documentSymbol", map[string]any{"textDocument": map[string]any{"uri": salt}}).([]any) {
		m := s.(map[string]any)
		names = append(names, fmt.Sprint(m["name"], "=", m["detail"]))
	}
	if got := strings.Join(names, ", "); !strings.Contains(got, "@=SOA NS") || !strings.Contains(got, "www=CNAME") || !strings.Contains(got, "$INCLUDE hosts.part") {
		t.Errorf("outline: %s", got)
	}
	// A part is checked as what it is in the zone: one mistake has one finding.
	uri := "file://" + filepath.ToSlash(part)
	if found := open(c, uri, "cam A 198.51.100.81\ncam2 CNAME webb\n"); len(found) != 1 || found[0]["code"] != "dangling-alias" {
		t.Errorf("the part has %v", found)
	}
	if got := places([]any{c.request("textDocument/definition", at(uri, 0, 1))}); got != "hosts.part:0:0" {
		t.Errorf("definition in a part: %s", got)
	}
	// What the editor reports check reports, and the other way round.
	write(t, filepath.Join(dir, "zones", "tide.example@inside.zone"), strings.Replace(text, "www CNAME web.salt.example.", "db A 10.0.0.1", 1))
	inside := "file://" + filepath.ToSlash(filepath.Join(dir, "zones", "tide.example@inside.zone"))
	if found := open(c, inside, read(t, filepath.Join(dir, "zones", "tide.example@inside.zone"))); len(found) != 0 {
		t.Errorf("the zone for those inside has %v", found)
	}
	// The severity of a finding is changed in the configuration.
	c.notify("textDocument/didChange", map[string]any{"textDocument": map[string]any{"uri": uri, "version": 2}, "contentChanges": []any{map[string]any{"text": "cam2 CNAME webb\ncam 1h A 198.51.100.81 # x\n"}}})
	if found := c.findings(uri); len(found) != 3 {
		t.Errorf("the part has %v", found)
	}
	actions := c.request("textDocument/codeAction", map[string]any{"textDocument": map[string]any{"uri": uri}, "context": map[string]any{"only": []string{"source"}},
		"range": map[string]any{"start": map[string]any{"line": 0, "character": 0}, "end": map[string]any{"line": 0, "character": 1}}}).([]any)
	if len(actions) != 1 || actions[0].(map[string]any)["kind"] != "source.fixAll" || !strings.Contains(fmt.Sprint(actions[0]), ";") {
		t.Errorf("mend all: %v", actions)
	}
	write(t, filepath.Join(dir, "fencepost.toml"), conf+"[check.severity]\nttl-units = \"off\"\n")
	c.notify("workspace/didChangeConfiguration", map[string]any{"settings": nil})
	for len(c.findings(uri)) != 2 { // other documents are looked at again too
	}
	items := c.request("textDocument/completion", at(uri, 0, 0)).([]any)
	if first := items[0].(map[string]any)["label"]; first != "$ORIGIN" {
		t.Errorf("at the beginning of a line: %v", items[:min(len(items), 3)])
	}
}
