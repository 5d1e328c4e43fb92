package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/internal/edit"
	"fencepost/internal/ops"
	"fencepost/internal/ui"
)

func newAsk(e *env) *cobra.Command {
	var q ops.Question
	cmd := &cobra.Command{Use: "ask NAME [TYPE]", GroupID: stageVerify, Short: "send one query to a server, or to a zone file",
		Long: `Asks one question and shows the answer. With --zone the answer comes from a zone
file, without any server, and says why it is so. Without --at and --zone the
server of the workspace is asked, where it listens now. For an address in place of NAME
its name is asked for (PTR).

Exit status: 0 there is an answer, also that there is none such, 1 the server would not
or could not answer (SERVFAIL, REFUSED ...), 3 no answer came.`,
		Example: `  fencepost ask www.saltmarsh.example --at 127.0.0.1:5300
  fencepost ask saltmarsh.example MX --at 2001:db8::53
  fencepost ask nosuch.saltmarsh.example --zone zones/saltmarsh.example.zone
  fencepost ask 198.51.100.25 --at 127.0.0.1:5300
  fencepost ask saltmarsh.example DNSKEY --dnssec --transport tcp`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) > 2 {
				return fmt.Errorf("%q is one argument too many; the server is given with --at HOST", args[2])
			}
			return count(cmd, args, []string{"NAME"}, -1)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			q.Name = args[0]
			if len(args) > 1 {
				q.Type = args[1]
			}
			if q.At != "" && q.ZoneFile != "" {
				return usageError("--at asks a server and --zone a file: choose one")
			}
			r, err := e.app.Ask(cmd.Context(), q)
			if err != nil {
				return err
			}
			if e.ui.JSON {
				if err := e.ui.Object(ui.MessageJSON(r.Message, r.Raw)); err != nil {
					return err
				}
			} else {
				e.asked(r)
			}
			if r.Failed() {
				return shown(edit.ErrFindings)
			}
			return nil
		}}
	f := cmd.Flags()
	f.StringVar(&q.At, "at", "", "`SERVER` to ask: HOST or HOST:PORT, or a peer of the workspace")
	f.StringVar(&q.ZoneFile, "zone", "", "answer from this `FILE`, or zone of the workspace")
	f.StringVar(&q.Origin, "origin", "", "`NAME` of the zone, where the file does not say it")
	f.StringVar(&q.Transport, "transport", "", "`WAY` to ask: udp alone, or tcp (default: udp, and tcp if the answer does not fit)")
	f.BoolVar(&q.DNSSEC, "dnssec", false, "with signatures and proofs")
	f.DurationVar(&q.Timeout, "timeout", 2*time.Second, "`TIME` to wait for one try")
	return cmd
}

// plain is a name without its final dot; the root keeps it.
func plain(n dnsname.Name) string {
	if n == dnsname.Root {
		return "."
	}
	return strings.TrimSuffix(n.String(), ".")
}

func (e *env) asked(r *ops.Asked) {
	e.ui.Printf("%s %s  ", e.ui.Paint(ui.Bold, "%s", plain(r.Question.Name)), r.Question.Type)
	if r.Transport == "file" {
		e.ui.Printf("from %s, serial %d\n", r.Server, r.Serial)
	} else {
		how := "over " + strings.ToUpper(r.Transport)
		if r.Cut {
			how += " (too large for UDP)"
		}
		e.ui.Printf("at %s %s in %s\n", r.Server, how, ui.Duration(r.Elapsed))
	}
	e.ui.Printf("  %s, %s\n", strings.Join(ui.Flags(r.Message), ", "), ui.Plural(r.Message.Len, "octet"))
	if what := r.Outcome(); what != "" {
		e.ui.Printf("  %s\n", e.ui.Paint(ui.Suspect, "%s", what))
	}
	e.ui.Sections(r.Message)
	if len(r.Reasons) > 0 {
		e.ui.Printf("\n%s\n", e.ui.Paint(ui.Bold, "Why"))
		for _, why := range r.Reasons {
			e.ui.Printf("  %s\n", why)
		}
	}
	if r.Diags != nil && r.Diags.Count(diag.Error) > 0 {
		e.ui.Sayf("\nThe zone has %s and would not be served; see: fencepost check %s\n", ui.Tally(r.Diags), r.Server)
	}
}
