package cli

import (
	"github.com/spf13/cobra"

	"fencepost/internal/edit"
	"fencepost/internal/ui"
)

func newReverse(e *env) *cobra.Command {
	var o edit.Reverse
	var check bool
	cmd := &cobra.Command{Use: "reverse NETWORK", GroupID: stageWrite, Short: "make reverse zones from the addresses of hosts, or check them",
		Long: `Makes the reverse zone of a network, or completes the one there is, with a PTR
record for each address that a zone of the workspace gives to a host. A network
within a /24 becomes a slice by RFC 2317: a zone of its own, and in the zone of
the /24 the delegation and an alias for each address.

With --check nothing is written: addresses without PTR, and PTR records whose
host does not have the address, are listed. Exit status 1 if there are any.`,
		Example: `  fencepost reverse 198.51.100.0/24
  fencepost reverse 2001:db8:5a17::/48 --dry-run
  fencepost reverse 198.51.100.64/26 --ns ns1.gauges.saltmarsh.example --ns ns2.saltmarsh.example
  fencepost reverse --check`,
		Args: func(cmd *cobra.Command, args []string) error {
			if check && len(args) == 0 {
				return nil
			}
			return exactly("NETWORK")(cmd, args)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				o.Network = args[0]
			}
			if check {
				return e.reverseCheck(o.Network)
			}
			return e.edited(cmd.Context())(e.app.Reverse(o))
		}}
	cmd.Flags().BoolVar(&check, "check", false, "compare addresses and PTR records both ways, and write nothing")
	cmd.Flags().StringArrayVar(&o.Servers, "ns", nil, "a `SERVER` of a zone that is made (default: those of the zone the hosts are in)")
	cmd.Flags().StringVar(&o.Contact, "contact", "", "`MAILBOX` of the person responsible for a zone that is made")
	cmd.Flags().BoolVar(&o.Dry, "dry-run", false, "show what would change and write nothing")
	e.reloadFlag(cmd)
	cmd.MarkFlagsMutuallyExclusive("check", "reload")
	return cmd
}

func (e *env) reverseCheck(network string) error {
	list, looked, err := e.app.ReverseCheck(network)
	if err != nil && len(list) == 0 {
		return err
	}
	if e.ui.JSON {
		for _, m := range list {
			if err := e.ui.Object(m); err != nil {
				return err
			}
		}
		return shown(err)
	}
	var rows [][]ui.Text
	for _, m := range list {
		rows = append(rows, ui.Cells(m.Address, m.Name, m.Problem, m.Place))
	}
	if len(rows) > 0 {
		e.ui.Table([]string{"address", "name", "problem", "where"}, rows)
	}
	verdict := "all agree both ways"
	switch len(list) {
	case 0:
	case 1:
		verdict = "1 does not agree"
	default:
		verdict = ui.Count(len(list)) + " do not agree"
	}
	e.ui.Sayf("Looked at %s and PTR records: %s\n", ui.Count(looked)+" addresses", verdict)
	return shown(err)
}
