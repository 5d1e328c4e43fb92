package cli

import (
	"bufio"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/internal/app"
	"fencepost/internal/ui"
	"fencepost/server"
	"fencepost/zonefile"
)

// dumpText is a zone in service as a master file.
func dumpText(s *server.Server, name dnsname.Name) (string, error) {
	z := s.Snapshot(name)
	if z == nil {
		return "", fmt.Errorf("%s: %w", name, server.ErrNoZone)
	}
	// One line of the control socket has to hold it.
	const most = 32 << 20
	if z.Octets() > most/4 {
		return "", fmt.Errorf("%s is too large to be printed here: transfer it instead", name)
	}
	var b strings.Builder
	w := bufio.NewWriter(&b)
	if err := zonefile.Write(w, z); err != nil {
		return "", err
	}
	_ = w.Flush() // into memory
	return b.String(), nil
}

func newAsk(e *env) *cobra.Command {
	var q app.Question
	cmd := &cobra.Command{Use: "ask NAME [TYPE]", GroupID: stageVerify, Short: "ask a server, or a zone file, one question",
		Long: `Asks one question and shows the answer. With --zone the answer comes from a zone
file, without any server, and says why it is so. Without --at and --zone the
server of the workspace is asked.`,
		Example: `  fencepost ask www.saltmarsh.example --at 127.0.0.1:5300
  fencepost ask saltmarsh.example MX --at 2001:db8::53
  fencepost ask nosuch.saltmarsh.example --zone zones/saltmarsh.example.zone
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
				return e.ui.Object(ui.MessageJSON(r.Message, r.Raw))
			}
			e.asked(r)
			return nil
		}}
	f := cmd.Flags()
	f.StringVar(&q.At, "at", "", "`SERVER` to ask: HOST or HOST:PORT, or a peer of the workspace")
	f.StringVar(&q.ZoneFile, "zone", "", "answer from this `FILE`, or zone of the workspace")
	f.StringVar(&q.Origin, "origin", "", "`NAME` of the zone, where the file does not say it")
	f.StringVar(&q.Transport, "transport", "", "`WAY` to ask: udp or tcp (default: udp, and tcp if the answer does not fit)")
	f.BoolVar(&q.DNSSEC, "dnssec", false, "with signatures and proofs")
	f.DurationVar(&q.Timeout, "timeout", 2*time.Second, "`TIME` to wait for one try")
	return cmd
}

func (e *env) asked(r *app.Asked) {
	e.ui.Printf("%s %s  ", e.ui.Paint(ui.Bold, "%s", strings.TrimSuffix(r.Question.Name.String(), ".")), r.Question.Type)
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

func newSecondaries(e *env) *cobra.Command {
	var at []string
	var timeout time.Duration
	cmd := &cobra.Command{Use: "secondaries ZONE", GroupID: stageVerify, Short: "are all servers of a zone in step?",
		Long: `Asks every server of a zone for its serial: the server of this workspace, its
peers, and those given with --at.

Exit status: 0 all have the newest version, 1 some do not.`,
		Example: `  fencepost secondaries saltmarsh.example
  fencepost secondaries saltmarsh.example --at 192.0.2.53 --at 198.51.100.53`,
		Args: exactly("ZONE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := e.app.Secondaries(cmd.Context(), args[0], at, timeout)
			if r == nil {
				return err
			}
			if e.ui.JSON {
				if oerr := e.ui.Object(map[string]any{"zone": r.Zone.String(), "serial": r.Serial, "in_step": err == nil, "servers": r.Servers}); oerr != nil {
					return oerr
				}
				return shown(err)
			}
			e.secondaries(r)
			return shown(err)
		}}
	cmd.Flags().StringArrayVar(&at, "at", nil, "another `SERVER` to ask; repeat it for each")
	cmd.Flags().DurationVar(&timeout, "timeout", 2*time.Second, "`TIME` to wait for one try")
	return cmd
}

func (e *env) secondaries(r *app.InStep) {
	var rows [][]string
	good := 0
	for _, s := range r.Servers {
		style := ui.Bad
		if s.State == "in step" {
			style = ui.Good
			good++
		}
		serial := "-"
		if s.Serial != 0 {
			serial = fmt.Sprint(s.Serial)
		}
		rows = append(rows, []string{s.Name, s.Address, serial, e.ui.Paint(style, "%s", s.State), s.Problem})
	}
	e.ui.Table([]string{"server", "address", ">serial", "state", ""}, rows)
	zone := strings.TrimSuffix(r.Zone.String(), ".")
	if good == len(r.Servers) {
		e.ui.Printf("\n%s: %s in step with serial %d\n", zone, all(len(r.Servers)), r.Serial)
	} else {
		e.ui.Printf("\n%s: %d of %s have serial %d\n", zone, good, ui.Plural(len(r.Servers), "server"), r.Serial)
	}
}

func all(n int) string {
	switch n {
	case 1:
		return "the only server asked is"
	case 2:
		return "both servers are"
	}
	return fmt.Sprintf("all %d servers are", n)
}
