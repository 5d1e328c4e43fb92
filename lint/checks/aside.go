package checks

import (
	"time"

	"fencepost/diag"
	"fencepost/lint"
)

// longAside is how long records may be set aside before somebody is reminded of them.
const longAside = 60 * 24 * time.Hour

var asideLong = &lint.Check{Rule: diag.Rule{
	Code: "set-aside-long", Severity: diag.Note, Title: "records have been set aside for more than two months", Ref: "RFC 1035 §5.1",
	Doc: "`fencepost set-aside` leaves records in the file as comments, to be put back later. After two months they are mostly forgotten: " +
		"put them back with `fencepost put-back`, or take the lines out of the file.",
	Bad:  "; set aside 2026-01-05 by ines, because the lens is broken\n;~ cam-north A 192.0.2.31\n",
	Good: "; set aside 2026-11-20 by ines, because the lens is broken\n;~ cam-north A 192.0.2.31\n"},
	Zone: func(p *lint.Pass) {
		if p.Now.IsZero() {
			return
		}
		for _, a := range p.Zone.Asides {
			if age := p.Now.Sub(a.Day); age > longAside {
				p.Add(p.Report(a.Span, "set aside %s ago by %s, because %s", days(age), a.Who, a.Why).
					Suggest("put it back with fencepost put-back, or take the lines out"))
			}
		}
	},
}

func days(d time.Duration) string { return number(uint32(d/(24*time.Hour))) + " days" }
