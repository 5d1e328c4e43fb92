package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"fencepost/dnsname"
	"fencepost/internal/control"
	"fencepost/internal/edit"
	"fencepost/internal/eventlog"
	"fencepost/internal/ops"
	"fencepost/internal/ui"
	"fencepost/server"
	"fencepost/server/zonestate"
	"fencepost/wholefile"
	"fencepost/workspace"
	"fencepost/zone"
	"fencepost/zonefile"
)

func newServe(e *env) *cobra.Command {
	var listen []string
	cmd := &cobra.Command{Use: "serve", GroupID: stagePublish, Short: "answer queries for the zones of the workspace",
		Long: `Serves the workspace over UDP and TCP: answers queries, sends zones and NOTIFY to the
peers in send-to, fetches the zones in fetch-from, and signs the zones with a policy.

Runs until interrupted; SIGHUP reloads. Without [serve] listen it listens on this
machine only. A zone with errors never replaces a good version.`,
		Example: `  fencepost serve
  fencepost serve --listen 127.0.0.1:0        any free port, which is printed`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			e.running()
			e.ends.Store(int64(serverEndsWithin))
			debug.SetGCPercent(steadyGC)
			return e.serve(cmd.Context(), listen)
		}}
	cmd.Flags().StringArrayVar(&listen, "listen", nil, "`ADDRESS:PORT` to listen on instead of the configured ones; repeat it for each")
	return cmd
}

// serverEndsWithin is how long a server may take to end: what it has begun to send or to store goes on
// for a moment.
const serverEndsWithin = 30 * time.Second

func (e *env) serve(ctx context.Context, listen []string) error {
	level := slog.LevelInfo
	if e.quiet {
		level = slog.LevelError
	}
	// Signals that come while the server is starting are heeded once it runs; a reader
	// of the log that went away ends nothing.
	hup := make(chan os.Signal, 1)
	signal.Notify(hup, syscall.SIGHUP)
	defer signal.Stop(hup)
	signal.Ignore(syscall.SIGPIPE)
	drops := eventlog.Text
	if e.ui.JSON {
		drops = eventlog.JSON
	}
	lines := eventlog.New(e.err, drops)
	defer lines.Close(logPatience)
	how := &slog.HandlerOptions{Level: level, ReplaceAttr: explained}
	var handler slog.Handler = slog.NewTextHandler(lines, how)
	if e.ui.JSON {
		handler = slog.NewJSONHandler(lines, how)
	}
	sv, err := e.app.NewService(listen, slog.New(handler))
	if err != nil {
		return err
	}
	l, err := control.Listen(sv.Config().Control)
	if wholefile.Unwritable(err) { // queries are answered all the same
		slog.New(handler).Error("no commands can be given to this server: there is no place for its control socket", "error", err)
	} else if err != nil {
		return err
	}
	sv.OpenControl()
	ctx, cancel := context.WithCancel(ctx)
	var others sync.WaitGroup // the ways in end with the server, and are waited for
	defer others.Wait()
	defer cancel()
	others.Go(func() {
		if l == nil {
			return
		}
		control.Serve(ctx, l, control.Errors{Kinds: ops.ControlKinds, Explain: ui.Explain}, sv.Known, commands(sv))
	})
	others.Go(func() { reloadOnSignal(ctx, hup, sv, slog.New(handler)) })
	return sv.Run(ctx, func(st server.Start) {
		lines.Flush(logPatience) // what went wrong stands before what says that all is ready
		var at []string
		for _, a := range st.Addrs {
			at = append(at, a.String())
		}
		if e.ui.JSON {
			_ = e.ui.Object(map[string]any{"ready": true, "listen": at, "control": sv.Config().Control, "zones": zoneResults(st.Results), "loading": st.Loading})
			return
		}
		// This line is what scripts wait for.
		e.ui.Printf("ready on %s\n", strings.Join(at, " "))
		if st.Loading > 0 {
			e.ui.Printf("%s of %s still to be loaded; each is answered for as soon as it is: fencepost status\n", ui.Count(st.Loading), ui.Plural(len(sv.Config().Zones), "zone"))
		}
	})
}

// explained puts errors in the log into the words that people get.
func explained(_ []string, a slog.Attr) slog.Attr {
	if err, is := a.Value.Any().(error); is {
		a.Value = slog.StringValue(ui.Explain(err))
	}
	return a
}

// logPatience is how long the end of a server waits for the reader of its log.
const logPatience = time.Second

// reloadOnSignal reloads on SIGHUP.
func reloadOnSignal(ctx context.Context, c <-chan os.Signal, sv *ops.Service, log *slog.Logger) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-c:
			if _, err := sv.Reload(ctx, "a signal"); err != nil {
				log.Error("reload", "error", err)
			}
		}
	}
}

// commands carries out what comes over the control socket.
func commands(sv *ops.Service) control.Handler {
	byName := map[string]func(context.Context, dnsname.Name, json.RawMessage) (any, error){
		"status": func(context.Context, dnsname.Name, json.RawMessage) (any, error) {
			st := control.StatusOf(sv.Server.Status(), ui.Explain)
			sv.AddChildren(&st)
			sv.AddStore(&st)
			sv.AddSecrets(&st)
			return st, nil
		},
		"refresh": func(_ context.Context, z dnsname.Name, _ json.RawMessage) (any, error) {
			return nil, sv.Server.Refresh(z)
		},
		"notify": func(_ context.Context, z dnsname.Name, _ json.RawMessage) (any, error) {
			return nil, sv.Server.NotifyPeers(z)
		},
		"dump": func(ctx context.Context, z dnsname.Name, _ json.RawMessage) (any, error) {
			return dump(sv.Server, z, ops.AudienceOf(ctx))
		},
		"keys": func(ctx context.Context, z dnsname.Name, args json.RawMessage) (any, error) {
			var k ops.KeyChange
			if err := json.Unmarshal(args, &k); err != nil {
				return nil, err
			}
			return sv.ChangeKeys(ctx, z, k, control.Caller(ctx))
		},
		"roll": func(ctx context.Context, z dnsname.Name, args json.RawMessage) (any, error) {
			var c ops.RollChange
			if err := json.Unmarshal(args, &c); err != nil {
				return nil, err
			}
			return sv.ChangeRoll(ctx, z, c, control.Caller(ctx))
		},
		"ring": func(_ context.Context, z dnsname.Name, _ json.RawMessage) (any, error) { return sv.Ring(z) },
		"history": func(ctx context.Context, z dnsname.Name, args json.RawMessage) (any, error) {
			return sv.History(ctx, z, args)
		},
		"pending": func(ctx context.Context, z dnsname.Name, args json.RawMessage) (any, error) {
			return sv.Pending(ctx, z, args, ui.Explain)
		},
		"answer": func(_ context.Context, _ dnsname.Name, args json.RawMessage) (any, error) { return sv.Answer(args) },
		"update": func(ctx context.Context, z dnsname.Name, args json.RawMessage) (any, error) {
			return sv.Update(ctx, z, args, control.Caller(ctx))
		},
		"compare": func(ctx context.Context, z dnsname.Name, args json.RawMessage) (any, error) {
			return sv.Compare(ctx, z, args)
		},
		"version": func(ctx context.Context, z dnsname.Name, args json.RawMessage) (any, error) {
			version, err := sv.Version(ctx, z, args)
			if err != nil {
				return nil, err
			}
			return zoneText(version), nil
		},
		"published": func(context.Context, dnsname.Name, json.RawMessage) (any, error) { return sv.Published() },
		"reload": func(ctx context.Context, z dnsname.Name, args json.RawMessage) (any, error) {
			var how reloadArgs
			if err := json.Unmarshal(args, &how); len(args) > 0 && err != nil {
				return nil, err
			}
			if !z.IsZero() {
				results, err := sv.ReloadZone(ops.WithJudged(ctx, how.Judged), z, how.Step, control.Caller(ctx))
				return zoneResults(results), err
			}
			reload := sv.Reload
			if how.ClockIsRight {
				reload = sv.ClockIsRight
			}
			results, err := reload(ctx, control.Caller(ctx))
			var config *edit.ConfigError
			if errors.As(err, &config) {
				d := config.Diags.All[0]
				return nil, fmt.Errorf("%w: %s: %s; see: fencepost check", err, config.Source.Position(d.Span.Start), d.Message)
			}
			return zoneResults(results), err
		},
	}
	return func(ctx context.Context, r control.Request) (any, error) {
		do := byName[r.Command]
		if do == nil {
			return nil, fmt.Errorf("the running server does not know the command %q", r.Command)
		}
		zone, audience := workspace.SplitAudience(r.Zone)
		name, err := dnsname.Parse(zone, dnsname.Root)
		if err != nil && zone != "" {
			return nil, err
		}
		ctx = ops.WithAudience(ctx, audience)
		if err := sv.Allow(ctx, r.Command, name, r.Args); err != nil {
			return nil, err
		}
		return do(ctx, name, r.Args)
	}
}

// zoneResult is what a reload did with a zone, as documented output.
type zoneResult struct {
	Zone     string `json:"zone"`
	Audience string `json:"audience,omitempty"`
	Change   string `json:"change"`
	Serial   uint32 `json:"serial,omitempty"`
	Problem  string `json:"problem,omitempty"`
	Note     string `json:"note,omitempty"`
}

// shown is the zone with its audience.
func (r *zoneResult) shown() string { return shownZone(r.Zone, r.Audience) }

// shownZone is how a version of a zone is named to people: ZONE or ZONE@AUDIENCE.
func shownZone(zone, audience string) string {
	zone = strings.TrimSuffix(zone, ".")
	if audience != "" {
		zone += workspace.AudienceMark + audience
	}
	return zone
}

func zoneResults(in []zonestate.ZoneResult) []zoneResult {
	out := []zoneResult{}
	for _, r := range in {
		z := zoneResult{Zone: r.Zone.String(), Audience: r.Audience, Change: string(r.Change), Serial: r.Serial, Note: r.Note}
		if r.Err != nil {
			z.Problem = ui.Explain(r.Err)
		}
		out = append(out, z)
	}
	return out
}

// call sends a command to the server of the workspace.
func (e *env) call(ctx context.Context, r control.Request, result any) error {
	server, err := e.server()
	if err != nil {
		return err
	}
	return server.Call(ctx, r, result)
}

// server reaches the running server. That it has not read the configuration as it is, for its errors, is
// said.
func (e *env) server() (control.Client, error) {
	server, broken, err := e.app.Server()
	if err == nil && broken != nil {
		d := broken.Diags.All[0]
		e.ui.Sayf("fencepost.toml has errors (%s: %s): a running server keeps the configuration that it has; see: fencepost check\n", broken.Source.Position(d.Span.Start), d.Message)
	}
	return server, err
}

// reloadArgs says how to reload.
type reloadArgs struct {
	ClockIsRight bool `json:"clock_is_right,omitempty"`
	// Step is what a command did to the zone, which then need not be read.
	Step *ops.Step `json:"step,omitempty"`
	// Judged is what is to be loaded of the zone, and nothing else; nil: what its files hold.
	Judged ops.Judged `json:"judged,omitempty"`
}

func newReload(e *env) *cobra.Command {
	var how reloadArgs
	cmd := &cobra.Command{Use: "reload [ZONE]", GroupID: stagePublish, Short: "have the running server load changed files",
		Long: `Has the running server read fencepost.toml and the zone files that have changed; with
ZONE the files of that zone alone. A zone with errors, or one whose content changed while
its serial did not, is not loaded: the version in service stays.

If the clock was in the future, nothing is signed until that time has come again. With
--clock-is-right you confirm that the clock is right now: signatures with times in the
future are made again.`,
		Example: `  fencepost reload
  fencepost reload saltmarsh.example
  fencepost reload --clock-is-right`,
		Args: atMost("ZONE"),
		RunE: func(cmd *cobra.Command, names []string) error {
			var results []zoneResult
			zone := ""
			if len(names) > 0 {
				zone = names[0]
			}
			if zone != "" && how.ClockIsRight {
				return usageError("--clock-is-right is about all zones: leave %s out", zone)
			}
			args, err := json.Marshal(how)
			if err != nil {
				return err
			}
			if err := e.call(cmd.Context(), control.Request{Command: "reload", Zone: zone, Args: args}, &results); err != nil {
				return err
			}
			if e.ui.JSON {
				if err := e.ui.Object(map[string]any{"zones": results}); err != nil {
					return err
				}
			} else {
				e.reloaded(results)
			}
			return refused(results)
		}}
	cmd.Flags().BoolVar(&how.ClockIsRight, "clock-is-right", false, "the clock is right now: make signatures with times in the future again")
	return cmd
}

// refused is the error for a reload in which a zone was not taken; the reason has been shown.
func refused(results []zoneResult) error {
	if slices.ContainsFunc(results, func(r zoneResult) bool { return r.Problem != "" }) {
		return shown(edit.ErrFindings)
	}
	return nil
}

func (e *env) reloaded(results []zoneResult) {
	var rows [][]ui.Text
	for _, r := range results {
		style := ui.Good
		if r.Problem != "" {
			style = ui.Bad
		}
		serial := "-"
		if r.Serial != 0 {
			serial = fmt.Sprint(r.Serial)
		}
		rows = append(rows, ui.Cells(r.shown(), e.ui.Paint(style, "%s", r.Change), serial))
	}
	e.ui.Table([]string{"zone", "outcome", ">serial"}, rows)
	for _, r := range results {
		if r.Problem != "" {
			e.ui.Printf("\n%s %s\n  %s\n", e.ui.Paint(ui.Bold, "%s", r.shown()), r.Change, e.ui.Fit(r.Problem, 2))
		}
		if r.Note != "" {
			e.ui.Printf("\n%s\n  %s\n", e.ui.Paint(ui.Bold, "%s", r.shown()), r.Note)
		}
	}
}

// zoneCommand is a command about one zone to the running server.
func zoneCommand(e *env, name, short, long, done string) *cobra.Command {
	return &cobra.Command{Use: name + " ZONE", GroupID: stagePublish, Short: short, Long: long,
		Example: "  fencepost " + name + " saltmarsh.example",
		Args:    exactly("ZONE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := e.call(cmd.Context(), control.Request{Command: name, Zone: args[0]}, nil); err != nil {
				return err
			}
			if e.ui.JSON {
				return e.ui.Object(map[string]any{"zone": args[0], "done": true})
			}
			e.ui.Sayf(done+"\n", args[0])
			return nil
		}}
}

func newRefresh(e *env) *cobra.Command {
	return zoneCommand(e, "refresh", "have the running server look for a newer version now",
		"Makes a secondary ask its primaries for a newer version at once. It does not wait:\nsee the outcome with `fencepost status`.", "%s: looking for a new version; see: fencepost status")
}

func newNotify(e *env) *cobra.Command {
	return zoneCommand(e, "notify", "send NOTIFY to the peers of a zone again",
		"Sends NOTIFY to the peers in send-to, as after a change.", "%s: telling its peers; see: fencepost status")
}

func newDump(e *env) *cobra.Command {
	return &cobra.Command{Use: "dump ZONE", GroupID: stagePublish, Short: "print a zone as the running server has it",
		Long:    "Prints the version that is in service as a master file, signatures included.",
		Example: `  fencepost dump tides.example > tides.zone`,
		Args:    exactly("ZONE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return e.callForText(cmd.Context(), control.Request{Command: "dump", Zone: args[0]}, map[string]any{"zone": args[0]})
		}}
}

// callForText sends a command whose result is text, and prints that; in JSON as "text"
// of about.
func (e *env) callForText(ctx context.Context, r control.Request, about map[string]any) error {
	server, err := e.server()
	if err != nil {
		return err
	}
	var text strings.Builder
	to := e.out
	if e.ui.JSON {
		to = &text
	}
	err = server.Read(ctx, r, func(in io.Reader) error {
		_, err := io.Copy(to, in)
		return err
	})
	if err != nil || !e.ui.JSON {
		return err
	}
	about["text"] = text.String()
	return e.ui.Object(about)
}

// dump is a zone in service as a master file.
func dump(s *server.Server, name dnsname.Name, audience string) (control.Text, error) {
	z := s.SnapshotFor(name, audience)
	if z == nil {
		return nil, fmt.Errorf("%s: %w", name, zonestate.ErrNoZone)
	}
	return zoneText(z), nil
}

func zoneText(z *zone.Snapshot) control.Text {
	return func(to io.Writer) error {
		w := bufio.NewWriter(to)
		if err := zonefile.Write(w, z); err != nil {
			return err
		}
		return w.Flush()
	}
}
