// Package cli is the command line: each command turns flags into options, calls
// one use case and shows the result.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"regexp"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"fencepost/diag"
	"fencepost/internal/edit"
	"fencepost/internal/ops"
	"fencepost/internal/ui"
	"fencepost/netio"
)

// version is stamped by the build; without it the build information tells.
var version string

// Version is the version of this program.
func Version() string {
	if version != "" {
		return version
	}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	for _, s := range info.Settings {
		if s.Key == "vcs.revision" && len(s.Value) >= 12 {
			return "development " + s.Value[:12]
		}
	}
	return "development"
}

// Exit statuses. They are documented and do not change.
const (
	exitDone     = 0
	exitFindings = 1 // done, and there are findings
	exitUsage    = 2 // the command was used wrongly
	exitFailed   = 3 // it could not be done
)

// env is what the commands share: the common flags and what follows from them.
type env struct {
	out, err  io.Writer
	workspace string
	format    string
	color     string
	quiet     bool
	now       string
	reload    bool // what edits write

	ui    *ui.UI
	app   *ops.App
	began bool // a command's own work has begun
	// ends is how long the command may take to end after an interrupt; 0 is endsWithin.
	ends atomic.Int64
}

// How far memory may grow between collections, in percent of what is in use: far in a
// command, which ends soon; as is usual in a server, and where a whole zone is signed
// or proved, which gains no time from more.
const (
	hasteGC  = 400
	steadyGC = 100
)

// Main runs the program and returns its exit status.
func Main(args []string, out, errOut io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	e := &env{out: out, err: errOut}
	done := make(chan struct{})
	defer close(done)
	go e.endAnyway(ctx, stop, done)
	debug.SetGCPercent(hasteGC)
	root := newRoot(e)
	if len(args) > 0 && strings.HasPrefix(args[0], cobra.ShellCompRequestCmd) { // what a shell asks; others do not wait for it
		e.completions(root)
	}
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	return e.finish(inOurWords(err))
}

// endsWithin is how long commands may take to end after an interrupt. What they write is whole at
// any moment, so nothing is lost by ending them.
const endsWithin = 900 * time.Millisecond

// endAnyway ends a program that was interrupted and does not end by itself; at a second interrupt
// the system does.
func (e *env) endAnyway(ctx context.Context, stop func(), done <-chan struct{}) {
	select {
	case <-done:
		return
	case <-ctx.Done():
	}
	stop()
	within := endsWithin
	if d := e.ends.Load(); d > 0 {
		within = time.Duration(d)
	}
	select {
	case <-done:
	case <-time.After(within):
		fmt.Fprintln(e.err, "error: interrupted")
		os.Exit(exitFailed)
	}
}

// finish tells the error, if any, and chooses the exit status.
func (e *env) finish(err error) int {
	if err == nil {
		return exitDone
	}
	if e.ui == nil {
		e.ui, _ = ui.New(e.out, e.err, "never", e.format == "json", false)
	}
	if errors.Is(err, edit.ErrAlready) && !errors.Is(err, edit.ErrFindings) {
		return e.nothingChanges(err)
	}
	status := exitFailed
	switch {
	case errors.Is(err, edit.ErrUsage) || !e.began:
		status = exitUsage
	case errors.Is(err, edit.ErrFindings):
		status = exitFindings
	}
	var shown *shownError
	switch {
	case errors.As(err, &shown):
	case e.ui.JSON:
		e.explainJSON(err, status)
	default:
		e.explain(err)
	}
	return status
}

// nothingChanges tells that all is as a command would make it, which is no failure: what runs by itself
// may ask for the same again.
func (e *env) nothingChanges(why error) int {
	if !e.ui.JSON {
		e.ui.Sayf("nothing changes: %s\n", why)
	} else if err := e.ui.Object(map[string]any{"written": false, "files": []any{}, "notes": []string{why.Error()}}); err != nil {
		e.ui.Error(err)
		return exitFailed
	}
	return exitDone
}

// explainJSON writes an error as an object, with the findings that it is about.
func (e *env) explainJSON(err error, status int) {
	out := map[string]any{"error": ui.Explain(interrupted(err)), "status": status}
	var config *edit.ConfigError
	var rejected *edit.RejectedError
	switch {
	case errors.As(err, &config):
		out["findings"] = ui.FindingsJSON(config.Source, config.Diags)
	case errors.As(err, &rejected):
		out["findings"] = ui.FindingsJSON(rejected.Source, rejected.Diags)
	}
	if werr := e.ui.Failure(out); werr != nil { // nobody reads it there
		e.ui.Error(err)
	}
}

// interrupted puts plain words in the place of a context's.
func interrupted(err error) error {
	if errors.Is(err, context.Canceled) {
		return errors.New("interrupted; nothing was left half done")
	}
	return err
}

// explain shows an error with what belongs to it.
func (e *env) explain(err error) {
	var config *edit.ConfigError
	var rejected *edit.RejectedError
	switch {
	case errors.As(err, &config):
		_ = e.onErr().Findings(config.Source, config.Diags)
	case errors.As(err, &rejected):
		_ = e.onErr().Findings(rejected.Source, rejected.Diags)
	}
	e.ui.Error(interrupted(err))
}

// onErr is the UI with findings going to standard error.
func (e *env) onErr() *ui.UI {
	u, _ := ui.New(e.err, e.err, e.color, false, e.quiet)
	return u
}

// shownError is an error that has been told already.
type shownError struct{ error }

func (s *shownError) Unwrap() error { return s.error }

func shown(err error) error {
	if err == nil {
		return nil
	}
	return &shownError{err}
}

// The stages of the work, by which help is grouped.
const (
	stageWrite   = "write"
	stageCheck   = "check"
	stageSign    = "sign"
	stagePublish = "publish"
	stageVerify  = "verify"
	stageTry     = "try"
)

func newRoot(e *env) *cobra.Command {
	root := &cobra.Command{
		Use:   "fencepost",
		Short: "write, check, sign, serve and verify DNS zones",
		Long: `Fencepost is one tool for the person who answers for DNS zones. Zones are plain
master files in a folder; Fencepost helps to write them, tells everything that
is wrong before anyone else notices, signs, serves and transfers them, and
proves from outside that the world gets the right answers.

New here? See the whole story on demo data:  fencepost demo`,
		Example: `  fencepost init mydns --zone example.org     a workspace with a first zone
  fencepost check                             everything that is wrong, at once
  fencepost serve                             answer queries`,
		SilenceErrors: true,
		SilenceUsage:  true,
		Version:       Version(),
		Args:          noArgs,
		RunE:          func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cobra.EnableCommandSorting = false // the order is that of the work
	root.SuggestionsMinimumDistance = 2
	root.SetFlagErrorFunc(flagError)
	root.SetOut(e.out)
	root.SetErr(e.err)
	root.SetVersionTemplate("fencepost {{.Version}}\n")
	for _, g := range []struct{ id, title string }{{stageWrite, "Write"}, {stageCheck, "Check"}, {stageSign, "Sign"},
		{stagePublish, "Publish"}, {stageVerify, "Verify"}, {stageTry, "Try"}} {
		root.AddGroup(&cobra.Group{ID: g.id, Title: g.title + ":"})
	}
	f := root.PersistentFlags()
	f.StringVar(&e.workspace, "workspace", "", "`DIR` with a fencepost.toml (default: the nearest one at or above this folder)")
	f.StringVar(&e.format, "format", "text", "`FORMAT` of the output: text or json")
	f.StringVar(&e.color, "color", "auto", "`WHEN` to use colour: auto, always or never")
	f.BoolVar(&e.quiet, "quiet", false, "print only the result")
	f.StringVar(&e.now, "now", "", "use this `TIME` as the present (RFC 3339, or seconds since 1970)")
	root.PersistentPreRunE = func(cmd *cobra.Command, _ []string) error { return e.setUp(cmd) }
	root.AddCommand(
		newInit(e), newNew(e), newAdd(e), newChange(e), newRemove(e), newSetAside(e), newPutBack(e), newRename(e), newDelegate(e), newReverse(e), newSerial(e), newTidy(e), newFind(e), newDiff(e), newHistory(e), newRestore(e), newPending(e), newFold(e), newPull(e),
		newCheck(e), newExplain(e), newEditor(e),
		newKey(e), newSign(e), newVerify(e), newRoll(e), newHandover(e),
		newServe(e), newPublish(e), newStatus(e), newReload(e), newRefresh(e), newNotify(e), newDump(e),
		newAsk(e), newTrace(e), newChain(e), newAudit(e), newExpect(e), newSecondaries(e), newSpread(e),
		newDemo(e),
	)
	withHelp(root)
	markBegin(e, root)
	return root
}

// markBegin notes when a command's own work begins: errors before that are
// about how it was used.
func markBegin(e *env, c *cobra.Command) {
	if run := c.RunE; run != nil {
		c.RunE = func(cmd *cobra.Command, args []string) error {
			e.began = true
			return run(cmd, args)
		}
	}
	for _, sub := range c.Commands() {
		markBegin(e, sub)
	}
}

// moreFormats is the annotation of commands that know formats besides text and
// json, set apart by blanks.
const moreFormats = "formats"

// setUp turns the common flags into what the commands use.
func (e *env) setUp(cmd *cobra.Command) error {
	formats := append([]string{"text", "json"}, strings.Fields(cmd.Annotations[moreFormats])...)
	if !slices.Contains(formats, e.format) {
		last := len(formats) - 1
		return fmt.Errorf("--format %s: write %s or %s", e.format, strings.Join(formats[:last], ", "), formats[last])
	}
	var err error
	if e.ui, err = ui.New(e.out, e.err, e.color, e.format == "json", e.quiet); err != nil {
		return err
	}
	now := clock()
	if e.now != "" {
		t, err := parseTime(e.now)
		if err != nil {
			return err
		}
		now = func() time.Time { return t }
	}
	e.app = &ops.App{Files: edit.Files{Workspace: e.workspace, Now: now}, TimeOverridden: e.now != ""}
	if reach == "loopback" {
		e.app.Net = netio.Loopback(netio.System)
	}
	e.app.UseOverrides()
	return nil
}

// reach is how far commands reach; empty: everywhere. Only the linker sets it: tests of the
// built program send nothing beyond loopback.
var reach string

// ahead is by how much commands take the time to be later than the machine says, as
// Go writes durations. Only the linker sets it: tests of the built program find out with it
// what depends on the day.
var ahead string

// clock tells the time for a command without --now.
func clock() func() time.Time {
	d, err := time.ParseDuration(ahead)
	if err != nil {
		return time.Now
	}
	return func() time.Time { return time.Now().Add(d) }
}

// running makes the clock go on from --now, for servers.
func (e *env) running() {
	if e.now != "" {
		e.app.SettableClock = ops.NewClock(e.app.Now())
		e.app.Now = e.app.SettableClock.Now
	}
}

func parseTime(s string) (time.Time, error) {
	if n, err := strconv.ParseInt(s, 10, 64); err == nil {
		return time.Unix(n, 0).UTC(), nil
	}
	t, err := time.Parse(time.RFC3339, s)
	if err != nil {
		return t, fmt.Errorf("--now %s: write RFC 3339, such as 2026-11-23T14:20:00Z, or seconds since 1970", s)
	}
	return t, nil
}

// apart is how the library says that flags exclude each other.
var apart = regexp.MustCompile(`^if any flags in the group \[.*\] are set none of the others can be; \[(.*)\] were all set$`)

// inOurWords puts what the library says of flags into words.
func inOurWords(err error) error {
	if err == nil {
		return nil
	}
	m := apart.FindStringSubmatch(err.Error())
	if m == nil {
		return err
	}
	flags := strings.Fields(m[1])
	return usageError("--%s exclude each other: use one of them", strings.Join(flags, " and --"))
}

// flagError adds to an unknown flag the one that was probably meant.
func flagError(cmd *cobra.Command, err error) error {
	var unknown *pflag.NotExistError
	if !errors.As(err, &unknown) {
		return err
	}
	var have []string
	cmd.Flags().VisitAll(func(f *pflag.Flag) { have = append(have, f.Name) })
	name := unknown.GetSpecifiedName()
	if meant := diag.Closest(name, have); meant != "" {
		return fmt.Errorf("there is no flag --%s; did you mean --%s?", name, meant)
	}
	return fmt.Errorf("there is no flag --%s; see: %s --help", name, cmd.CommandPath())
}

// exactly wants as many arguments as there are names, and says which is missing.
func exactly(names ...string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error { return count(cmd, args, names, len(names)) }
}

// atLeast is exactly with any number of further arguments.
func atLeast(names ...string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error { return count(cmd, args, names, -1) }
}

// atMost wants as many arguments as there are names, or fewer.
func atMost(names ...string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error { return count(cmd, args, nil, len(names)) }
}

func count(cmd *cobra.Command, args, names []string, most int) error {
	if meant := subcommand(cmd, args); meant != "" {
		return fmt.Errorf("there is no command %s %s; did you mean %s?", cmd.CommandPath(), args[0], meant)
	}
	if len(args) < len(names) {
		return fmt.Errorf("%s is missing; use: %s", names[len(args)], cmd.UseLine())
	}
	if most >= 0 && len(args) > most {
		return fmt.Errorf("%q is one argument too many; use: %s", args[most], cmd.UseLine())
	}
	return nil
}

// subcommand is what the first of too many arguments was probably meant to be, among
// the commands below cmd.
func subcommand(cmd *cobra.Command, args []string) string {
	if len(args) < 2 && !(len(args) == 1 && cmd.Use == cmd.Name()) || !cmd.HasSubCommands() {
		return ""
	}
	var have []string
	for _, c := range cmd.Commands() {
		have = append(have, c.Name())
	}
	return diag.Closest(args[0], have)
}

// synonyms are words that people try, and the commands that do it.
var synonyms = map[string]string{"delete": "remove", "del": "remove", "erase": "remove", "edit": "change", "update": "change", "modify": "change", "replace": "change",
	"create": "new", "validate": "check", "test": "check", "query": "ask", "lookup": "ask", "resolve": "ask", "fetch": "pull", "import": "pull", "export": "dump", "print": "dump",
	"start": "serve", "run": "serve", "restart": "reload", "format": "tidy", "search": "find", "compare": "diff", "transfer": "pull or refresh", "rollover": "roll",
	"log": "history", "versions": "history", "undo": "restore", "revert": "restore", "rollback": "restore"}

// noArgs refuses arguments; on the root command an argument is a command that
// does not exist.
func noArgs(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	if cmd.HasParent() {
		if meant := subcommand(cmd, args); meant != "" {
			return fmt.Errorf("there is no command %s %s; did you mean %s?", cmd.CommandPath(), args[0], meant)
		}
		return fmt.Errorf("%q is one argument too many; use: %s", args[0], cmd.UseLine())
	}
	err := fmt.Errorf("there is no command %s", args[0])
	if meant := synonyms[strings.ToLower(args[0])]; meant != "" {
		return fmt.Errorf("%w; did you mean %s?", err, meant)
	}
	if s := cmd.SuggestionsFor(args[0]); len(s) > 0 {
		return fmt.Errorf("%w; did you mean %s?", err, strings.Join(s, " or "))
	}
	return fmt.Errorf("%w; see: fencepost help", err)
}
