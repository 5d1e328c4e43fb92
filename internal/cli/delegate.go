package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"fencepost/internal/edit"
	"fencepost/internal/ops"
)

func newDelegate(e *env) *cobra.Command {
	var o edit.Delegate
	var f ops.SyncChild
	var follow bool
	cmd := &cobra.Command{Use: "delegate ZONE CHILD --ns NAME[=ADDRESS,...]", GroupID: stageWrite, Short: "delegate a child zone to its servers",
		Long: `Writes the NS records of a delegation, the addresses of servers that lie in the
delegated zone and only those, and the DS records when the child is a signed zone
of this workspace. With --create the child's zone is made in the same step.
Without --ns the servers are those that the child's zone lists itself.

With --follow the child's servers are asked what they want the parent to have: DS by
CDS and CDNSKEY (RFC 7344, 8078), name servers and glue by CSYNC (RFC 7477). It is
written only if all of them agree, the present DS proves it, and the chain of trust
holds afterwards. A server does this by itself for zones with follow-children = true.`,
		Example: `  fencepost delegate saltmarsh.example gauges --ns ns1.gauges=198.51.100.70 --ns ns2
  fencepost delegate saltmarsh.example birds --ns ns1.birds=198.51.100.71 --ns ns.harbour.example --create
  fencepost delegate saltmarsh.example gauges --ns ns1.gauges=198.51.100.72 --ns ns2 --reload
  fencepost delegate saltmarsh.example gauges --dry-run
  fencepost delegate saltmarsh.example gauges --follow`,
		Args: exactly("ZONE", "CHILD"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if follow {
				f.Zone, f.Child, f.Dry = args[0], args[1], o.Dry
				r, err := e.app.SyncChild(cmd.Context(), f)
				if errors.Is(err, ops.ErrNothingAsked) {
					e.ui.Sayf("%v\n", err)
					return nil
				}
				return e.edited(cmd.Context())(r, err)
			}
			o.Zone, o.Child = args[0], args[1]
			return e.edited(cmd.Context())(e.app.Delegate(o))
		}}
	cmd.Flags().StringArrayVar(&o.Servers, "ns", nil, "a `SERVER` of the child, with its addresses if it lies in the child; repeat it for each")
	cmd.Flags().BoolVar(&o.Create, "create", false, "make the child's zone in the workspace too")
	cmd.Flags().StringVar(&o.Contact, "contact", "", "`MAILBOX` of the person responsible for the child, with --create")
	cmd.Flags().BoolVar(&o.Dry, "dry-run", false, "show what would change and write nothing")
	e.reloadFlag(cmd)
	cmd.Flags().BoolVar(&follow, "follow", false, "apply what the child asks for by CDS, CDNSKEY and CSYNC")
	cmd.Flags().BoolVar(&f.First, "first", false, "with --follow: also the keys of a child that has no DS yet, which nothing proves")
	cmd.Flags().BoolVar(&f.Approved, "approve", false, "with --follow: also what its CSYNC record wants approved")
	return cmd
}
