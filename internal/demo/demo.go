// Package demo tells the story of the Saltmarsh Observatory with the program
// itself: it lays out workspaces, runs the very commands it shows on loopback,
// and compares what comes of them with what must.
package demo

import (
	"bufio"
	"bytes"
	"context"
	"embed"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"fencepost/internal/app"
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
	servers []*exec.Cmd
	ports   map[string]int
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

// freePort finds a port that is free on loopback for UDP and TCP.
func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// layOut writes the two workspaces: the observatory's primary, and the
// secondary at the harbour.
func (t *teller) layOut() error {
	t.ports = map[string]int{}
	for _, name := range []string{"observatory", "harbour"} {
		p, err := freePort()
		if err != nil {
			return err
		}
		t.ports[name] = p
		for _, sub := range []string{"zones", "keys", "state"} {
			if err := os.MkdirAll(filepath.Join(t.dir, name, sub), 0o700); err != nil {
				return err
			}
		}
	}
	secret := fmt.Sprintf("[tsig.harbour-2026]\nalgorithm = \"hmac-sha256\"\nsecret = %q\n", app.NewSecret())
	files := map[string]string{
		"observatory/fencepost.toml": fmt.Sprintf(observatoryConfig, t.ports["observatory"], t.ports["harbour"]),
		"observatory/secrets.toml":   secret,
		"harbour/fencepost.toml":     fmt.Sprintf(harbourConfig, t.ports["harbour"], t.ports["observatory"]),
		"harbour/secrets.toml":       secret,
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

[policy.standard]
algorithm = "ECDSAP256SHA256"
keys      = "single"

[[zone]]
name    = "saltmarsh.example"
sign    = "standard"
send-to = ["harbour"]

[[zone]]
name    = "gauges.saltmarsh.example"
send-to = ["harbour"]

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
	args := make([]string, len(s.args))
	for i, a := range s.args {
		for name, port := range t.ports {
			a = strings.ReplaceAll(a, "{"+name+"}", fmt.Sprintf("127.0.0.1:%d", port))
		}
		args[i] = a
	}
	t.say("\n%s\n", t.paint("36", where+"$ fencepost "+shell(args)))
	if s.serve {
		return t.start(ctx, filepath.Join(t.dir, where), args)
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

// judge compares what came of a step with what must.
func (s step) judge(out string, status int) error {
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

// start starts a server and waits until it is ready.
func (t *teller) start(ctx context.Context, dir string, args []string) error {
	cmd := t.command(ctx, dir, args)
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	log, err := os.Create(filepath.Join(dir, "serve.log"))
	if err != nil {
		return err
	}
	defer log.Close()
	cmd.Stderr = log
	if err := cmd.Start(); err != nil {
		return err
	}
	t.servers = append(t.servers, cmd)
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		text, _ := os.ReadFile(log.Name())
		return fmt.Errorf("the server did not get ready:\n%s", text)
	}
	t.say("%s", indent(line))
	return nil
}

func (t *teller) stopAll() {
	for _, c := range t.servers {
		_ = c.Process.Signal(os.Interrupt)
	}
	for _, c := range t.servers {
		_ = c.Wait()
	}
	t.servers = nil
}

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
