// Package e2e drives the built program as people do: commands on files in a
// temporary folder, and servers on loopback.
package e2e

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/internal/testrun"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
)

// program is the built program. ahead is the same one on a clock that is 400 days ahead:
// what is the same with it does not depend on the day.
var program, ahead string

// otherDay has all tests run the program on the clock that is ahead, but those that also go by
// the clock of the machine themselves.
var otherDay = flag.Bool("other-day", false, "run the program on a clock that is 400 days ahead")

const aheadBy = 9600 * time.Hour

// now is the time by the program's clock.
func now() time.Time {
	if *otherDay {
		return time.Now().Add(aheadBy)
	}
	return time.Now()
}

// onThisDay is for tests that go by the clock of the machine themselves.
func onThisDay(t *testing.T) {
	t.Helper()
	if *otherDay {
		t.Skip("the test goes by the clock of the machine")
	}
}

func TestMain(m *testing.M) {
	if path := os.Getenv(floodSocket); path != "" {
		os.Exit(holdHalves(path))
	}
	_ = flag.Set("test.parallel", "8") // most of what tests do is to wait for servers
	flag.Parse()
	os.Exit(run(m))
}

// touchSources looks at every source file: the test cache then knows that the
// results depend on them, which it cannot see from the program being built. It
// must run in a test: what TestMain looks at is not recorded.
var touchSources = sync.OnceValue(func() error {
	return filepath.WalkDir(filepath.Join("..", ".."), func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() && (strings.HasSuffix(path, ".go") || d.Name() == "go.mod") {
			_, err = os.Stat(path)
		}
		return err
	})
})

func run(m *testing.M) int {
	testrun.Folders()
	dir, err := os.MkdirTemp("", "fencepost-e2e-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	program, ahead = filepath.Join(dir, "fencepost"), filepath.Join(dir, "ahead", "fencepost")
	other := make(chan error, 1)
	go func() { other <- build(ahead, "-X fencepost/internal/cli.ahead="+aheadBy.String()) }()
	if err := errors.Join(build(program, ""), <-other); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	if *otherDay {
		program = ahead
	}
	return m.Run()
}

func build(path, linkerFlags string) error {
	// Without what only debuggers read, reaching nothing beyond loopback, and with keys that open fast.
	flags := "-s -w -X fencepost/internal/cli.reach=loopback -X fencepost/keyring.fewer=1000 " + linkerFlags
	args := []string{"build", "-o", path, "-ldflags", flags}
	if os.Getenv("GOCOVERDIR") != "" { // what the tests reach of the program is to be told
		args = append(args, "-cover", "-coverpkg=fencepost/...")
	}
	cmd := exec.Command("go", append(args, "fencepost/cmd/fencepost")...)
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s\n%w", out, err)
	}
	return nil
}

// result is what came of a command.
type result struct {
	out, err string
	status   int
}

// fp runs the program in dir.
func fp(t testing.TB, dir string, args ...string) result {
	t.Helper()
	return runProgram(t, program, dir, args...)
}

// runProgram runs a build of the program in dir.
func runProgram(t testing.TB, program, dir string, args ...string) result {
	t.Helper()
	if err := touchSources(); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "NO_COLOR=1")
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	return result{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
}

// ok is fp for commands that must succeed.
func ok(t testing.TB, dir string, args ...string) string {
	t.Helper()
	r := fp(t, dir, args...)
	if r.status != 0 {
		t.Fatalf("fencepost %s: status %d\n%s%s", strings.Join(args, " "), r.status, r.out, r.err)
	}
	return r.out
}

// want checks status and that all texts are said on either output.
func want(t testing.TB, r result, status int, texts ...string) {
	t.Helper()
	if r.status != status {
		t.Errorf("status %d, want %d\n%s%s", r.status, status, r.out, r.err)
	}
	for _, s := range texts {
		if !strings.Contains(r.out+r.err, s) {
			t.Errorf("nothing says %q:\n%s%s", s, r.out, r.err)
		}
	}
}

func write(t testing.TB, path, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	mode := os.FileMode(0o644)
	if filepath.Base(path) == "secrets.toml" {
		mode = 0o600
	}
	if err := os.WriteFile(path, []byte(text), mode); err != nil {
		t.Fatal(err)
	}
}

func read(t testing.TB, path string) string {
	t.Helper()
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

// object reads the one JSON object that a command printed.
func object(t testing.TB, text string) map[string]any {
	t.Helper()
	var v map[string]any
	if err := json.Unmarshal([]byte(text), &v); err != nil {
		t.Fatalf("no JSON object: %v\n%s", err, text)
	}
	return v
}

// given are the ports that tests have, by number: what the system calls free may
// be another test's whose server is not up just now.
var given sync.Map

// freePort is a port of loopback that nobody uses.
func freePort(t testing.TB) int {
	t.Helper()
	for {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		port := l.Addr().(*net.TCPAddr).Port
		c, err := net.ListenPacket("udp", l.Addr().String())
		_ = l.Close()
		if err != nil {
			continue
		}
		_ = c.Close()
		if _, taken := given.LoadOrStore(port, true); !taken {
			return port
		}
	}
}

// daemon is a running `fencepost serve`.
type daemon struct {
	t       testing.TB
	dir     string
	addr    string
	cmd     *exec.Cmd
	log     string
	args    []string // of serve
	program string   // empty: the one that people get
}

// serve starts a server in a workspace and waits until it is ready.
func serve(t testing.TB, dir string) *daemon {
	t.Helper()
	d := &daemon{t: t, dir: dir, log: filepath.Join(t.TempDir(), "log")}
	d.start()
	t.Cleanup(d.stop)
	return d
}

// start starts the server. One whose port another program has for a moment, which
// the system gave out while no server was there, is started again.
func (d *daemon) start() {
	d.t.Helper()
	for end := time.Now().Add(patience); ; time.Sleep(100 * time.Millisecond) {
		said := d.launch()
		if said == "" {
			return
		}
		if !strings.Contains(said, "another program listens there") || time.Now().After(end) {
			d.t.Fatalf("the server did not get ready: %s", said)
		}
	}
}

// launch starts the server once. It returns what the server logged if it did not get
// ready.
func (d *daemon) launch() string {
	d.t.Helper()
	log, err := os.OpenFile(d.log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		d.t.Fatal(err)
	}
	defer log.Close()
	begin, _ := log.Seek(0, io.SeekEnd)
	d.cmd = exec.Command(cmp.Or(d.program, program), append([]string{"serve"}, d.args...)...)
	d.cmd.Dir, d.cmd.Stderr = d.dir, log
	out, err := d.cmd.StdoutPipe()
	if err != nil {
		d.t.Fatal(err)
	}
	if err := d.cmd.Start(); err != nil {
		d.t.Fatal(err)
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		_ = d.cmd.Wait()
		return "(log) " + read(d.t, d.log)[begin:]
	}
	d.addr = strings.Fields(strings.TrimPrefix(line, "ready on "))[0]
	return ""
}

func (d *daemon) stop() {
	if d.cmd.ProcessState == nil {
		_ = d.cmd.Process.Signal(os.Interrupt)
		_ = d.cmd.Wait()
	}
}

// logs waits until the log has a text: it is written a little after what it tells of.
func (d *daemon) logs(text string) {
	d.t.Helper()
	eventually(d.t, "the log has "+text, func() bool { return strings.Contains(read(d.t, d.log), text) })
}

// kill ends the server as a power cut would.
func (d *daemon) kill() {
	_ = d.cmd.Process.Kill()
	_ = d.cmd.Wait()
}

// patience is how long something that must come may take. It is long, for
// machines are slow; nothing waits for it when all is well.
const patience = 30 * time.Second

// eventually tries until f is content.
func eventually(t testing.TB, what string, f func() bool) {
	t.Helper()
	wait := 10 * time.Millisecond
	for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(wait) {
		if f() {
			return
		}
		wait = min(wait*3/2, 200*time.Millisecond) // each try may be a command, and others want the processors
	}
	t.Fatalf("it never happened: %s", what)
}

// serial is the serial that a server answers with; 0 if it does not.
func serial(t testing.TB, addr, zone string) uint32 {
	t.Helper()
	resp, err := resolve.Ask(t.Context(), netip.MustParseAddrPort(addr), resolve.Request{Name: dnsname.MustParse(zone + "."), Type: rr.TypeSOA, Timeout: time.Second})
	if err != nil || resp.Rcode() != message.NoError || len(resp.Answer) == 0 {
		return 0
	}
	soa, err := rr.ParseSOA(resp.Answer[0].Data)
	if err != nil {
		return 0
	}
	return soa.Serial
}
