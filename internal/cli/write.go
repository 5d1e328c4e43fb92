package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fencepost/diag"
	"fencepost/internal/edit"
	"fencepost/internal/ops"
	"fencepost/internal/ui"
	"fencepost/rr"
	"fencepost/server/zonestate"
)

func starterFlags(cmd *cobra.Command, s *edit.Starter) {
	cmd.Flags().StringArrayVar(&s.Servers, "ns", nil, "a `SERVER`: a label in the zone with its address, ns1=ADDRESS[,ADDRESS], or a whole name; repeat it for each")
	cmd.Flags().StringVar(&s.Contact, "contact", "", "`MAILBOX` of the person responsible (default: hostmaster in the zone)")
	timerFlags(cmd, &s.Timers)
}

// timerFlags are the times of a SOA.
func timerFlags(cmd *cobra.Command, t *edit.Timers) {
	cmd.Flags().StringVar(&t.Refresh, "refresh", "", "`TIME` after which secondaries look for a new version (SOA)")
	cmd.Flags().StringVar(&t.Retry, "retry", "", "`TIME` after which they try again when that failed (SOA)")
	cmd.Flags().StringVar(&t.Expire, "expire", "", "`TIME` for which they answer without the primary (SOA)")
	cmd.Flags().StringVar(&t.Minimum, "minimum", "", "`TIME` for which a missing name is remembered as missing (SOA)")
}

func newInit(e *env) *cobra.Command {
	var s edit.Starter
	cmd := &cobra.Command{Use: "init DIR", GroupID: stageWrite, Short: "make a workspace with a first zone",
		Long: `Makes a workspace: fencepost.toml, a folder for zones, and a first zone that
checks clean. Nothing that exists is written over.`,
		Example: `  fencepost init mydns --zone saltmarsh.example --ns ns1=198.51.100.53 --ns ns2=203.0.113.53 \
      --contact ines@saltmarsh.example`,
		Args: exactly("DIR"),
		RunE: func(_ *cobra.Command, args []string) error {
			res, err := e.app.Init(args[0], s)
			if err != nil {
				return err
			}
			return e.created(res, "cd "+args[0]+" && fencepost check")
		}}
	cmd.Flags().StringVar(&s.Zone, "zone", "", "`NAME` of the first zone (default: example.org)")
	starterFlags(cmd, &s)
	return cmd
}

func newNew(e *env) *cobra.Command {
	var s edit.Starter
	var aud edit.Audience
	cmd := &cobra.Command{Use: "new ZONE", GroupID: stageWrite, Short: "make a zone file in the workspace",
		Long: `Makes a master file with SOA and NS records, timers that suit most, and comments
that say what each timer means, and lists the zone in fencepost.toml.

With --audience a zone that is there already gets a second file, for askers from
certain networks: ZONE@AUDIENCE.zone. What both have is written once, in a file
that both include; add, change and the others take ZONE@AUDIENCE as the zone.`,
		Example: `  fencepost new saltmarsh.example --ns ns1=198.51.100.53 --ns ns2.example.net
  fencepost new dunes.example --like saltmarsh.example
  fencepost new saltmarsh.example --audience inside --network 192.0.2.0/24`,
		Args: exactly("ZONE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if aud.Name != "" {
				aud.Zone = args[0]
				return e.edited(cmd.Context())(e.app.AddAudience(aud))
			}
			s.Zone = args[0]
			res, err := e.app.New(s)
			if err != nil {
				return err
			}
			return e.created(res, "fencepost check "+strings.TrimSuffix(res.Zone.String(), "."))
		}}
	starterFlags(cmd, &s)
	cmd.Flags().StringVar(&aud.Name, "audience", "", "give a zone that exists a file for this `AUDIENCE` (a view, RFC 9499)")
	cmd.Flags().StringArrayVar(&aud.Networks, "network", nil, "a `NETWORK` that a new audience asks from; repeat it for each")
	cmd.Flags().StringVar(&s.Like, "like", "", "a `ZONE` or file to copy, with its records")
	cmd.MarkFlagsMutuallyExclusive("audience", "like")
	cmd.MarkFlagsMutuallyExclusive("audience", "ns")
	return cmd
}

func (e *env) created(c *edit.Created, next string) error {
	if e.ui.JSON {
		return e.ui.Object(map[string]any{"zone": c.Zone.String(), "files": c.Files, "notes": append([]string{}, c.Notes...)})
	}
	for _, f := range c.Files {
		e.ui.Printf("wrote %s\n", f)
	}
	for _, n := range c.Notes {
		e.ui.Sayf("%s\n", n)
	}
	e.ui.Sayf("Next: %s\n", next)
	return nil
}

// reloadFlag has the running server take what an edit writes.
func (e *env) reloadFlag(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&e.reload, "reload", false, "have the running server load the change at once")
}

func (e *env) editFlags(cmd *cobra.Command, o *edit.Edit) {
	e.reloadFlag(cmd)
	cmd.Flags().BoolVar(&o.Dry, "dry-run", false, "show what would change and write nothing")
	cmd.Flags().BoolVar(&o.PTR, "ptr", false, "change the PTR records in the workspace's reverse zones too")
	cmd.Flags().StringVar(&o.Zones, "zones", "", "make the edit in all zones that match `PATTERN`, instead of ZONE")
}

const editLong = `
ZONE is a zone of the workspace or a file. OWNER is relative to the zone, @ for
the zone itself. Other lines of the file stay as they are; the serial is raised. An
edit that would put an error into the zone is refused.

Many at once: a range in brackets makes a record for each of its values, gauge[01-40] for
gauge01 to gauge40, in owner and data alike; the ranges must have the same length.
With - instead of OWNER, records are read from standard input, one a line. All are
written, or none.

With --zones PATTERN instead of ZONE the same edit is made in every matching zone of the
workspace; zones where there is nothing to change are skipped.`

// stdin reads the records of an edit from standard input.
func (e *env) stdin(cmd *cobra.Command) ([]edit.RecordArg, error) {
	text, err := readStdin(cmd)
	if err != nil {
		return nil, err
	}
	return edit.ParseRecords(text)
}

// readStdin reads all of standard input.
func readStdin(cmd *cobra.Command) ([]byte, error) {
	const most = 64 << 20
	text, err := io.ReadAll(io.LimitReader(cmd.InOrStdin(), most+1))
	if err == nil && len(text) > most {
		err = usageError("standard input is longer than 64 MiB")
	}
	return text, err
}

// records reads the records of an edit: its arguments, or standard input.
func (e *env) records(cmd *cobra.Command, args []string, ttl string) ([]edit.RecordArg, error) {
	if len(args) == 1 && args[0] == "-" {
		list, err := e.stdin(cmd)
		for i := range list {
			if list[i].TTL == "" {
				list[i].TTL = ttl
			}
		}
		return list, err
	}
	r := edit.RecordFromWords(args)
	if r.TTL == "" || ttl != "" {
		r.TTL = ttl
	}
	return []edit.RecordArg{r}, nil
}

// orStdin wants the named arguments, or ZONE and -.
func orStdin(args cobra.PositionalArgs) cobra.PositionalArgs {
	return func(cmd *cobra.Command, given []string) error {
		if len(given) == 2 && given[1] == "-" {
			return nil
		}
		return args(cmd, given)
	}
}

// orManyZones is orStdin for edits that may be of many zones, or of all owners: ZONE and
// OWNER are left out then.
func orManyZones(args cobra.PositionalArgs) cobra.PositionalArgs {
	return func(cmd *cobra.Command, given []string) error {
		return orStdin(args)(cmd, completed(cmd, given))
	}
}

// zoneForgotten tells of arguments that begin with the record: where the owner should be stands a type,
// and where the type should be none.
func zoneForgotten(cmd *cobra.Command, given []string) error {
	isType := func(s string) bool {
		t, ok := rr.ParseType(strings.ToUpper(s))
		return ok && rr.Lookup(t) != nil
	}
	if len(given) < 3 || given[0] == "" || strings.ContainsAny(given[0], "./") || !isType(given[1]) || isType(given[2]) {
		return nil
	}
	return usageError("the zone is missing in front of the record: write fencepost %s ZONE %s", cmd.Name(), strings.Join(given, " "))
}

// completed puts words in the place of those arguments that flags stand for.
func completed(cmd *cobra.Command, given []string) []string {
	if f := cmd.Flag("everywhere"); f != nil && f.Changed && len(given) > 0 {
		at := 1
		if cmd.Flag("zones").Changed {
			at = 0
		}
		given = slices.Insert(slices.Clone(given), min(at, len(given)), "@")
	}
	if cmd.Flag("zones").Changed {
		given = append([]string{""}, given...)
	}
	return given
}

// editArgs takes zone and records of an edit from its arguments.
func (e *env) editArgs(cmd *cobra.Command, o *edit.Edit, args []string, ttl string) (err error) {
	args = completed(cmd, args)
	o.Zone = args[0]
	o.Records, err = e.records(cmd, args[1:], ttl)
	return err
}

func newAdd(e *env) *cobra.Command {
	var o edit.Edit
	var r ops.Remote
	var ttl string
	cmd := &cobra.Command{Use: "add ZONE OWNER TYPE DATA...", GroupID: stageWrite, Short: "add records",
		Long: "Adds records, each beside those that it belongs to.\n" + editLong + editLongRemote,
		Example: `  fencepost add saltmarsh.example cam-north A 198.51.100.31 --ptr
  fencepost add saltmarsh.example @ MX 20 mail2 --reload
  fencepost add saltmarsh.example note TXT "high water at six" --ttl 300
  fencepost add saltmarsh.example 'gauge[01-40]' A '198.51.100.[11-50]' --dry-run
  fencepost add saltmarsh.example - <hosts.txt
  fencepost add saltmarsh.example guest12 A 198.51.100.112 --at harbour --key dhcp-2026
  fencepost add --zones '*' @ CAA 0 issue ca.example.net`,
		Args: orManyZones(func(cmd *cobra.Command, given []string) error {
			if err := zoneForgotten(cmd, given); err != nil {
				return err
			}
			if len(given) == 3 { // what is missing is said in words
				r := edit.RecordFromWords(given[1:])
				return r.Lacks()
			}
			return atLeast("ZONE", "OWNER", "TYPE", "DATA")(cmd, given)
		}),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			if err := e.editArgs(cmd, &o, args, ttl); err != nil {
				return err
			}
			if remote, err := goesTo(&r); err != nil {
				return err
			} else if remote {
				return e.editedAt(cmd, o, ops.Adding, r)
			}
			return e.edited(cmd.Context())(e.app.Add(o))
		}}
	e.editFlags(cmd, &o)
	cmd.Flags().StringVar(&ttl, "ttl", "", "`TIME` for which the records may be cached (default: that of the file)")
	cmd.Flags().BoolVar(&o.Split, "split", false, "write a text of more than 255 octets as several strings")
	remoteFlags(cmd, &r, false)
	return cmd
}

func newChange(e *env) *cobra.Command {
	var o edit.Edit
	var r ops.Remote
	var ttl string
	cmd := &cobra.Command{Use: "change ZONE OWNER TYPE [DATA...]", GroupID: stageWrite, Short: "replace the data of records, or change a TTL or a timer",
		Long: `Replaces the data of records. Where the owner has several records of the type,
--from says which. Without data --ttl changes the TTL of all records of the type;
--ttl default removes it: $TTL applies again. The times of the SOA have
flags of their own; comments that explain them follow.
` + editLong + editLongRemote + `

A machine whose address changes keeps its records right with --from-here in a timer
job: nothing is sent while the address is the same.`,
		Example: `  fencepost change saltmarsh.example web A 198.51.100.12 --ptr
  fencepost change saltmarsh.example @ MX 10 mail3 --from "20 mail2"
  fencepost change saltmarsh.example 'gauge[01-40]' A '203.0.113.[11-50]'
  fencepost change saltmarsh.example web A --ttl 60
  fencepost change saltmarsh.example web A --ttl default
  fencepost change saltmarsh.example buoy7 A --from-here --at ns1.saltmarsh.example --key buoy7
  fencepost change saltmarsh.example @ SOA --expire 14d --minimum 10m
  fencepost change --zones '*' @ MX 10 post.saltmarsh.example. --from "10 mail"
  fencepost change --zones '*' --everywhere A 203.0.113.80 --from 198.51.100.80`,
		Args: orManyZones(func(cmd *cobra.Command, given []string) error {
			if err := zoneForgotten(cmd, given); err != nil {
				return err
			}
			return atLeast("ZONE", "OWNER", "TYPE")(cmd, given)
		}),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			if err := e.editArgs(cmd, &o, args, ttl); err != nil {
				return err
			}
			if remote, err := goesTo(&r); err != nil {
				return err
			} else if remote {
				return e.editedAt(cmd, o, ops.Changing, r)
			}
			return e.edited(cmd.Context())(e.app.Change(o))
		}}
	e.editFlags(cmd, &o)
	cmd.Flags().StringVar(&ttl, "ttl", "", "`TIME` for which the records may be cached, or default for that of the file")
	cmd.Flags().StringVar(&o.From, "from", "", "the `DATA` to be replaced, where there are several records")
	cmd.Flags().BoolVar(&o.Everywhere, "everywhere", false, "with --from: at every owner that has these data; OWNER is left out")
	cmd.Flags().BoolVar(&o.Split, "split", false, "write a text of more than 255 octets as several strings")
	timerFlags(cmd, &o.Timers)
	remoteFlags(cmd, &r, true)
	return cmd
}

func newRename(e *env) *cobra.Command {
	var o edit.Rename
	cmd := &cobra.Command{Use: "rename ZONE OLD NEW", GroupID: stageWrite, Short: "rename a host and all records that point to it",
		Long: `Renames a host: its records and those of the names below it (such as _443._tcp.OLD)
move, and all records that point to it follow, in all zones of the workspace: aliases, MX,
SRV, NS, PTR. All files are written, or none.`,
		Example: `  fencepost rename saltmarsh.example web www2
  fencepost rename saltmarsh.example mail post --dry-run`,
		Args: exactly("ZONE", "OLD", "NEW"),
		RunE: func(cmd *cobra.Command, args []string) error {
			o.Zone, o.From, o.To = args[0], args[1], args[2]
			return e.edited(cmd.Context())(e.app.Rename(o))
		}}
	cmd.Flags().BoolVar(&o.Dry, "dry-run", false, "show what would change and write nothing")
	e.reloadFlag(cmd)
	return cmd
}

func newRemove(e *env) *cobra.Command {
	var o edit.Edit
	var r ops.Remote
	cmd := &cobra.Command{Use: "remove ZONE OWNER [TYPE [DATA...]]", GroupID: stageWrite, Short: "remove records",
		Long: "Removes a record, all records of a type, or all records of an owner.\n" + editLong + editLongRemote,
		Example: `  fencepost remove saltmarsh.example cam-north --ptr
  fencepost remove saltmarsh.example @ MX 20 mail2
  fencepost remove saltmarsh.example 'gauge[01-40]'`,
		Args: orManyZones(atLeast("ZONE", "OWNER")),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			if err := e.editArgs(cmd, &o, args, ""); err != nil {
				return err
			}
			if remote, err := goesTo(&r); err != nil {
				return err
			} else if remote {
				return e.editedAt(cmd, o, ops.Removing, r)
			}
			return e.edited(cmd.Context())(e.app.Remove(o))
		}}
	e.editFlags(cmd, &o)
	remoteFlags(cmd, &r, false)
	return cmd
}

// editedFile is what an edit did with a file, as documented output.
type editedFile struct {
	Zone      string   `json:"zone"`
	File      string   `json:"file"`
	Removed   []string `json:"removed"`
	Added     []string `json:"added"`
	OldSerial uint32   `json:"old_serial"`
	Serial    uint32   `json:"serial"`
	Findings  []any    `json:"findings"` // that were not there before
}

// edited shows what an edit did.
//
// With --reload the running server takes it too.
func (e *env) edited(ctx context.Context) func(*edit.Edited, error) error {
	return func(r *edit.Edited, err error) error {
		if err != nil {
			return err
		}
		if !e.reload || !r.Written {
			return e.showEdited(r, nil)
		}
		results, perr := e.takeOver(ctx, r, "the files are")
		if err := e.showEdited(r, results); err != nil {
			return err
		}
		return e.tookOver(results, perr)
	}
}

// takeOver has the running server take what an edit wrote; written says what that is, for an error.
func (e *env) takeOver(ctx context.Context, r *edit.Edited, written string) ([]zoneResult, error) {
	results := []zoneResult{}
	err := e.app.ReloadEdited(ctx, r, func(zone string, call func(any) error) error {
		what := "the zones were"
		if zone != "" {
			what = strings.TrimSuffix(zone, ".") + " was"
		}
		var some []zoneResult
		if err := call(&some); err != nil {
			return fmt.Errorf("%s written, and %s not reloaded: %w", written, what, err)
		}
		if zone == "" { // the server looked at all
			some = slices.DeleteFunc(some, func(r zoneResult) bool { return r.Change == string(zonestate.Unchanged) })
		}
		results = append(results, some...)
		return nil
	})
	return results, err
}

// tookOver shows what the running server made of an edit, after what the edit did.
func (e *env) tookOver(results []zoneResult, err error) error {
	switch {
	case e.ui.JSON:
	case len(results) > 0:
		e.ui.Printf("\n")
		e.reloaded(results)
	case err == nil:
		e.ui.Sayf("nothing to reload: no zone of this workspace was changed\n")
	}
	return cmp.Or(err, refused(results))
}

// showEdited shows what an edit did, and in JSON what the server made of it.
func (e *env) showEdited(r *edit.Edited, reloaded []zoneResult) error {
	if e.ui.JSON {
		files := []editedFile{}
		for _, f := range r.Files {
			files = append(files, editedFile{f.Zone.String(), f.Path, f.Removed, f.Added, f.OldSerial, f.Serial, ui.FindingsJSON(f.Source, f.Fresh)})
		}
		out := map[string]any{"written": r.Written, "files": files, "notes": append([]string{}, r.Notes...)}
		if reloaded != nil {
			out["zones"] = reloaded
		}
		if len(r.Left) > 0 {
			out["left"] = leftSets(r.Left)
		}
		return e.ui.Object(out)
	}
	verb := "wrote"
	if !r.Written {
		verb = "would write"
	}
	for _, n := range r.Notes {
		e.ui.Sayf("%s\n", n)
	}
	groups := summed(r.Files)
	e.showSummed(groups, verb)
	for _, f := range r.Files {
		if len(groups) > 0 && f.Serial != 0 && !f.New {
			continue
		}
		for _, l := range f.Removed {
			e.ui.Printf("%s\n", e.ui.Paint(ui.Bad, "- %s", l))
		}
		for _, l := range f.Added {
			e.ui.Printf("%s\n", e.ui.Paint(ui.Good, "+ %s", l))
		}
		if f.Serial == 0 {
			e.ui.Sayf("%s %s\n", verb, f.Path)
			continue
		}
		if f.Fresh != nil && len(f.Fresh.All) > 0 { // what the edit brings about
			e.ui.Printf("\n")
			if err := e.ui.Findings(f.Source, f.Fresh); err != nil {
				return err
			}
		}
		e.ui.Sayf("%s %s, serial %d → %d\n", verb, f.Path, f.OldSerial, f.Serial)
		if f.Diags.Count(diag.Error)+f.Diags.Count(diag.Warning) > 0 {
			e.ui.Sayf("The zone has %s; see: fencepost check %s\n", ui.Tally(f.Diags), f.Path)
		}
	}
	if len(r.Files) == 0 {
		e.ui.Sayf("nothing changes\n")
	}
	for _, l := range r.Left {
		e.ui.Printf("%s\n", e.ui.Fit(ui.Textf("%s: %s %s: %s", e.ui.Paint(ui.Bad, "stays pending"), l.Owner.Plain(), l.Type, l.Why), 2))
	}
	return nil
}

// leftSet is a set that a fold left pending, as documented output.
type leftSet struct {
	Name string `json:"name"`
	Type string `json:"type"`
	Why  string `json:"why"`
}

func leftSets(left []edit.Left) (out []leftSet) {
	for _, l := range left {
		out = append(out, leftSet{l.Owner.String(), l.Type.String(), l.Why})
	}
	return out
}
