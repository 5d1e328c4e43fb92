package cli

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fencepost/internal/ops"
	"fencepost/internal/ui"
)

func newDiff(e *env) *cobra.Command {
	var o ops.DiffOptions
	cmd := &cobra.Command{Use: "diff FROM TO [ZONE]", GroupID: stageWrite, Short: "what changed, in records rather than lines",
		Long: `Compares two versions of a zone by record sets: what was added, removed or changed, which
TTLs, and until when caches may still give the old answer if the new one were
published now. FROM and TO are each a file, a zone of the workspace, served:ZONE
for what the running server has, serial:N for an earlier version that was served
here (see history), or server:HOST (or a peer's name) for what another server
hands over.

With two servers and ZONE what they answer is compared before the zone moves from one to the
other: by transfer where that is allowed, else by asking for every name that is known. SOA, the
zone's own NS records and what signers make belong to each provider and are left out. It says
how complete that is, and what to do for the move, in order.

Exit status: 0 they are the same, 1 they differ.`,
		Example: `  fencepost diff served:saltmarsh.example saltmarsh.example
  fencepost diff old.zone new.zone --origin saltmarsh.example
  fencepost diff serial:2026112801 saltmarsh.example
  fencepost diff serial:2026112801 serial:2026112803 --origin saltmarsh.example
  fencepost diff server:harbour saltmarsh.example
  fencepost diff server:198.51.100.53 server:203.0.113.53 saltmarsh.example`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) > 3 {
				return fmt.Errorf("%q is one argument too many", args[3])
			}
			return count(cmd, args, []string{"FROM", "TO"}, -1)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			o.From, o.To = args[0], args[1]
			if len(args) == 3 {
				if !strings.HasPrefix(o.From, "server:") || !strings.HasPrefix(o.To, "server:") {
					return usageError("ZONE is for comparing two servers: server:OLD server:NEW ZONE")
				}
				m, err := e.app.CompareServers(cmd.Context(), o.From, o.To, args[2], o.Key)
				if m == nil {
					return err
				}
				return errors.Join(e.showMove(m, o), shown(err))
			}
			res, err := e.app.Diff(cmd.Context(), o)
			if res == nil {
				return err
			}
			if serr := e.showDiff(res); serr != nil {
				return serr
			}
			return shown(err)
		}}
	cmd.Flags().StringVar(&o.Origin, "origin", "", "`NAME` of the zone, where neither side says it")
	cmd.Flags().StringVar(&o.Key, "key", "", "`NAME` of the secret for a transfer, in secrets.toml")
	return cmd
}

// showMove shows whether a zone can move from one server to another.
func (e *env) showMove(m *ops.Move, o ops.DiffOptions) error {
	if e.ui.JSON {
		changes := m.Changes
		if changes == nil {
			changes = []ops.SetChange{}
		}
		return e.ui.Object(map[string]any{"zone": m.Zone.String(), "alike": len(m.Changes) == 0, "complete": m.Complete, "read": m.How, "changes": changes, "steps": append([]string{}, m.Steps...), "breaks_trust": m.Breaks, "ways": append([]string{}, m.Ways...)})
	}
	for _, ch := range m.Changes {
		e.change(ch)
	}
	for _, how := range m.How {
		e.ui.Printf("%s\n", e.ui.Paint(ui.Dim, "%s", how))
	}
	switch {
	case len(m.Changes) > 0:
		e.ui.Printf("\n%s: %d added, %d removed, %d changed\n", e.ui.Paint(ui.Bad, "the answers differ"), m.Added, m.Gone, m.Moved)
		return nil
	case m.Breaks != "":
		e.ui.Printf("\nthe answers are alike. %s: %s\n", e.ui.Paint(ui.Bad, "Not safe to move"), e.ui.Fit(m.Breaks, 2))
		for _, way := range m.Ways {
			e.ui.Printf("  → %s\n", e.ui.Fit(way, 4))
		}
		return nil
	case m.Complete:
		e.ui.Printf("\n%s\n", e.ui.Paint(ui.Good, "the answers are alike: safe to move"))
	default:
		e.ui.Printf("\n%s, as far as could be asked\n", e.ui.Paint(ui.Good, "the answers are alike"))
	}
	for i, step := range m.Steps {
		e.ui.Printf("  %d. %s\n", i+1, e.ui.Fit(step, 5))
	}
	return nil
}

func (e *env) showDiff(c *ops.Compared) error {
	if e.ui.JSON {
		changes := c.Changes
		if changes == nil {
			changes = []ops.SetChange{}
		}
		return e.ui.Object(map[string]any{"zone": c.Zone.String(), "old_serial": c.OldSerial, "serial": c.Serial, "without_dnssec": c.WithoutDNSSEC, "serial_problem": c.Serials, "changes": changes})
	}
	for _, ch := range c.Changes {
		e.change(ch)
	}
	plain := strings.TrimSuffix(c.Zone.String(), ".")
	if c.WithoutDNSSEC {
		e.ui.Sayf("Only one of the two is signed: DNSSEC records were left out.\n")
	}
	if len(c.Changes) == 0 {
		e.ui.Sayf("%s: the same records (serials %d and %d)\n", plain, c.OldSerial, c.Serial)
		return nil
	}
	e.ui.Sayf("%s: serial %d → %d; %d added, %d removed, %d changed\n", plain, c.OldSerial, c.Serial, c.Added, c.Gone, c.Moved)
	if c.Added > 0 {
		e.ui.Sayf("Caches may remember that what was added is missing for %s.\n", ui.Duration(c.Negative))
	}
	if c.Serials != "" {
		e.ui.Sayf("%s\n", e.onErr().Paint(ui.Suspect, "%s", c.Serials))
	}
	switch {
	case c.Published.IsZero():
		e.ui.Sayf("Published now, the last old answer leaves the caches at %s.\n", clockTime(c.Until))
	case c.Until.Before(e.app.Now()):
		e.ui.Sayf("The last old answer left the caches at %s.\n", clockTime(c.Until))
	default:
		e.ui.Sayf("The last old answer leaves the caches at %s.\n", clockTime(c.Until))
	}
	return nil
}

// change shows one record set. One that came is its records; one that went or
// changed says until when caches may keep it.
func (e *env) change(c ops.SetChange) {
	name := strings.TrimSuffix(c.Name, ".")
	if c.Change == "added" {
		for _, r := range c.New {
			e.ui.Printf("%s\n", e.ui.Paint(ui.Good, "+ %s  %d  %s  %s", name, c.TTL, c.Type, r))
		}
		if c.Before != "" {
			e.ui.Printf("  %s\n", e.ui.Paint(ui.Dim, "%s answered before: caches may keep that for %s, until %s", c.Before, ui.Duration(time.Duration(c.OldTTL)*time.Second), clockTime(c.Until)))
		}
		return
	}
	e.setLines(c)
	e.ui.Printf("  %s\n", e.ui.Paint(ui.Dim, "caches may keep the old answer for %s, until %s", ui.Duration(time.Duration(c.OldTTL)*time.Second), clockTime(c.Until)))
}

// setLines shows the records of a set that came and went.
func (e *env) setLines(c ops.SetChange) {
	name := strings.TrimSuffix(c.Name, ".")
	ttl := strconv.FormatUint(uint64(c.OldTTL), 10)
	if c.Change == "added" {
		ttl = strconv.FormatUint(uint64(c.TTL), 10)
	}
	if c.Change != "removed" && c.Change != "added" && c.OldTTL != c.TTL {
		ttl = fmt.Sprintf("%d → %d", c.OldTTL, c.TTL)
	}
	for _, r := range c.Old {
		e.ui.Printf("%s\n", e.ui.Paint(ui.Bad, "- %s  %s  %s  %s", name, ttl, c.Type, r))
	}
	for _, r := range c.New {
		e.ui.Printf("%s\n", e.ui.Paint(ui.Good, "+ %s  %s  %s  %s", name, ttl, c.Type, r))
	}
	if c.Change == "ttl" {
		e.ui.Printf("%s\n", e.ui.Paint(ui.Suspect, "  %s  %s  %s  (%s as before)", name, ttl, c.Type, ui.Plural(c.Kept, "record")))
	} else if c.Kept > 0 {
		e.ui.Printf("  %s\n", e.ui.Paint(ui.Dim, "%s as before", ui.Plural(c.Kept, "record")))
	}
}

func clockTime(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 UTC") }
