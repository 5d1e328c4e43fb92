package cli

import "github.com/spf13/cobra"

func newDemo(e *env) *cobra.Command {
	return &cobra.Command{Use: "demo", GroupID: stageTry, Hidden: true, RunE: func(*cobra.Command, []string) error { return nil }}
}
