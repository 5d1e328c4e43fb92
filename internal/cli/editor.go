package cli

import (
	"io"
	"os"

	"github.com/spf13/cobra"

	"fencepost/internal/editor"
)

func newEditor(e *env) *cobra.Command {
	return &cobra.Command{Use: "editor", GroupID: stageCheck, Short: "language server for editors: findings, help, names",
		Long: `Speaks the Language Server Protocol over standard input and output. An editor that
starts it for zone files shows findings as you type, explains what the pointer is
on, completes types and names, goes to where a name has its records, offers the
mechanical mends and puts the file into the house style.`,
		Example: `  fencepost editor            as the language server for files that end in .zone`,
		Args:    noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return editor.Serve(cmd.Context(), e.app, Version(), stdio{os.Stdin, e.out})
		}}
}

// stdio joins standard input and output to one stream.
type stdio struct {
	io.ReadCloser
	out io.Writer
}

func (s stdio) Write(p []byte) (int, error) { return s.out.Write(p) }
