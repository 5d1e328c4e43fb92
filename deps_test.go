package fencepost_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// layers is the structure of the program, from the bottom up: a package imports
// only what stands in a line above it. docs/architecture.md draws it.
var layers = [][]string{
	{"dnsname", "source", "netio/datagram", "wholefile"},
	{"diag", "netio"},
	{"rr"},
	{"message", "zone"},
	{"zonefile", "dnssec"},
	{"lint"},
	{"lint/checks"},
	{"signer"},
	{"roll", "tsig", "answer", "validate", "cookie", "update", "catalog"},
	{"keyring"},
	{"resolve", "store", "expect"},
	{"audit", "transfer", "childsync"},
	{"keymanager"},
	{"workspace"},
	{"zoneload"},
	{"server/request"},
	{"server/frontend"},
	{"server/zonestate"},
	{"server"},
	{"sim"},
	{"internal/control", "internal/eventlog"},
	{"internal/edit"},
	{"internal/worlds"},
	{"internal/ops"},
	{"internal/ui", "internal/demo", "internal/editor", "internal/publish"},
	{"internal/cli"},
	{"cmd/fencepost", "bench"},
}

// denied says what packages may not import: the core prints nothing, ends
// nothing and reads no clock of its own accord.
var denied = map[string][]string{
	"os":                     {"audit", "dnsname", "source", "diag", "rr", "zone", "zonefile", "message", "lint", "lint/checks", "dnssec", "signer", "roll", "validate", "childsync", "answer", "tsig", "transfer", "resolve", "keymanager", "server", "server/request", "server/frontend", "server/zonestate"},
	"net":                    {"dnsname", "source", "diag", "rr", "zone", "zonefile", "message", "lint", "lint/checks", "dnssec", "signer", "roll", "validate", "childsync", "answer", "tsig", "store", "keyring"},
	"github.com/spf13/cobra": {"internal/edit", "internal/ops", "internal/ui", "internal/demo", "internal/editor", "internal/control", "server", "server/request", "server/frontend", "server/zonestate", "workspace"},
	"encoding/json":          {"zone", "zonefile", "message", "answer", "dnssec", "signer", "roll", "server", "server/request", "server/frontend", "server/zonestate"},
}

// calls that the core does not make, as text.
var forbiddenCalls = []string{"fmt.Print(", "fmt.Printf(", "fmt.Println(", "os.Exit(", "os.Stdout", "os.Stderr", "slog.Default(", "log.Print"}

// socketCalls reach for the system's network. Only netio makes them: the core is given a
// Network.
var socketCalls = []string{"net.Dial(", "net.DialTimeout(", "net.Dialer{", "net.Listen(", "net.ListenPacket(", "net.ListenUDP(", "net.ListenTCP(", "net.ListenConfig{", "net.DefaultResolver"}

// clockCalls ask the clock of the machine, or wait for it. Only netio makes them, and
// wholefile, to which files say when they were changed: the core is given a Clock.
var clockCalls = []string{"time.Now", "time.NewTimer(", "time.NewTicker(", "time.AfterFunc(", "time.After(", "time.Tick(", "time.Sleep(", "time.Since(", "time.Until(", "context.WithTimeout(", "context.WithDeadline("}

// readers may read files in another way than wholefile.Read, which refuses FIFOs and devices and
// knows a limit: they read what people name for this once, or what they wrote themselves.
var readers = []string{"internal/cli", "internal/demo", "internal/vectors", "internal/testrun", "internal/ops/pull.go", "bench"}

const module = "fencepost/"

func TestLayers(t *testing.T) {
	level := map[string]int{}
	for i, l := range layers {
		for _, p := range l {
			level[p] = i
		}
	}
	seen := map[string]bool{}
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() && strings.HasPrefix(d.Name(), ".") && path != "." {
			return fs.SkipDir
		}
		pkg := filepath.ToSlash(filepath.Dir(path))
		if d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || pkg == "internal/vectors" || pkg == "internal/testrun" || pkg == "internal/testworld" { // what only tests use
			return nil
		}
		at, known := level[pkg]
		if !known {
			t.Errorf("%s is in no layer", pkg)
			return nil
		}
		seen[pkg] = true
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, imp := range f.Imports {
			name, _ := strconv.Unquote(imp.Path.Value)
			if slices.Contains(denied[name], pkg) {
				t.Errorf("%s imports %s", path, name)
			}
			if inner, ours := strings.CutPrefix(name, module); ours && level[inner] >= at {
				t.Errorf("%s imports %s, which does not stand below it", path, inner)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for p := range level {
		if !seen[p] {
			t.Errorf("the layer of %s holds no such package", p)
		}
	}
}

func TestFilesAreReadWithLimits(t *testing.T) {
	files, _ := filepath.Glob("*/*.go")
	more, _ := filepath.Glob("*/*/*.go")
	for _, path := range append(files, more...) {
		allowed := slices.ContainsFunc(readers, func(r string) bool { return strings.HasPrefix(path, r) })
		if !strings.HasSuffix(path, "_test.go") && !allowed && strings.Contains(readFile(t, path), "os.ReadFile(") {
			t.Errorf("%s uses os.ReadFile: take wholefile.Read", path)
		}
	}
}

func TestCoreIsQuiet(t *testing.T) {
	files, err := filepath.Glob("*/*.go")
	if err != nil {
		t.Fatal(err)
	}
	more, _ := filepath.Glob("*/*/*.go")
	for _, path := range append(files, more...) {
		if strings.HasSuffix(path, "_test.go") || strings.HasPrefix(path, "internal/") || strings.HasPrefix(path, "cmd/") || strings.HasPrefix(path, "bench/") {
			continue
		}
		text := readFile(t, path)
		for _, call := range socketCalls {
			if strings.Contains(text, call) && !strings.HasPrefix(path, "netio/") {
				t.Errorf("%s uses %s: it is given a Network", path, call)
			}
		}
		for _, call := range clockCalls {
			if strings.Contains(text, call) && !strings.HasPrefix(path, "netio/") && !strings.HasPrefix(path, "wholefile/") {
				t.Errorf("%s uses %s: it is given a Clock", path, call)
			}
		}
		for _, call := range forbiddenCalls {
			if strings.Contains(text, call) {
				t.Errorf("%s uses %s", path, call)
			}
		}
	}
}

// The tests of what speaks over the network reach loopback alone.
func TestTestsStayHere(t *testing.T) {
	files, _ := filepath.Glob("*/*.go")
	more, _ := filepath.Glob("*/*/*.go")
	speaks, tested, held := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for _, path := range append(files, more...) {
		pkg, text := filepath.ToSlash(filepath.Dir(path)), readFile(t, path)
		if !strings.HasSuffix(path, "_test.go") {
			speaks[pkg] = speaks[pkg] || strings.Contains(text, `"fencepost/netio"`)
			continue
		}
		tested[pkg] = true
		held[pkg] = held[pkg] || strings.Contains(text, "testrun.Main(m)")
	}
	for pkg := range speaks {
		if tested[pkg] && speaks[pkg] && !held[pkg] {
			t.Errorf("%s: TestMain has to end with testrun.Main(m)", pkg)
		}
	}
}
