package cli

import (
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"fencepost/diag"
	"fencepost/internal/app"
	"fencepost/internal/ui"
)

func starterFlags(cmd *cobra.Command, s *app.Starter) {
	cmd.Flags().StringArrayVar(&s.Servers, "ns", nil, "a `SERVER`: a label in the zone with its address, ns1=ADDRESS[,ADDRESS], or a whole name; repeat it for each")
	cmd.Flags().StringVar(&s.Contact, "contact", "", "`MAILBOX` of the person responsible (default: hostmaster in the zone)")
}

func newInit(e *env) *cobra.Command {
	var s app.Starter
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
	var s app.Starter
	cmd := &cobra.Command{Use: "new ZONE", GroupID: stageWrite, Short: "make a zone file in the workspace",
		Long: `Makes a master file with SOA and NS records, timers that suit most, and comments
that say what each timer means, and lists the zone in fencepost.toml.`,
		Example: `  fencepost new saltmarsh.example --ns ns1=198.51.100.53 --ns ns2.example.net`,
		Args:    exactly("ZONE"),
		RunE: func(_ *cobra.Command, args []string) error {
			s.Zone = args[0]
			res, err := e.app.New(s)
			if err != nil {
				return err
			}
			return e.created(res, "fencepost check "+args[0])
		}}
	starterFlags(cmd, &s)
	return cmd
}

func (e *env) created(c *app.Created, next string) error {
	if e.ui.JSON {
		return e.ui.Object(map[string]any{"zone": c.Zone.String(), "files": c.Files})
	}
	for _, f := range c.Files {
		e.ui.Printf("wrote %s\n", f)
	}
	e.ui.Sayf("Next: %s\n", next)
	return nil
}

func editFlags(cmd *cobra.Command, o *app.Edit) {
	cmd.Flags().BoolVar(&o.Dry, "dry-run", false, "show what would change and write nothing")
}

const editLong = `
ZONE is a zone of the workspace or a file. OWNER is relative to the zone, @ for
the zone itself. Only the lines concerned change; the serial is raised. An edit
that would put an error into the zone is refused and nothing is written.`

func newAdd(e *env) *cobra.Command {
	var o app.Edit
	cmd := &cobra.Command{Use: "add ZONE OWNER TYPE DATA...", GroupID: stageWrite, Short: "add a record",
		Long: "Adds a record where a person would put it.\n" + editLong,
		Example: `  fencepost add saltmarsh.example cam-north A 198.51.100.31
  fencepost add saltmarsh.example @ MX 20 mail2
  fencepost add saltmarsh.example note TXT "high water at six" --ttl 300`,
		Args: atLeast("ZONE", "OWNER", "TYPE", "DATA"),
		RunE: func(_ *cobra.Command, args []string) error {
			o.Zone, o.Owner, o.Type, o.Data = args[0], args[1], args[2], args[3:]
			return e.edited(e.app.Add(o))
		}}
	editFlags(cmd, &o)
	cmd.Flags().StringVar(&o.TTL, "ttl", "", "`TIME` for which the record may be cached (default: that of the file)")
	return cmd
}

func newChange(e *env) *cobra.Command {
	var o app.Edit
	cmd := &cobra.Command{Use: "change ZONE OWNER TYPE DATA...", GroupID: stageWrite, Short: "replace the data of a record",
		Long: "Replaces the data of a record. Where the owner has several records of the type,\n--from says which.\n" + editLong,
		Example: `  fencepost change saltmarsh.example web A 198.51.100.12
  fencepost change saltmarsh.example @ MX 10 mail3 --from "20 mail2"`,
		Args: atLeast("ZONE", "OWNER", "TYPE", "DATA"),
		RunE: func(_ *cobra.Command, args []string) error {
			o.Zone, o.Owner, o.Type, o.Data = args[0], args[1], args[2], args[3:]
			return e.edited(e.app.Change(o))
		}}
	editFlags(cmd, &o)
	cmd.Flags().StringVar(&o.TTL, "ttl", "", "`TIME` for which the record may be cached")
	cmd.Flags().StringVar(&o.From, "from", "", "the `DATA` to be replaced, where there are several records")
	return cmd
}

func newRemove(e *env) *cobra.Command {
	var o app.Edit
	cmd := &cobra.Command{Use: "remove ZONE OWNER [TYPE [DATA...]]", GroupID: stageWrite, Short: "remove records",
		Long: "Removes a record, all records of a type, or all records of an owner.\n" + editLong,
		Example: `  fencepost remove saltmarsh.example cam-north
  fencepost remove saltmarsh.example @ MX 20 mail2`,
		Args: atLeast("ZONE", "OWNER"),
		RunE: func(_ *cobra.Command, args []string) error {
			o.Zone, o.Owner = args[0], args[1]
			if len(args) > 2 {
				o.Type, o.Data = args[2], args[3:]
			}
			return e.edited(e.app.Remove(o))
		}}
	editFlags(cmd, &o)
	return cmd
}

// edited shows what an edit did.
func (e *env) edited(r *app.Edited, err error) error {
	if err != nil {
		return err
	}
	if e.ui.JSON {
		return e.ui.Object(map[string]any{"zone": r.Zone.String(), "file": r.Path, "written": r.Written,
			"removed": r.Removed, "added": r.Added, "old_serial": r.OldSerial, "serial": r.Serial})
	}
	for _, l := range r.Removed {
		e.ui.Printf("%s\n", e.ui.Paint(ui.Bad, "- %s", l))
	}
	for _, l := range r.Added {
		e.ui.Printf("%s\n", e.ui.Paint(ui.Good, "+ %s", l))
	}
	verb := "wrote"
	if !r.Written {
		verb = "would write"
	}
	e.ui.Sayf("%s %s, serial %d → %d\n", verb, r.Path, r.OldSerial, r.Serial)
	if n := r.Diags.Count(diag.Error) + r.Diags.Count(diag.Warning); n > 0 {
		e.ui.Sayf("The zone has %s; see: fencepost check %s\n", ui.Tally(r.Diags), r.Path)
	}
	return nil
}

func newSerial(e *env) *cobra.Command {
	var next bool
	var set string
	cmd := &cobra.Command{Use: "serial ZONE", GroupID: stageWrite, Short: "show or raise the serial of a zone",
		Long: `Shows the serial of a zone and what would follow it. The style, by date
(YYYYMMDDnn), count or clock, is set in fencepost.toml. Serials only move forward
in the sense of RFC 1982: secondaries ignore anything else.`,
		Example: `  fencepost serial saltmarsh.example
  fencepost serial saltmarsh.example --next
  fencepost serial saltmarsh.example --set 2026112400`,
		Args: exactly("ZONE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			var to *uint32
			if cmd.Flags().Changed("set") {
				n, err := strconv.ParseUint(set, 10, 32)
				if err != nil {
					return usageError("--set %s is no serial: a number from 0 to 4294967295", set)
				}
				v := uint32(n)
				to = &v
			}
			r, err := e.app.Serial(args[0], next, to)
			if err != nil {
				return err
			}
			if e.ui.JSON {
				return e.ui.Object(map[string]any{"zone": r.Zone.String(), "file": r.Path, "style": r.Style, "serial": r.Serial, "next": r.Next, "changed": r.Changed})
			}
			e.ui.Printf("%d\n", r.Serial)
			if r.Changed {
				e.ui.Sayf("wrote %s\n", r.Path)
			} else {
				e.ui.Sayf("%s: the next would be %d (by %s)\n", strings.TrimSuffix(r.Zone.String(), "."), r.Next, r.Style)
			}
			return nil
		}}
	cmd.Flags().BoolVar(&next, "next", false, "raise it")
	cmd.Flags().StringVar(&set, "set", "", "set it to this `NUMBER`, if that is forward")
	cmd.MarkFlagsMutuallyExclusive("next", "set")
	return cmd
}
