package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fencepost/diag"
	"fencepost/internal/ops"
	"fencepost/internal/ui"
)

func newPull(e *env) *cobra.Command {
	var o ops.Pull
	cmd := &cobra.Command{Use: "pull ZONE --from SERVER", GroupID: stageWrite, Short: "copy a zone from another server, or from a file",
		Long: `Fetches a zone by transfer and writes it as a tidy master file: the TTL that most
records have once at the head, names relative to the zone. Records that a signer
made are left out. A server that does not hand the zone over is asked for it instead: along
its NSEC records, which prove what there is, or else for usual names; how complete that is,
is said. With --file a master file from elsewhere is taken as it is,
octet for octet, with the files that it includes; only lines that stand for a
range of records, which no standard knows, are written out as records. With --unsigned what a signer made is left out
and the rest laid out in the house style: comments stay, and lines that cannot be
read.

The zone goes into the workspace and is listed in fencepost.toml, or to a file
with -o. What check finds in it is reported: what was not understood, and where.`,
		Example: `  fencepost pull tides.example --from 198.51.100.9
  fencepost pull tides.example --from harbour --key harbour-2026
  fencepost pull tides.example --file from-the-old-provider.txt
  ssh old-server cat /var/zones/tides | fencepost pull tides.example --file -
  fencepost pull tides.example --from 198.51.100.9 -o -`,
		Args: exactly("ZONE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			o.Zone, o.Stdin = args[0], cmd.InOrStdin()
			p, err := e.app.Pull(cmd.Context(), o)
			if p == nil {
				return err
			}
			if serr := e.pulled(p, o); serr != nil {
				return serr
			}
			return shown(err)
		}}
	cmd.Flags().StringVar(&o.From, "from", "", "the `SERVER` that hands the zone over: an address, a host, or a peer")
	cmd.Flags().StringVar(&o.File, "file", "", "copy this master `FILE` and the files that it includes as they are; - is standard input")
	cmd.Flags().BoolVar(&o.Unsigned, "unsigned", false, "with --file: leave out what a signer made, and tidy")
	cmd.Flags().StringVar(&o.Key, "key", "", "`NAME` of the secret for the transfer, in secrets.toml")
	cmd.Flags().StringVarP(&o.Out, "output", "o", "", "write to this `FILE` and list the zone nowhere; - is standard output")
	return cmd
}

func (e *env) pulled(p *ops.Pulled, o ops.Pull) error {
	if e.ui.JSON {
		return e.ui.Object(map[string]any{"zone": p.Zone.String(), "serial": p.Serial, "records": p.Records, "left_out": p.Left, "files": append([]string{}, p.Files...),
			"notes": append([]string{}, p.Notes...), "errors": p.Diags.Count(diag.Error), "warnings": p.Diags.Count(diag.Warning)})
	}
	if o.Out == "-" {
		e.ui.Printf("%s", ui.Lines(string(p.Text)))
		if err := e.onErr().Findings(p.Source, p.Diags); err != nil {
			return err
		}
	} else if err := e.ui.Findings(p.Source, p.Diags); err != nil {
		return err
	}
	e.ui.Sayf("%s: serial %d, %s — %s\n", strings.TrimSuffix(p.Zone.String(), "."), p.Serial, ui.Plural(p.Records, "record"), ui.Tally(p.Diags))
	if len(p.Left) > 0 {
		var parts []string
		for _, t := range slices.Sorted(maps.Keys(p.Left)) {
			parts = append(parts, fmt.Sprintf("%s %s", ui.Count(p.Left[t]), t))
		}
		e.ui.Sayf("Left out, for a signer makes them anew: %s.\n", strings.Join(parts, ", "))
	}
	for _, n := range p.Notes {
		e.ui.Sayf("%s\n", n)
	}
	for _, f := range p.Files {
		e.ui.Sayf("wrote %s\n", f)
	}
	return nil
}
