package cli

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fencepost/dnsname"
	"fencepost/internal/ui"
	"fencepost/internal/worlds"
	"fencepost/netio"
	"fencepost/rr"
	"fencepost/wholefile"
	"fencepost/workspace"
)

func newWorld(e *env) *cobra.Command {
	var into string
	var show bool
	cmd := &cobra.Command{Use: "world [FILE]", Short: "play a stand-in Internet on loopback",
		Long: `Plays a world: root, registry, name servers and resolvers, each with its own addresses,
on ports of this machine, until it is interrupted. FILE says what there is and what is
wrong with it (docs/worlds.md); without it the world of the demo is played.

With --into a workspace is written that sees this world: its root, its trust anchor, and
where each of its addresses is reached. In it trace and the like go through the world. Where
the world has a registry, what fencepost handover prints is entered from a file in it:
registrar/ZONE.txt; registrar/ZONE.answer says what came of it.`,
		Example: `  fencepost demo world --into ./play
  fencepost demo world storm.toml --into ./play
  fencepost demo world --show > storm.toml     a world to begin with`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return fmt.Errorf("%q is one argument too many", args[1])
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			text := worlds.Demo
			if show {
				e.ui.Printf("%s", ui.Lines(string(text)))
				return nil
			}
			if len(args) > 0 {
				var err error
				if text, err = wholefile.Read(args[0], 1<<24); err != nil {
					return err
				}
			}
			w, err := worlds.Read(text)
			if err != nil && len(args) > 0 {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			if err != nil {
				return err
			}
			heard := make(chan string, 16)
			w.Told = func(what string) {
				select {
				case heard <- what:
				default: // nobody reads so fast
				}
			}
			p, err := worlds.Play(cmd.Context(), w, netio.Shifted(netio.Real, e.app.Now().Sub(netio.Real.Now())))
			if err != nil {
				return err
			}
			defer p.Stop()
			if into != "" {
				if err := writeWorld(into, p); err != nil {
					return err
				}
				e.ui.Sayf("wrote %s\n", filepath.Join(into, workspace.ConfigFile))
			}
			e.ui.Printf("the world is there: %d zones, %d addresses; interrupt ends it\n", len(w.Zones), len(p.Places))
			failed := make(chan error, 1)
			if into != "" && len(w.Registries) > 0 {
				go func() { failed <- p.Registrar(cmd.Context(), filepath.Join(into, "registrar"), w.Told) }()
			}
			for {
				select {
				case what := <-heard:
					e.ui.Printf("%s\n", what)
				case err := <-failed:
					if err != nil {
						return err
					}
				case <-cmd.Context().Done():
					return nil
				}
			}
		}}
	cmd.Flags().StringVar(&into, "into", "", "`DIR` for a workspace that sees the world")
	cmd.Flags().BoolVar(&show, "show", false, "print the demo's world, and play nothing")
	return cmd
}

// worldMark begins the configuration of a workspace that was written here.
const worldMark = "# A workspace that sees a world on loopback."

// writeWorld writes a workspace that sees a world. One of a former world is replaced; a
// configuration that people wrote is not.
func writeWorld(dir string, p *worlds.World) error {
	path := filepath.Join(dir, workspace.ConfigFile)
	switch have, err := os.ReadFile(path); {
	case err == nil && !strings.HasPrefix(string(have), worldMark):
		return fmt.Errorf("%s is there already and was not written by this command; choose another folder with --into", path)
	case err != nil && !errors.Is(err, os.ErrNotExist):
		return err
	}
	var b strings.Builder
	b.WriteString(worldMark + "\n[serve]\nlisten = [\"127.0.0.1:0\"]\n")
	if anchor, ok := p.Anchor(dnsname.Root); ok {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
		line := fmt.Sprintf(". DNSKEY %s\n", rr.DataText(anchor.Type, anchor.Data))
		if err := wholefile.Write(filepath.Join(dir, "root.key"), []byte(line), 0o644); err != nil {
			return err
		}
		var roots []string
		for _, a := range p.Roots() {
			roots = append(roots, fmt.Sprintf("%q", netip.AddrPortFrom(a, workspace.DefaultPort)))
		}
		fmt.Fprintf(&b, "\n[trust]\nanchors = \"root.key\"\nservers = [%s]\n", strings.Join(roots, ", "))
	}
	b.WriteString("\n[address-override]\n")
	var lines []string
	for a, at := range p.Places {
		lines = append(lines, fmt.Sprintf("%q = %q\n", a, at))
	}
	slices.Sort(lines)
	lines = append(lines, "\"*\" = \"unreachable\" # what is not in the world is nowhere\n")
	b.WriteString(strings.Join(lines, ""))
	return wholefile.Write(path, []byte(b.String()), 0o644)
}
