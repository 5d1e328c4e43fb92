package cli

import (
	"errors"
	"time"

	"github.com/spf13/cobra"

	"fencepost/audit"
	"fencepost/diag"
	"fencepost/internal/ops"
	"fencepost/internal/ui"
	"fencepost/rr"
)

func newAudit(e *env) *cobra.Command {
	var o ops.AuditOptions
	var failOn string
	var all bool
	cmd := &cobra.Command{Use: "audit ZONE", GroupID: stageVerify, Short: "is the delegation healthy, seen from outside?",
		Long: `Tests a zone from outside, with more than a hundred tests: the delegation at the parent,
every address of every server over UDP and TCP, serials, networks, unusual queries that
servers have to answer (RFC 8906), the values of the SOA, mail and policy records, PTR
records, DNSSEC. fencepost explain CODE says why each matters.

With --as-if the zone is tested as if it were delegated to these servers. A table of
networks (a line: a prefix, the number of an autonomous system, a name) shows whether all
servers are with one operator.

--format html writes a page in one file.

Exit status: 0 no finding as severe as --fail-on, 1 there is one.`,
		Example: `  fencepost audit saltmarsh.example
  fencepost audit saltmarsh.example --format html > audit.html
  fencepost audit saltmarsh.example --fail-on warning
  fencepost audit heron.example --as-if ns1.heron.example=198.51.100.53 --as-if ns.harbour.example`,
		Annotations: map[string]string{moreFormats: "html"},
		Args:        exactly("ZONE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			o.Zone = args[0]
			if err := ops.AuditFindings(nil, failOn); err != nil {
				return err
			}
			update, end := e.ui.Progress("auditing " + o.Zone)
			done := 0
			o.Step = func(string) {
				if done++; update != nil {
					update(done-1, auditSteps)
				}
			}
			r, err := e.app.Audit(cmd.Context(), o)
			if update != nil && err == nil {
				update(auditSteps, auditSteps)
			}
			if end(); err != nil {
				return err
			}
			switch {
			case e.format == "html":
				err = ui.AuditHTML(e.out, r.Report, chainOf(r))
			case e.ui.JSON:
				err = e.ui.Object(ui.AuditJSON(r.Report))
			default:
				e.audited(r.Report, all)
			}
			return errors.Join(err, shown(ops.AuditFindings(r.Report, failOn)))
		}}
	f := cmd.Flags()
	f.StringArrayVar(&o.AsIf, "as-if", nil, "a `SERVER` that the zone will be delegated to: NAME or NAME=ADDRESS[,ADDRESS]; repeat it for each")
	f.StringVar(&o.Networks, "networks", "", "`FILE` with prefixes and their autonomous systems")
	f.StringVar(&failOn, "fail-on", "error", "`SEVERITY` from which on the exit status is 1: error, warning or note")
	f.BoolVar(&all, "all", false, "show the tests that found nothing too")
	f.DurationVar(&o.Timeout, "timeout", 2*time.Second, "`TIME` to wait for one try")
	return cmd
}

// auditSteps is how many steps an audit tells of.
const auditSteps = 5

// chainOf is the chain of trust of a report, to be drawn; nil: there is none.
func chainOf(r *ops.Audited) *ui.Trust {
	f := r.Facts
	if f.Chain == nil || len(f.Chain.Links) == 0 {
		return nil
	}
	return &ui.Trust{Chain: f.Chain, Name: f.Zone, Type: rr.TypeSOA, Now: f.Now, Anchors: r.Anchors}
}

var severityStyle = map[diag.Severity]ui.Style{diag.Error: ui.Bad, diag.Warning: ui.Suspect, diag.Note: ui.Aside}

// audited shows a report: the servers, then area by area what was found.
func (e *env) audited(r *audit.Report, all bool) {
	style := severityStyle[r.Worst()]
	if style == "" || r.Worst() == diag.Note {
		style = ui.Good
	}
	e.ui.Printf("%s  %s\n\n", e.ui.Paint(ui.Bold, "%s", ui.ZoneName(r.Facts.Zone)), e.ui.Paint(style, "%s", ui.AuditVerdict(r)))
	var rows [][]ui.Text
	for _, s := range ui.AuditServers(r) {
		rows = append(rows, ui.SafeAll(s))
	}
	if len(rows) > 0 {
		e.ui.Table([]string{"server", "address", "", "serial", "time"}, rows)
		e.ui.Printf("\n")
	}
	for _, a := range ui.AuditAreas(r) {
		e.area(r, a, all)
	}
	e.ui.Sayf("%s\n", ui.Plural(r.Facts.Asked, "query"))
}

func (e *env) area(r *audit.Report, a ui.AuditArea, all bool) {
	state := e.ui.Paint(ui.Good, "%d passed", len(a.Passed))
	if len(a.Passed) == 0 && len(a.Found) == 0 {
		state = e.ui.Paint(ui.Dim, "not applicable")
	}
	if len(a.Found) > 0 {
		state += ui.Textf(", %d with findings", len(a.Found))
	}
	e.ui.Printf("%s  %s\n", e.ui.Paint(ui.Bold, "%-10s", a.Area), state)
	for _, t := range a.Found {
		e.ui.Printf("  %s\n", e.ui.Fit(ui.Textf("%s  %s  %s", e.ui.Paint(severityStyle[t.Severity], "%s", t.Severity), e.ui.Paint(ui.Dim, "%s", t.Code), t.Title), 4))
		advice := ui.AuditAdvices(r, &t)
		for i, f := range t.Findings {
			e.ui.Printf("    %s\n", e.ui.Fit(f.Message, 4))
			if advice[i] != "" {
				e.ui.Printf("    → %s\n", e.ui.Fit(advice[i], 6))
			}
		}
	}
	if !all {
		return
	}
	for _, t := range a.Passed {
		e.ui.Printf("  %s  %s\n", e.ui.Paint(ui.Good, "passed"), e.ui.Paint(ui.Dim, "%s", t.Code))
	}
	for _, t := range a.Skipped {
		e.ui.Printf("  %s  %s\n", e.ui.Paint(ui.Dim, "%s", t.Code), e.ui.Fit("not looked at: "+t.Skipped, 4))
	}
}
