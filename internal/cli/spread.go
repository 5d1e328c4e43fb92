package cli

import (
	"errors"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fencepost/internal/edit"
	"fencepost/internal/ops"
	"fencepost/internal/ui"
)

func newSpread(e *env) *cobra.Command {
	var q ops.Question
	var every time.Duration
	cmd := &cobra.Command{Use: "spread NAME [TYPE] --at RESOLVER...", GroupID: stageVerify, Short: "has a change spread? what resolvers hold, and for how long",
		Long: `Asks the servers of the zone for the present answer, and resolvers for theirs: which have
it already, which have an old one and until when they may cache it. With --watch it asks
again until all have it.

A resolver without the answer fetches it when asked, and has it in its cache then.

Exit status: 0 all have it, 1 some do not.`,
		Example: `  fencepost spread www.saltmarsh.example --at 192.0.2.100 --at 192.0.2.101
  fencepost spread saltmarsh.example MX --at 192.0.2.100 --watch 10s`,
		Args: nameAndType("; resolvers are given with --at"),
		RunE: func(cmd *cobra.Command, args []string) error {
			q.Name, q.Type = asks(args)
			for first := true; ; first = false {
				s, err := e.app.Spread(cmd.Context(), q)
				if err != nil {
					return err
				}
				if !first && !e.ui.JSON {
					e.ui.Printf("\n%s\n", s.Now.UTC().Format("15:04:05 UTC"))
				}
				if err := e.spread(s); err != nil {
					return err
				}
				switch {
				case s.Everywhere():
					return nil
				case every == 0:
					return shown(edit.ErrFindings)
				}
				if err := ops.Pause(cmd.Context(), every); err != nil {
					return err
				}
			}
		}}
	f := cmd.Flags()
	f.StringArrayVar(&q.At, "at", nil, "`RESOLVER` to ask: an address or a host; repeat it for each")
	f.DurationVar(&every, "watch", 0, "ask again after this `TIME`, until all have it")
	f.DurationVar(&q.Timeout, "timeout", 2*time.Second, "`TIME` to wait for one try")
	return cmd
}

var heldStyle = map[ops.HeldState]ui.Style{ops.HasIt: ui.Good, ops.HasOther: ui.Suspect, ops.HasNone: ui.Bad}

func (e *env) spread(s *ops.Spread) error {
	if e.ui.JSON {
		held := []any{}
		for _, h := range s.Cached {
			o := map[string]any{"resolver": h.Name, "address": h.Address, "state": string(h.State)}
			if h.State == ops.HasNone {
				o["problem"] = h.Problem
			} else {
				o["answer"], o["ttl"], o["until"] = h.Says, h.TTL, h.Until.UTC().Format(time.RFC3339)
			}
			held = append(held, o)
		}
		return errors.Join(e.ui.Object(map[string]any{"name": s.Question.Name.String(), "type": s.Question.Type.String(), "at": s.Now.UTC().Format(time.RFC3339),
			"answer": s.Says, "servers_differ": s.Differ, "everywhere": s.Everywhere(), "resolvers": held}))
	}
	e.ui.Printf("%s  the servers say: %s\n", e.ui.Paint(ui.Bold, "%s %s", plain(s.Question.Name), s.Question.Type), strings.Join(s.Says, ", "))
	if s.Differ {
		e.ui.Printf("  %s  not all of them: see fencepost ask %s --at all\n", e.ui.Paint(ui.Bad, "differ"), plain(s.Question.Name))
	}
	var rows [][]ui.Text
	for _, h := range s.Cached {
		text, until := h.Problem, ""
		if h.State != ops.HasNone {
			text, until = strings.Join(h.Says, ", "), "for "+ui.Duration(time.Duration(h.TTL)*time.Second)
		}
		rows = append(rows, ui.Cells(h.Name, e.ui.Paint(heldStyle[h.State], "%s", h.State), until, text))
	}
	e.ui.Table([]string{"resolver", "", "kept", "answer"}, rows)
	switch last := s.Last(); {
	case s.Everywhere():
		e.ui.Printf("\nall have it\n")
	case !last.IsZero():
		e.ui.Printf("\nthe last of the other answers is forgotten by %s\n", ui.When(last, s.Now))
	default:
		e.ui.Printf("\nnot all answer\n")
	}
	return nil
}
