package cli

import (
	"os"

	"github.com/spf13/cobra"

	"fencepost/internal/demo"
	"fencepost/internal/ui"
)

func newDemo(e *env) *cobra.Command {
	var keep string
	cmd := &cobra.Command{Use: "demo", GroupID: stageTry, Short: "the whole story on demo data, without a network",
		Long: `Tells the story of the Saltmarsh Observatory: zones written, checked, signed,
served, transferred and verified by the real commands, on loopback. Each command
is shown before it is run, and the demo fails if one comes out otherwise than it
must.`,
		Example: `  fencepost demo
  fencepost demo --keep ./saltmarsh     and leave the workspaces to play with`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			program, err := os.Executable()
			if err != nil {
				return err
			}
			color := e.color == "always" || e.color == "auto" && ui.IsTerminal(e.out) && os.Getenv("NO_COLOR") == ""
			return demo.Run(cmd.Context(), demo.Options{Program: program, Keep: keep, Out: e.out, Color: color})
		}}
	cmd.AddCommand(newWorld(e))
	cmd.Flags().StringVar(&keep, "keep", "", "`DIR` for the workspaces, which then stay")
	return cmd
}
