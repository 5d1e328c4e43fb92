package cli

import (
	"github.com/spf13/cobra"

	"fencepost/internal/edit"
	"fencepost/internal/ops"
	"fencepost/internal/ui"
)

// remoteFlags are those of an edit that is made at a server.
func remoteFlags(cmd *cobra.Command, r *ops.Remote, fromHere bool) {
	cmd.Flags().StringVar(&r.At, "at", "", "make the edit on this `SERVER` by a dynamic update (RFC 2136) instead of in the file; here: the server of this workspace")
	cmd.Flags().StringVar(&r.Key, "key", "", "with --at: `NAME` of the secret that signs it, in secrets.toml")
	if fromHere {
		cmd.Flags().BoolVar(&r.FromHere, "from-here", false, "with --at: the address is the one under which the server sees this machine")
	}
	cmd.MarkFlagsMutuallyExclusive("at", "reload")
}

// goesTo reports whether an edit is one of a server.
func goesTo(r *ops.Remote) (bool, error) {
	if r.At == "" && (r.Key != "" || r.FromHere) {
		return false, usageError("--key and --from-here are for edits at a server: add --at SERVER")
	}
	return r.At != "", nil
}

// editLongRemote is told of edits that can go to a server.
const editLongRemote = `

With --at SERVER --key NAME the edit is sent to a server as a dynamic update (RFC 2136),
which the server has to grant ([[grant]] in fencepost.toml there); no file is needed here.
The changes are shown first. They are made only if the records are still the same, and
the result is read back. --at here is the running server of the workspace, which knows
you by your user ([[allow]]) and needs no key.`

// editedAt makes an edit at a server.
func (e *env) editedAt(cmd *cobra.Command, o edit.Edit, kind ops.Kind, r ops.Remote) error {
	p, err := e.app.PrepareAt(cmd.Context(), o, kind, r)
	if err != nil {
		return err
	}
	if !e.ui.JSON {
		for _, ch := range p.Changes {
			e.change(ch)
		}
	}
	sent := &p.Sent
	if !o.Dry {
		if sent, err = p.Send(cmd.Context()); err != nil {
			return err
		}
	}
	if e.ui.JSON {
		return e.ui.Object(map[string]any{"zone": sent.Zone.String(), "server": sent.Server.String(), "done": sent.Done, "serial": sent.Serial, "changes": append([]ops.SetChange{}, sent.Changes...)})
	}
	switch {
	case len(sent.Changes) == 0:
		e.ui.Sayf("nothing changes: %s has it already\n", sent.Server)
	case o.Dry:
		e.ui.Sayf("not sent to %s: --dry-run\n", sent.Server)
	default:
		e.ui.Sayf("%s at %s: serial %d\n", e.onErr().Paint(ui.Good, "updated"), sent.Server, sent.Serial)
	}
	return nil
}
