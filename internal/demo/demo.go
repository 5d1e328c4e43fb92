// Package demo tells the story of the Saltmarsh Observatory with the program
// itself: it lays out workspaces, runs the very commands it shows on loopback,
// and compares what comes of them with what must.
package demo

import (
	"bufio"
	"bytes"
	"context"
	"embed"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"fencepost/internal/edit"
)

//go:embed data
var data embed.FS

// Options of Run.
type Options struct {
	Program string // path of the fencepost binary
	Keep    string // folder for the workspaces, which stay; empty: a temporary one
	Out     io.Writer
	Color   bool
}

// Run tells the story. It fails when anything comes out otherwise than it must.
func Run(ctx context.Context, o Options) error {
	dir := o.Keep
	if dir == "" {
		tmp, err := os.MkdirTemp("", "fencepost-demo-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(tmp)
		dir = tmp
	} else if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return fmt.Errorf("%s is not empty: the demo writes only into a new or empty folder", dir)
	}
	t := &teller{Options: o, dir: dir}
	defer t.stopAll()
	if err := t.layOut(); err != nil {
		return err
	}
	for i, c := range chapters {
		t.title(i+1, c.title, c.text)
		for _, s := range c.steps {
			if err := t.step(ctx, s); err != nil {
				return err
			}
		}
	}
	t.stopAll()
	t.say("\nThat was the whole story: all of it real commands, files and sockets on this machine.\n")
	if o.Keep != "" {
		t.say("The workspaces are in %s: go on with\n  cd %s && fencepost serve\n", o.Keep, filepath.Join(o.Keep, "observatory"))
	}
	return nil
}

// teller runs the story.
type teller struct {
	Options
	dir     string
	servers map[string]*exec.Cmd
	ports   map[string]int
	begin   time.Time // of the played clock
}

func (t *teller) say(format string, args ...any) { fmt.Fprintf(t.Out, format, args...) }

func (t *teller) paint(style, text string) string {
	if !t.Color {
		return text
	}
	return "\x1b[" + style + "m" + text + "\x1b[0m"
}

func (t *teller) title(n int, title, text string) {
	t.say("\n%s\n%s\n", t.paint("1", fmt.Sprintf("%d. %s", n, title)), text)
}

// freePorts chooses n ports of loopback that are free for UDP and TCP. All are held
// until the last is found, so that none is given twice.
func freePorts(n int) ([]int, error) {
	var ports []int
	for tries := 0; len(ports) < n; tries++ {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, err
		}
		defer l.Close()
		c, err := net.ListenPacket("udp", l.Addr().String())
		switch {
		case err == nil:
			defer c.Close()
			ports = append(ports, l.Addr().(*net.TCPAddr).Port)
		case tries > 10*n:
			return nil, err
		}
	}
	return ports, nil
}

// workspaces are the observatory's primary, the secondary at the harbour, the registry that
// runs the zone above, and one that looks at a stand-in Internet.
var workspaces = []string{"observatory", "harbour", "registry", "outside"}

// layOut writes the workspaces.
func (t *teller) layOut() error {
	t.ports, t.servers = map[string]int{}, map[string]*exec.Cmd{}
	t.begin = time.Now().Add(time.Hour).Truncate(time.Minute)
	ports, err := freePorts(len(workspaces))
	if err != nil {
		return err
	}
	for i, name := range workspaces {
		t.ports[name] = ports[i]
		for _, sub := range []string{"zones", "keys", "state"} {
			if err := os.MkdirAll(filepath.Join(t.dir, name, sub), 0o700); err != nil {
				return err
			}
		}
	}
	secret := fmt.Sprintf("[tsig.harbour-2026]\nalgorithm = \"hmac-sha256\"\nsecret = %q\n", edit.NewSecret())
	files := map[string]string{
		"observatory/fencepost.toml":  fmt.Sprintf(observatoryConfig, t.ports["observatory"], t.ports["harbour"], t.ports["registry"]),
		"registry/fencepost.toml":     fmt.Sprintf(registryConfig, t.ports["registry"], t.ports["observatory"], t.ports["harbour"]),
		"registry/zones/example.zone": registryZone,
		"observatory/secrets.toml":    secret + fmt.Sprintf("\n[tsig.buoys-2026]\nsecret = %q\n", edit.NewSecret()),
		"harbour/fencepost.toml":      fmt.Sprintf(harbourConfig, t.ports["harbour"], t.ports["observatory"]),
		"harbour/secrets.toml":        secret,
	}
	zones, err := fs.Glob(data, "data/zones/*.zone")
	if err != nil {
		return err
	}
	for _, z := range zones {
		text, err := data.ReadFile(z)
		if err != nil {
			return err
		}
		files["observatory/zones/"+filepath.Base(z)] = string(text)
	}
	pasted, err := data.ReadFile("data/estuary.example.zone")
	if err != nil {
		return err
	}
	files["observatory/estuary.example.zone"] = string(pasted)
	for name, text := range files {
		mode := fs.FileMode(0o644)
		if strings.HasSuffix(name, "secrets.toml") {
			mode = 0o600
		}
		if err := os.WriteFile(filepath.Join(t.dir, name), []byte(text), mode); err != nil {
			return err
		}
	}
	return nil
}

const observatoryConfig = `# The Saltmarsh Observatory: primary for its zones.
[serve]
listen = ["127.0.0.1:%d"]

[peer.harbour]                        # the secondary at the harbour office
address = "127.0.0.1:%d"
tsig    = "harbour-2026"

[peer.registry]                       # who runs the parent
address = "127.0.0.1:%d"

[policy.standard]
algorithm = "ECDSAP256SHA256"
keys      = "single"

[address-override]
"*" = "unreachable"                   # the play stays on this machine

[[zone]]
name    = "saltmarsh.example"
sign    = "standard"
send-to = ["harbour"]
parent  = ["registry"]                # asked whether it has the DS

[[zone]]
name    = "gauges.saltmarsh.example"
send-to = ["harbour"]

[[zone]]
name    = "buoys.example"
send-to = ["harbour"]

[[grant]]                             # what the buoys may change by messages
key   = "buoys-2026"
zones = ["buoys.example"]
types = ["A"]

[[zone]]
name = "100.51.198.in-addr.arpa"

[[zone]]
name = "7.1.a.5.8.b.d.0.1.0.0.2.ip6.arpa"
`

const harbourConfig = `# The harbour office: secondary for the observatory's zones.
[serve]
listen = ["127.0.0.1:%d"]

[peer.observatory]
address = "127.0.0.1:%d"
tsig    = "harbour-2026"

[[zone]]
name       = "saltmarsh.example"
fetch-from = ["observatory"]

[[zone]]
name       = "gauges.saltmarsh.example"
fetch-from = ["observatory"]

[[zone]]
name       = "buoys.example"
fetch-from = ["observatory"]
`

const registryConfig = `# A stand-in for the registry of the zone example.
[serve]
listen = ["127.0.0.1:%d"]

[address-override]                               # where name servers are reached in this play, and no others
"ns1.saltmarsh.example" = "127.0.0.1:%d"
"ns2.saltmarsh.example" = "127.0.0.1:%d"
"*" = "unreachable"

[[zone]]
name = "example"
`

const registryZone = `$TTL 1h
@            SOA ns1.nic hostmaster.nic 2026112301 2h 15m 2w 5m
             NS  ns1.nic
             NS  ns2.nic
ns1.nic      A   192.0.2.1
ns2.nic      A   203.0.113.1
saltmarsh    NS  ns1.saltmarsh
saltmarsh    NS  ns2.saltmarsh
ns1.saltmarsh A  198.51.100.53
              AAAA 2001:db8:5a17::53
ns2.saltmarsh A  203.0.113.53
`

// step runs one command of the story, or starts a server.
func (t *teller) step(ctx context.Context, s step) error {
	if s.say != "" {
		t.say("\n%s\n", s.say)
	}
	where := s.in
	if where == "" {
		where = "observatory"
	}
	if s.do != nil {
		return s.do(t, filepath.Join(t.dir, where))
	}
	if s.stop != "" {
		t.stop(s.stop)
		return nil
	}
	args := make([]string, len(s.args))
	for i, a := range s.args {
		args[i] = t.fill(ctx, a)
	}
	t.say("\n%s\n", t.paint("36", where+"$ fencepost "+shell(args)))
	if s.serve {
		return t.start(ctx, where, args)
	}
	deadline := time.Now().Add(s.wait)
	for {
		out, status, err := t.run(ctx, filepath.Join(t.dir, where), args)
		if err != nil {
			return err
		}
		bad := s.judge(out, status)
		if bad == nil || time.Now().After(deadline) {
			t.say("%s", indent(clip(out, s.lines)))
			return bad
		}
		time.Sleep(50 * time.Millisecond) // a server is still at it
	}
}

// fill puts in what is known only now: addresses of servers, {+2h} for a time on the
// played clock, {key} for the tag of the key in use.
func (t *teller) fill(ctx context.Context, a string) string {
	for name, port := range t.ports {
		a = strings.ReplaceAll(a, "{"+name+"}", fmt.Sprintf("127.0.0.1:%d", port))
	}
	if after, ok := strings.CutPrefix(a, "{+"); ok {
		if d, err := time.ParseDuration(strings.TrimSuffix(after, "}")); err == nil {
			return t.begin.Add(d).UTC().Format(time.RFC3339)
		}
	}
	if a == "{key}" {
		var list struct {
			Keys []struct {
				Tag   int    `json:"key_tag"`
				State string `json:"state"`
			} `json:"keys"`
		}
		out, _, _ := t.run(ctx, filepath.Join(t.dir, "observatory"), []string{"key", "list", "saltmarsh.example", "--format", "json"})
		_ = json.Unmarshal([]byte(out), &list) // what is missing shows in the next command
		for _, k := range list.Keys {
			if k.State == "active" {
				return fmt.Sprint(k.Tag)
			}
		}
	}
	return a
}

// colours are what sets pieces of text off on terminals (ECMA-48 §8.3.117).
var colours = regexp.MustCompile("\x1b\\[[0-9;]*m")

// judge compares what came of a step with what must.
func (s step) judge(out string, status int) error {
	out = colours.ReplaceAllString(out, "")
	if status != s.status {
		return fmt.Errorf("the command ended with status %d, not %d:\n%s", status, s.status, out)
	}
	for _, want := range s.want {
		if !strings.Contains(out, want) {
			return fmt.Errorf("the command did not say %q:\n%s", want, out)
		}
	}
	return nil
}

func (t *teller) command(ctx context.Context, dir string, args []string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, t.Program, args...)
	cmd.Dir = dir
	if t.Color {
		cmd.Args = append(cmd.Args, "--color", "always")
	}
	return cmd
}

// run runs a command and returns all it said and its exit status.
func (t *teller) run(ctx context.Context, dir string, args []string) (string, int, error) {
	var out bytes.Buffer
	cmd := t.command(ctx, dir, args)
	cmd.Stdout, cmd.Stderr = &out, &out
	err := cmd.Run()
	if cmd.ProcessState == nil {
		return "", 0, err
	}
	return out.String(), cmd.ProcessState.ExitCode(), ctx.Err()
}

// start starts a server and waits until it is ready. A program that has taken the
// port for a moment while no server was there is waited for.
func (t *teller) start(ctx context.Context, where string, args []string) error {
	for deadline := time.Now().Add(patience); ; time.Sleep(100 * time.Millisecond) {
		cmd, line, err := t.launch(ctx, where, args)
		if err == nil {
			t.servers[where] = cmd
			t.say("%s", indent(line))
			return nil
		}
		if !strings.Contains(err.Error(), "another program listens there") || time.Now().After(deadline) {
			return err
		}
	}
}

// launch starts a server once and returns what it said when it was ready.
func (t *teller) launch(ctx context.Context, where string, args []string) (*exec.Cmd, string, error) {
	dir := filepath.Join(t.dir, where)
	cmd := t.command(ctx, dir, args)
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, "", err
	}
	log, err := os.Create(filepath.Join(dir, "serve.log"))
	if err != nil {
		return nil, "", err
	}
	defer log.Close()
	cmd.Stderr = log
	if err := cmd.Start(); err != nil {
		return nil, "", err
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		_ = cmd.Wait()
		text, _ := os.ReadFile(log.Name())
		return nil, "", fmt.Errorf("the server did not get ready:\n%s", text)
	}
	return cmd, line, nil
}

// stop ends a server; "all" ends them all.
func (t *teller) stop(where string) {
	for _, name := range workspaces {
		if c := t.servers[name]; c != nil && (where == name || where == "all") {
			_ = c.Process.Signal(os.Interrupt)
			_ = c.Wait()
			delete(t.servers, name)
		}
	}
}

func (t *teller) stopAll() { t.stop("all") }

// shell writes arguments as one would type them.
func shell(args []string) string {
	out := make([]string, len(args))
	for i, a := range args {
		if a == "" || strings.ContainsAny(a, " \"*();") {
			a = "'" + a + "'"
		}
		out[i] = a
	}
	return strings.Join(out, " ")
}

func indent(s string) string {
	s = strings.TrimRight(s, "\n")
	return "  " + strings.ReplaceAll(s, "\n", "\n  ") + "\n"
}

// clip leaves the first n lines and the last of a long output; 0 leaves all.
func clip(s string, n int) string {
	lines := strings.Split(strings.TrimRight(s, "\n"), "\n")
	if n == 0 || len(lines) <= n+4 {
		return s
	}
	left := len(lines) - n - 2
	return strings.Join(lines[:n], "\n") + fmt.Sprintf("\n… %d more lines …\n", left) + strings.Join(lines[len(lines)-2:], "\n")
}
