package cli

import (
	"github.com/spf13/cobra"

	"fencepost/internal/app"
)

func newDelegate(e *env) *cobra.Command {
	var o app.Delegate
	cmd := &cobra.Command{Use: "delegate ZONE CHILD --ns NAME[=ADDRESS,...]", GroupID: stageWrite, Short: "hand a part of a zone to other servers",
		Long: `Writes the NS records of a delegation, the addresses of servers that lie in the
delegated zone and only those, and the DS records when the child is a signed zone
of this workspace. With --create the child's zone is made in the same step.
Without --ns the servers are those that the child's zone lists itself.`,
		Example: `  fencepost delegate saltmarsh.example gauges --ns ns1.gauges=198.51.100.70 --ns ns2
  fencepost delegate saltmarsh.example birds --ns ns1.birds=198.51.100.71 --ns ns.harbour.example --create
  fencepost delegate saltmarsh.example gauges --dry-run`,
		Args: exactly("ZONE", "CHILD"),
		RunE: func(_ *cobra.Command, args []string) error {
			o.Zone, o.Child = args[0], args[1]
			return e.edited(e.app.Delegate(o))
		}}
	cmd.Flags().StringArrayVar(&o.Servers, "ns", nil, "a `SERVER` of the child, with its addresses if it lies in the child; repeat it for each")
	cmd.Flags().BoolVar(&o.Create, "create", false, "make the child's zone in the workspace too")
	cmd.Flags().StringVar(&o.Contact, "contact", "", "`MAILBOX` of the person responsible for the child, with --create")
	cmd.Flags().BoolVar(&o.Dry, "dry-run", false, "show what would change and write nothing")
	return cmd
}
