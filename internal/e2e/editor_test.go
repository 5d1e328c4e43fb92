package e2e

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"
)

// client is a scripted editor that speaks to `fencepost editor`.
type client struct {
	t     *testing.T
	in    io.WriteCloser
	out   *bufio.Reader
	cmd   *exec.Cmd
	id    int
	diags map[string][]map[string]any // published last, by URI
}

func newClient(t *testing.T, dir string) *client {
	t.Helper()
	c := &client{t: t, cmd: exec.Command(program, "editor"), diags: map[string][]map[string]any{}}
	c.begin(dir)
	v := c.request("initialize", map[string]any{"capabilities": map[string]any{}})
	if v.(map[string]any)["capabilities"].(map[string]any)["hoverProvider"] != true {
		t.Errorf("initialize: %v", v)
	}
	c.notify("initialized", map[string]any{})
	return c
}

// begin starts the server.
func (c *client) begin(dir string) {
	c.t.Helper()
	c.cmd.Dir, c.cmd.Stderr = dir, os.Stderr
	var err error
	if c.in, err = c.cmd.StdinPipe(); err != nil {
		c.t.Fatal(err)
	}
	out, err := c.cmd.StdoutPipe()
	if err != nil {
		c.t.Fatal(err)
	}
	c.out = bufio.NewReader(out)
	if err := c.cmd.Start(); err != nil {
		c.t.Fatal(err)
	}
	stop := time.AfterFunc(time.Minute, func() { _ = c.cmd.Process.Kill() })
	c.t.Cleanup(func() { stop.Stop(); _ = c.cmd.Process.Kill(); _ = c.cmd.Wait() })
}

func (c *client) send(v map[string]any) {
	c.t.Helper()
	v["jsonrpc"] = "2.0"
	text, err := json.Marshal(v)
	if err != nil {
		c.t.Fatal(err)
	}
	if _, err := fmt.Fprintf(c.in, "Content-Length: %d\r\n\r\n%s", len(text), text); err != nil {
		c.t.Fatal(err)
	}
}

func (c *client) notify(method string, params any) {
	c.t.Helper()
	c.send(map[string]any{"method": method, "params": params})
}

// read takes one message; published findings are kept.
func (c *client) read() map[string]any {
	c.t.Helper()
	n := 0
	for {
		line, err := c.out.ReadString('\n')
		if err != nil {
			c.t.Fatalf("the server ended: %v", err)
		}
		if line = strings.TrimSpace(line); line == "" {
			break
		}
		if v, ok := strings.CutPrefix(line, "Content-Length: "); ok {
			n, _ = strconv.Atoi(v)
		}
	}
	text := make([]byte, n)
	if _, err := io.ReadFull(c.out, text); err != nil {
		c.t.Fatal(err)
	}
	var v map[string]any
	if err := json.Unmarshal(text, &v); err != nil {
		c.t.Fatal(err)
	}
	if v["method"] == "textDocument/publishDiagnostics" {
		p := v["params"].(map[string]any)
		list := []map[string]any{}
		for _, d := range p["diagnostics"].([]any) {
			list = append(list, d.(map[string]any))
		}
		c.diags[p["uri"].(string)] = list
	}
	return v
}

func (c *client) request(method string, params any) any {
	c.t.Helper()
	c.id++
	c.send(map[string]any{"id": c.id, "method": method, "params": params})
	for {
		if v := c.read(); v["id"] == float64(c.id) {
			if v["error"] != nil {
				c.t.Fatalf("%s: %v", method, v["error"])
			}
			return v["result"]
		}
	}
}

// findings waits for findings of a document.
func (c *client) findings(uri string) []map[string]any {
	c.t.Helper()
	delete(c.diags, uri)
	for c.diags[uri] == nil {
		c.read()
	}
	return c.diags[uri]
}

func at(uri string, line, character int) map[string]any {
	return map[string]any{"textDocument": map[string]any{"uri": uri}, "position": map[string]any{"line": line, "character": character}}
}

const edited = `$ORIGIN saltmarsh.example.
$TTL 3600
@  SOA ns1 hostmaster 2026112301 7200 900 1209600 300
@  NS ns1
@  NS ns2.example.net.
@  MX 10 mail.example.net
ns1 A 192.0.2.1
bücher TXT "ü" ; comment
www CNAME ns1
`

func TestEditor(t *testing.T) {
	t.Parallel()
	dir := estate(t)
	c := newClient(t, dir)
	uri := "file://" + filepath.ToSlash(filepath.Join(dir, "zones", "saltmarsh.example.zone"))
	c.notify("textDocument/didOpen", map[string]any{"textDocument": map[string]any{"uri": uri, "languageId": "zone", "version": 1, "text": edited}})
	found := c.findings(uri)
	if len(found) != 2 || found[0]["code"] != "missing-final-dot" || found[0]["severity"] != 1.0 || found[1]["code"] != "not-ascii" {
		t.Fatalf("%v", found)
	}
	if r := found[0]["range"].(map[string]any)["start"].(map[string]any); r["line"] != 5.0 || r["character"] != 9.0 {
		t.Errorf("the finding is at %v", r)
	}
	// Columns count UTF-16 units: ü is one, though two octets.
	if r := found[1]["range"].(map[string]any)["end"].(map[string]any); r["character"] != 6.0 {
		t.Errorf("the name ends at %v", r)
	}
	hover := func(line, character int) string {
		v, _ := c.request("textDocument/hover", at(uri, line, character)).(map[string]any)
		if v == nil {
			return ""
		}
		return v["contents"].(map[string]any)["value"].(string)
	}
	for _, h := range []struct {
		line, character int
		says            string
	}{{5, 12, "missing-final-dot"}, {5, 4, "mail exchanger of the domain"}, {5, 6, "preference"}, {2, 22, "serial"}, {8, 1, "www.saltmarsh.example."}} {
		if got := hover(h.line, h.character); !strings.Contains(got, h.says) {
			t.Errorf("hover at %d:%d says %q, not %q", h.line, h.character, got, h.says)
		}
	}
	def := c.request("textDocument/definition", at(uri, 8, 11)).(map[string]any)
	if def["uri"] != uri || def["range"].(map[string]any)["start"].(map[string]any)["line"] != 6.0 {
		t.Errorf("definition: %v", def)
	}
	labels := func(line, character int) string {
		var out []string
		for _, i := range c.request("textDocument/completion", at(uri, line, character)).([]any) {
			out = append(out, i.(map[string]any)["label"].(string))
		}
		return " " + strings.Join(out, " ") + " "
	}
	if got := labels(8, 4); !strings.Contains(got, " CNAME ") || !strings.Contains(got, " HTTPS ") {
		t.Errorf("types: %s", got)
	}
	if got := labels(8, 10); !strings.Contains(got, " ns1 ") || strings.Contains(got, "CNAME") {
		t.Errorf("names: %s", got)
	}
	actions := c.request("textDocument/codeAction", map[string]any{"textDocument": map[string]any{"uri": uri}, "context": map[string]any{},
		"range": map[string]any{"start": map[string]any{"line": 5, "character": 0}, "end": map[string]any{"line": 5, "character": 1}}}).([]any)
	if len(actions) != 2 || !strings.Contains(fmt.Sprint(actions[0]), "mail.example.net.") {
		t.Errorf("actions: %v", actions)
	}
	format := c.request("textDocument/formatting", map[string]any{"textDocument": map[string]any{"uri": uri}, "options": map[string]any{}}).([]any)
	if len(format) != 1 || !strings.Contains(format[0].(map[string]any)["newText"].(string), "ns1             A      192.0.2.1") {
		t.Errorf("formatting: %v", format)
	}

	// A change of one place: the dot that was missing.
	end := map[string]any{"line": 5, "character": 25}
	c.notify("textDocument/didChange", map[string]any{"textDocument": map[string]any{"uri": uri, "version": 2},
		"contentChanges": []any{map[string]any{"range": map[string]any{"start": end, "end": end}, "text": "."}}})
	if found := c.findings(uri); len(found) != 1 {
		t.Errorf("after the change: %v", found)
	}
	// A file with mistakes is formatted as far as it can be read, and the mistakes stay as they are written.
	c.notify("textDocument/didChange", map[string]any{"textDocument": map[string]any{"uri": uri, "version": 3}, "contentChanges": []any{map[string]any{"text": tides + "new   a   192.0.2.44\nbad  A   192.0.2.999\nlast AAAA    2001:db8::4\n"}}})
	if found := c.findings(uri); len(found) == 0 {
		t.Error("a wrong address is not told")
	}
	format = c.request("textDocument/formatting", map[string]any{"textDocument": map[string]any{"uri": uri}, "options": map[string]any{}}).([]any)
	if got := fmt.Sprint(format); !strings.Contains(got, "new             A      192.0.2.44\n") || !strings.Contains(got, "192.0.2.999\n") || !strings.Contains(got, "last            AAAA   2001:db8::4\n") {
		t.Errorf("formatting of a file with a mistake: %v", format)
	}
	// What is being typed does not stop the server.
	c.notify("textDocument/didChange", map[string]any{"textDocument": map[string]any{"uri": uri, "version": 4}, "contentChanges": []any{map[string]any{"text": "( \" \\"}}})
	if found := c.findings(uri); len(found) == 0 {
		t.Error("nothing is wrong with half a record")
	}
	hover(0, 0)
	hover(99, 99)
	c.notify("textDocument/didClose", map[string]any{"textDocument": map[string]any{"uri": uri}})
	if found := c.findings(uri); len(found) != 0 {
		t.Errorf("a closed document has %v", found)
	}

	config := "file://" + filepath.ToSlash(filepath.Join(dir, "fencepost.toml"))
	c.notify("textDocument/didOpen", map[string]any{"textDocument": map[string]any{"uri": config, "version": 1, "text": "[serial]\nstlye = \"date\"\n"}})
	if found := c.findings(config); len(found) != 1 || found[0]["code"] != "config-unknown-key" || !strings.Contains(found[0]["message"].(string), "did you mean style?") {
		t.Errorf("configuration: %v", found)
	}

	// Expectations are completed with the words of the language and what the zone's file has.
	stated := "file://" + filepath.ToSlash(filepath.Join(dir, "expect", "saltmarsh.example.expect"))
	c.notify("textDocument/didOpen", map[string]any{"textDocument": map[string]any{"uri": stated, "version": 1, "text": "zone saltmarsh.example\n\n@ \n@ MX \n@ NS is \nwww "}})
	_ = c.findings(stated)
	uri = stated
	for _, w := range []struct {
		line, character int
		offered         []string
	}{{1, 0, []string{"zone", "group", "@", "ns1"}}, {2, 2, []string{"MX", "does not exist"}}, {3, 5, []string{"is", "contains", "is one of", "ttl at most"}},
		{4, 8, []string{"one of", "signed", "ns2.example.net."}}, {5, 4, []string{"AAAA"}}} {
		got := labels(w.line, w.character)
		for _, o := range w.offered {
			if !strings.Contains(got, " "+o) {
				t.Errorf("at %d:%d %q is not offered: %s", w.line, w.character, o, got)
			}
		}
	}
	c.request("shutdown", nil)
	c.notify("exit", nil)
	if err := c.cmd.Wait(); err != nil {
		t.Errorf("the server ended with %v", err)
	}
}

func TestEditorLeaves(t *testing.T) {
	t.Parallel()
	c := newClient(t, t.TempDir())
	c.send(map[string]any{"id": 99, "method": "no/such", "params": nil})
	if v := c.read(); v["error"] == nil {
		t.Errorf("an unknown method: %v", v)
	}
	c.in.Close()
	if err := c.cmd.Wait(); err != nil {
		t.Errorf("the server did not end with its client: %v", err)
	}
}
