package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fencepost/internal/ops"
	"fencepost/internal/ui"
	"fencepost/message"
)

// askMany puts the questions of a file, and sums up.
func (e *env) askMany(cmd *cobra.Command, r ops.Run) error {
	update, end := e.ui.Progress("asking")
	r.Progress = update
	res, err := e.app.AskMany(cmd.Context(), r)
	if err == nil && update != nil {
		update(1, 1)
	}
	if end(); err != nil {
		return err
	}
	if e.ui.JSON {
		err = e.ui.Object(runJSON(res))
	} else {
		e.ran(res)
	}
	return errors.Join(err, shown(res.ErrFailed()))
}

// runTimes are the parts of the answers whose times are told.
var runTimes = []struct {
	name, json string
	part       float64
}{{"quickest", "least", 0}, {"half within", "median", 0.5}, {"90 % within", "p90", 0.9}, {"99 % within", "p99", 0.99}, {"slowest", "most", 1}}

func (e *env) ran(r *ops.RunResult) {
	e.ui.Printf("%s  at %s in %s, %.0f a second\n\n", e.ui.Paint(ui.Bold, "%s", ui.Plural(r.Put, "question")), r.Server, ui.Duration(r.Took), r.Rate())
	var rows [][]ui.Text
	for _, code := range codesOf(r) {
		style := ui.Good
		if code != message.NoError && code != message.NXDomain {
			style = ui.Bad
		}
		rows = append(rows, ui.Cells("  "+e.ui.Paint(style, "%s", code), ui.Count(r.Codes[code]), share(r.Codes[code], r.Put)))
	}
	if r.Silent > 0 {
		rows = append(rows, ui.Cells("  "+e.ui.Paint(ui.Bad, "no answer"), ui.Count(r.Silent), share(r.Silent, r.Put)))
	}
	if r.TCP > 0 {
		rows = append(rows, ui.Cells("  over TCP", ui.Count(r.TCP), share(r.TCP, r.Put)))
	}
	e.ui.Table(nil, rows)
	if len(r.Times) > 0 {
		e.ui.Printf("\n")
		rows = nil
		for _, t := range runTimes {
			rows = append(rows, ui.Cells("  "+t.name, ui.Duration(r.At(t.part))))
		}
		e.ui.Table(nil, rows)
	}
	if r.TooSlow() {
		e.ui.Sayf("\n%s a second were asked for: this machine or the server is too slow for that, and the times are longer than they would be\n", ui.Count(r.Wanted))
	}
	if len(r.Trouble) > 0 {
		e.ui.Printf("\n%s\n", e.ui.Paint(ui.Bold, "what failed"))
		for _, t := range r.Trouble {
			e.ui.Printf("  %s: %s\n", t.Question, e.ui.Fit(t.What, 4))
		}
	}
}

func share(n, of int) string { return fmt.Sprintf("%.1f %%", 100*float64(n)/float64(max(of, 1))) }

// codesOf are the codes that came, the most frequent first.
func codesOf(r *ops.RunResult) (out []message.Rcode) {
	for code := range r.Codes {
		out = append(out, code)
	}
	slices.SortFunc(out, func(a, b message.Rcode) int {
		if r.Codes[a] != r.Codes[b] {
			return r.Codes[b] - r.Codes[a]
		}
		return int(a) - int(b)
	})
	return out
}

func runJSON(r *ops.RunResult) map[string]any {
	codes, times, trouble := map[string]int{}, map[string]float64{}, []any{}
	for code, n := range r.Codes {
		codes[code.String()] = n
	}
	for _, t := range runTimes {
		times[t.json] = float64(r.At(t.part).Microseconds()) / 1000
	}
	for _, t := range r.Trouble {
		trouble = append(trouble, map[string]any{"question": t.Question, "problem": t.What})
	}
	return map[string]any{"server": r.Server, "questions": r.Put, "seconds": r.Took.Seconds(), "rate": r.Rate(), "codes": codes, "no_answer": r.Silent,
		"over_tcp": r.TCP, "milliseconds": times, "trouble": trouble}
}

// askAgain asks again and again: the first answer as ever, then a line for each time, and all of
// it where the answer is another.
func (e *env) askAgain(cmd *cobra.Command, q ops.Question, every time.Duration, hex bool) error {
	if every < 100*time.Millisecond {
		return usageError("--watch %s: wait at least 100ms", every)
	}
	before := ""
	for first := true; ; first = false {
		answers, err := e.app.Ask(cmd.Context(), q)
		switch {
		case cmd.Context().Err() != nil && !first:
			return nil
		case err != nil && first:
			return err
		}
		text, took := "", ""
		if err == nil {
			text, took = saidAll(answers), tookAll(answers)
		} else {
			text = err.Error()
		}
		now := e.app.Now().UTC().Format("15:04:05")
		switch changed := text != before; {
		case e.ui.JSON && err == nil:
			err = e.shownAnswers(answers, hex)
		case e.ui.JSON:
			err = e.ui.Object(map[string]any{"problem": text})
		case changed && err == nil:
			if !first {
				e.ui.Printf("\n%s  %s\n", now, e.ui.Paint(ui.Suspect, "another answer"))
			}
			err = e.shownAnswers(answers, hex)
			e.ui.Printf("\n")
		case changed:
			e.ui.Printf("%s  %s\n", now, e.ui.Paint(ui.Bad, "%s", text))
			err = nil
		default:
			e.ui.Printf("%s  the same%s\n", now, took)
			err = nil
		}
		if before = text; err != nil {
			return err
		}
		if err := ops.Pause(cmd.Context(), every); err != nil {
			return nil // somebody has seen enough
		}
	}
}

// shownAnswers shows one answer, or several side by side.
func (e *env) shownAnswers(answers []*ops.Asked, hex bool) error {
	if len(answers) > 1 {
		return e.askedMany(answers)
	}
	return e.askedOne(answers[0], hex)
}

// saidAll is what servers say, to be compared.
func saidAll(answers []*ops.Asked) string {
	var parts []string
	for _, g := range ops.Alike(answers) {
		var who []string
		for _, a := range g.Answers {
			who = append(who, a.Server)
		}
		slices.Sort(who)
		parts = append(parts, strings.Join(who, " ")+" "+strings.Join(g.Says, "\n"))
	}
	slices.Sort(parts)
	return strings.Join(parts, "\n")
}

// tookAll is how long one server took.
func tookAll(answers []*ops.Asked) string {
	if len(answers) != 1 || (answers[0].Transport == "file" || answers[0].Transport == "control") {
		return ""
	}
	return ", in " + ui.Duration(answers[0].Elapsed)
}
