package e2e

import (
	"fmt"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"fencepost/internal/testrun"
)

// A file of testdata/golden is a session that people can read: text before the first
// command explains it and lays out files,
//
//	== zones/tides.example.zone
//	content up to the next line that begins with == or $
//
// and then come commands with what they said and, where that is not 0, their exit status:
//
//	$ fencepost check
//	output on both channels
//	(exit status 1)
//
// "$ serve" starts a server for the workspace, "$ stop" ends it, "$ cat FILE" shows a file,
// and "$ world FILE" plays the demo's world with what is in the file. What differs from run to run is replaced, see blanks.
//
// The clock of these commands is ahead of the machine's, and that of those which -update runs is
// not: a session that holds the day on which it was written fails at once.
func TestGolden(t *testing.T) {
	t.Parallel()
	files, err := filepath.Glob(filepath.Join("testdata", "golden", "*.txt"))
	if err != nil || len(files) == 0 {
		t.Fatalf("no sessions: %v", err)
	}
	covered := map[string]bool{}
	for _, f := range files {
		noteAllCovered(read(t, f), covered)
	}
	for _, f := range files {
		t.Run(strings.TrimSuffix(filepath.Base(f), ".txt"), func(t *testing.T) {
			t.Parallel()
			want := read(t, f)
			got := session(t, want)
			if *testrun.Update {
				write(t, f, got)
				return
			}
			if got != want {
				t.Errorf("%s: what comes is another now; if it is right: go test ./internal/e2e -run TestGolden -update\n%s", f, firstDifference(want, got))
			}
		})
	}
	for _, c := range commandTree(t) {
		if !covered[c] {
			t.Errorf("no session runs: fencepost %s", c)
		}
	}
}

// unshown are commands whose output says nothing that a session could hold.
var unshown = map[string]string{
	"demo":   "TestDemo",
	"editor": "TestEditor",
	"serve":  "each session that serves",
	"help":   "TestHelp",
}

// commandTree is every command that does something and has output of its own.
func commandTree(t *testing.T) (out []string) {
	t.Helper()
	eachCommand(t, func(path []string, help string) {
		leaf := len(subcommands(help)) == 0 || strings.Contains(help, "fencepost "+strings.Join(path, " ")+" ZONE")
		if _, skip := unshown[path[0]]; leaf && !skip && path[0] != "completion" {
			out = append(out, strings.Join(path, " "))
		}
	})
	return out
}

// eachCommand walks down the commands that the help tells of, with the help of each.
func eachCommand(t *testing.T, f func(path []string, help string)) {
	t.Helper()
	n := 0
	var walk func(path []string)
	walk = func(path []string) {
		const deepest = 4
		if len(path) > deepest {
			t.Fatalf("the help of %q lists commands that are none", path)
		}
		help := ok(t, ".", append(append([]string{}, path...), "--help")...)
		if n++; len(path) > 0 {
			f(path, help)
		}
		for _, s := range subcommands(help) {
			walk(append(append([]string{}, path...), s))
		}
	}
	walk(nil)
	const least = 40
	if n < least {
		t.Fatalf("the help tells of %d commands only", n)
	}
}

// subcommands are those that a help text lists: indented by two, under a heading.
func subcommands(help string) (out []string) {
	line := regexp.MustCompile(`^  ([a-z]+) +\S`)
	listing := false
	for _, l := range strings.Split(help, "\n") {
		switch {
		case strings.HasSuffix(l, ":") && !strings.HasPrefix(l, " "):
			listing = l != "Usage:" && l != "Examples:" && l != "Flags:" && l != "Global Flags:"
		case listing:
			if m := line.FindStringSubmatch(l); m != nil {
				out = append(out, m[1])
			}
		}
	}
	return out
}

// blanks are what differs from run to run, with what stands for it.
var blanks = []struct {
	is *regexp.Regexp
	as string
}{
	{regexp.MustCompile(`127\.0\.0\.1:\d+`), "127.0.0.1:PORT"},
	{regexp.MustCompile(`\b\d+(\.\d+)? ?(ms|µs)\b`), "N ms"},
	{regexp.MustCompile(`running for [^\n]+? on `), "running for N on "},
	{regexp.MustCompile(`\bby [a-zA-Z0-9_.-]+, because`), "by WHO, because"},
	{regexp.MustCompile(`\b\d+ queries\n`), "N queries\n"}, // some names are asked for twice, side by side
	{regexp.MustCompile(`(keys/[a-z.]+/[a-z]+-)\d+(\.pem)`), "${1}TAG$2"},
	{regexp.MustCompile(`\b(made|put to use:) key \d+`), "$1 key TAG"},
	{regexp.MustCompile(`\b20\d\d-\d\d-\d\d \d\d:\d\d UTC  [a-z-]+  (file|transfer)`), "WHEN  WHO  $1"},
	{regexp.MustCompile(`\b20\d\d-\d\d-\d\d \d\d:\d\d UTC  (key [a-z]+  update)`), "WHEN  $1"},
	{regexp.MustCompile(`(key [a-z]+, )20\d\d-\d\d-\d\d \d\d:\d\d UTC`), "${1}WHEN"},
	{regexp.MustCompile(`serial  when +by +source +added`), "serial  when  by  source  added"},
	{regexp.MustCompile(`, 20\d\d-\d\d-\d\d \d\d:\d\d UTC, by [a-z-]+`), ", WHEN, by WHO"},
	{regexp.MustCompile(`until 20\d\d[^\n(]* UTC \(in [^)]*\)`), "until WHEN"},
	{regexp.MustCompile(`(the caches at|until|since) 20[^.\n]*? UTC`), "$1 WHEN"},
	{regexp.MustCompile(`since WHEN \((now|[^)]* ago)\)`), "since WHEN (N ago)"},
}

// session runs the commands of a session and writes what it would be now.
func session(t *testing.T, text string) string {
	t.Helper()
	dir := t.TempDir()
	port := freePort(t)
	var out strings.Builder
	var server *daemon
	lines := strings.SplitAfter(text, "\n")
	for i := 0; i < len(lines); {
		l := lines[i]
		i++
		body := func(stop ...string) string {
			var b strings.Builder
			for i < len(lines) && !hasAnyPrefix(lines[i], stop...) {
				b.WriteString(lines[i])
				i++
			}
			return b.String()
		}
		name, isFile := strings.CutPrefix(l, "== ")
		command, isCommand := strings.CutPrefix(strings.TrimSuffix(l, "\n"), "$ ")
		out.WriteString(l)
		switch {
		case isFile:
			content := body("== ", "$ ")
			out.WriteString(content)
			write(t, filepath.Join(dir, strings.TrimSpace(name)), strings.ReplaceAll(strings.TrimRight(content, "\n")+"\n", "PORT", fmt.Sprint(port)))
		case isCommand:
			body("$ ", "== ")
			said := ""
			switch word, rest, _ := strings.Cut(command, " "); word {
			case "serve":
				server = &daemon{t: t, program: sessionProgram(), dir: filepath.Join(dir, rest), log: filepath.Join(t.TempDir(), "log")}
				server.start()
				t.Cleanup(server.stop)
			case "stop":
				server.stop()
			case "world":
				playWorld(t, sessionProgram(), dir, rest)
			case "cat":
				said = read(t, filepath.Join(dir, rest))
			default:
				said = runLine(t, dir, command, port)
			}
			for _, b := range blanks {
				said = b.is.ReplaceAllString(said, b.as)
			}
			out.WriteString(said)
			out.WriteString("\n")
		}
	}
	return strings.TrimRight(out.String(), "\n") + "\n"
}

func hasAnyPrefix(s string, prefixes ...string) bool {
	for _, p := range prefixes {
		if strings.HasPrefix(s, p) {
			return true
		}
	}
	return false
}

// sessionProgram is the program that sessions run.
func sessionProgram() string {
	if *testrun.Update {
		return program
	}
	return ahead
}

// runLine runs one command line. "in DIR:" before it changes the folder, "< FILE" behind it
// gives it a file.
func runLine(t *testing.T, dir, line string, port int) string {
	t.Helper()
	at := dir
	if rest, ok := strings.CutPrefix(line, "in "); ok {
		folder, command, _ := strings.Cut(rest, ": ")
		at, line = filepath.Join(dir, folder), command
	}
	words := splitWords(strings.ReplaceAll(line, "PORT", fmt.Sprint(port)))
	if len(words) == 0 || words[0] != "fencepost" {
		t.Fatalf("%q is not a command of ours", line)
	}
	r := runProgram(t, sessionProgram(), at, words[1:]...)
	said := strings.ReplaceAll(r.out+r.err, dir, "DIR")
	if r.status != 0 {
		said += fmt.Sprintf("(exit status %d)\n", r.status)
	}
	return said
}

// noteAllCovered notes the commands that a session runs.
func noteAllCovered(text string, covered map[string]bool) {
	for _, l := range strings.Split(text, "\n") {
		if _, command, ok := strings.Cut(l, "fencepost "); ok && strings.HasPrefix(l, "$ ") {
			noteCovered(splitWords(command), covered)
		}
	}
}

func noteCovered(words []string, covered map[string]bool) {
	path := ""
	for i, w := range words {
		if i > 1 || strings.HasPrefix(w, "-") {
			return
		}
		path = strings.TrimSpace(path + " " + w)
		covered[path] = true
	}
}

// splitWords parts a line at blanks, but for those in single quotes.
func splitWords(line string) (out []string) {
	for i, part := range strings.Split(line, "'") {
		if i%2 == 1 {
			out = append(out, part)
			continue
		}
		out = append(out, strings.Fields(part)...)
	}
	return out
}

// firstDifference shows where two texts part.
func firstDifference(want, got string) string {
	a, b := strings.Split(want, "\n"), strings.Split(got, "\n")
	for i := range min(len(a), len(b)) {
		if a[i] != b[i] {
			return fmt.Sprintf("line %d\n  is     %s\n  should %s", i+1, b[i], a[i])
		}
	}
	return fmt.Sprintf("one has %d lines, the other %d", len(a), len(b))
}
