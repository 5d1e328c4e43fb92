package cli

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"fencepost/internal/ops"
	"fencepost/internal/ui"
	"fencepost/wholefile"
)

func newHandover(e *env) *cobra.Command {
	var o ops.HandoverOptions
	var confirm, signals bool
	var at []string
	var out string
	var digests []uint
	cmd := &cobra.Command{Use: "handover ZONE|FILE", GroupID: stageSign, Short: "what to send to the parent's operator",
		Long: `Shows what has to be entered at the registrar or in the parent zone: the name
servers, their addresses where these are needed (glue), and the DS of the keys, as
fields to copy into a form and as records. With --format epp the parent is asked what
it has, and what has to change comes as EPP commands (RFC 5731, 5732, 5910). Each is a
document of its own: where there are several, -o names a folder for them.

--party-takes says what that party supports, and the best that both sides know is
chosen. --confirm asks the parent's servers and compares each field.

Exit status of --confirm: 0 the parent serves all of it, 1 it does not.`,
		Example: `  fencepost handover saltmarsh.example
  fencepost handover saltmarsh.example --party-takes 'algorithms=8,13 digests=1,2'
  fencepost handover saltmarsh.example --format epp -o epp
  fencepost handover saltmarsh.example --confirm --at 192.0.2.53`,
		Annotations: map[string]string{moreFormats: "epp"},
		Args:        exactly("ZONE or FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			o.Operand = args[0]
			for _, d := range digests {
				o.Digests = append(o.Digests, uint8(d))
			}
			d, err := e.app.Handover(o)
			if err != nil {
				return err
			}
			if confirm {
				c, err := e.app.Confirm(cmd.Context(), d, at)
				if c == nil {
					return err
				}
				return e.confirmed(c, err)
			}
			if signals {
				return e.signals(d)
			}
			switch e.format {
			case "epp":
				commands, err := e.app.EPP(cmd.Context(), d, at)
				if err != nil {
					return err
				}
				return e.epp(commands, out)
			case "json":
				var records []string
				for _, r := range d.Records() {
					records = append(records, strings.ReplaceAll(r.String(), "\t", " "))
				}
				return e.ui.Object(map[string]any{"zone": d.Zone.String(), "name_servers": d.Servers, "keys": d.Keys, "records": records, "notes": d.Notes})
			}
			e.handover(d)
			return nil
		}}
	f := cmd.Flags()
	f.StringVar(&o.Origin, "origin", "", "`NAME` of the zone, where the file does not say it")
	f.StringVar(&o.Keys, "keys", "", "`DIR` of the keys (default: keys/ZONE in the workspace)")
	f.StringVar(&o.Takes, "party-takes", "", "`WHAT` that party supports, such as 'algorithms=8,13 digests=1,2'")
	f.UintSliceVar(&digests, "digest", nil, "DS digest `TYPES`: 2 (SHA-256), 4 (SHA-384)")
	f.BoolVar(&confirm, "confirm", false, "ask the parent's servers whether they serve it")
	f.BoolVar(&signals, "signals", false, "the signaling records for DNSSEC bootstrapping (RFC 9615)")
	f.StringArrayVar(&at, "at", nil, "with --confirm and --format epp: a `SERVER` of the parent; repeat it for each")
	f.StringVarP(&out, "output", "o", "", "with --format epp: a `FOLDER` for the commands")
	return cmd
}

// epp prints one command, or writes each to a file of its own.
func (e *env) epp(commands []ops.EPPCommand, folder string) error {
	switch {
	case len(commands) == 0:
		e.ui.Sayf("the parent has all of it: there is nothing to be changed\n")
		return nil
	case folder == "" && len(commands) == 1:
		_, err := e.out.Write(commands[0].XML)
		return err
	case folder == "":
		return usageError("there are %d EPP commands, each a document of its own: name a folder for them, -o FOLDER", len(commands))
	}
	if err := wholefile.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	for _, c := range commands {
		path := filepath.Join(folder, c.Name)
		if err := wholefile.Write(path, c.XML, 0o644); err != nil {
			return err
		}
		e.ui.Sayf("wrote %s\n", path)
	}
	return nil
}

// signals prints the records for the zones of name servers elsewhere.
func (e *env) signals(d *ops.DelegationData) error {
	records, err := d.Signals()
	if err != nil {
		return err
	}
	if len(records) == 0 {
		e.ui.Sayf("%s has no name server outside it, or no key: nothing can vouch for it this way\n", strings.TrimSuffix(d.Zone.String(), "."))
		return nil
	}
	for _, r := range records {
		e.ui.Printf("%s\n", strings.ReplaceAll(r.String(), "\t", " "))
	}
	return nil
}

func (e *env) handover(d *ops.DelegationData) {
	head := func(s string) { e.ui.Printf("\n%s\n", e.ui.Paint(ui.Bold, "%s", s)) }
	e.ui.Printf("%s: for the parent's operator\n", e.ui.Paint(ui.Bold, "%s", strings.TrimSuffix(d.Zone.String(), ".")))
	for _, n := range d.Notes {
		e.ui.Printf("%s %s\n", e.ui.Paint(ui.Suspect, "note:"), n)
	}
	head("Name servers")
	for i, s := range d.Servers {
		e.ui.Printf("  server %d          %s\n", i+1, strings.TrimSuffix(s.Name, "."))
		for _, a := range s.Addresses {
			e.ui.Printf("    address         %s\n", a)
		}
	}
	for i, k := range d.Keys {
		head(fmt.Sprintf("Delegation signer (DS) %d", i+1))
		for _, f := range [][2]string{{"key tag", fmt.Sprint(k.KeyTag)}, {"algorithm", fmt.Sprintf("%d (%s)", k.Algorithm, k.AlgorithmName)},
			{"digest type", fmt.Sprintf("%d (%s)", k.DigestType, k.DigestName)}, {"digest", k.Digest}, {"flags", fmt.Sprint(k.Flags)}, {"DNSKEY", k.PublicKey}} {
			e.ui.Printf("  %-16s  %s\n", f[0], f[1])
		}
	}
	if len(d.Keys) == 0 {
		head("Delegation signer (DS)")
		if d.Unsigning {
			e.ui.Printf("  none: have every DS deleted\n")
		} else {
			e.ui.Printf("  none: the zone has no key, so it is not signed\n")
		}
	}
	head("As records of the parent zone")
	for _, r := range d.Records() {
		e.ui.Printf("  %s\n", strings.ReplaceAll(r.String(), "\t", "  "))
	}
}

func (e *env) confirmed(c *ops.Confirmed, err error) error {
	if e.ui.JSON {
		if oerr := e.ui.Object(c); oerr != nil {
			return oerr
		}
		return shown(err)
	}
	styles := map[string]ui.Style{"same": ui.Good, "missing": ui.Bad, "extra": ui.Suspect}
	var rows [][]ui.Text
	for _, s := range c.Servers {
		if s.Problem != "" {
			rows = append(rows, ui.Cells(s.Server, "", e.ui.Paint(ui.Bad, "silent"), s.Problem))
		}
		for _, f := range s.Fields {
			rows = append(rows, ui.Cells(s.Server, f.Field, e.ui.Paint(styles[f.State], "%s", f.State), f.Value))
		}
	}
	e.ui.Table([]string{"server of the parent", "field", "there", "value"}, rows)
	zone := strings.TrimSuffix(c.Zone, ".")
	if c.Agrees {
		e.ui.Printf("\n%s: %s\n", zone, e.ui.Paint(ui.Good, "the parent serves all of it"))
	} else {
		e.ui.Printf("\n%s: %s\n", zone, e.ui.Paint(ui.Bad, "the parent does not serve all of it"))
	}
	return shown(err)
}
