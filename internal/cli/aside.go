package cli

import (
	"os/user"

	"github.com/spf13/cobra"

	"fencepost/internal/edit"
	"fencepost/zonefile"
)

func newSetAside(e *env) *cobra.Command {
	var o edit.Edit
	var why string
	cmd := &cobra.Command{Use: "set-aside ZONE OWNER [TYPE [DATA...]]", GroupID: stageWrite, Short: "turn records into comments for a while",
		Long: `Takes records out of the zone and leaves their lines where they were, as comments
that say who did so, when and why; any reader of master files passes over them:

    ; set aside 2026-11-29 by ines, because the lens is broken
    ;~ cam-north       A      198.51.100.31

put-back makes them active again, find finds them, and check reports those that
have been set aside for more than two months.
` + editLong,
		Example: `  fencepost set-aside saltmarsh.example cam-north A --because "the lens is broken"
  fencepost set-aside saltmarsh.example @ MX 20 mail2 --because "mail2 is being moved" --reload`,
		Args: orManyZones(atLeast("ZONE", "OWNER")),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			if err := e.editArgs(cmd, &o, args, ""); err != nil {
				return err
			}
			n := zonefile.AsideNote{Day: e.app.Now(), Why: why}
			if u, err := user.Current(); err == nil {
				n.Who = u.Username
			}
			return e.edited(cmd.Context())(e.app.SetAside(o, n))
		}}
	e.editFlags(cmd, &o)
	cmd.Flags().StringVar(&why, "because", "", "the reason, as `TEXT`")
	return cmd
}

func newPutBack(e *env) *cobra.Command {
	var o edit.Edit
	cmd := &cobra.Command{Use: "put-back ZONE OWNER [TYPE [DATA...]]", GroupID: stageWrite, Short: "make set-aside records active again",
		Long: "Makes records that were set aside active again, in their place.\n" + editLong,
		Example: `  fencepost put-back saltmarsh.example cam-north
  fencepost put-back saltmarsh.example @ MX 20 mail2 --reload`,
		Args: orManyZones(atLeast("ZONE", "OWNER")),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			if err := e.editArgs(cmd, &o, args, ""); err != nil {
				return err
			}
			return e.edited(cmd.Context())(e.app.PutBack(o))
		}}
	e.editFlags(cmd, &o)
	return cmd
}
