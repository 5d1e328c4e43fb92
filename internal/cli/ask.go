package cli

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/internal/ops"
	"fencepost/internal/ui"
	"fencepost/message"
	"fencepost/rr"
)

func newAsk(e *env) *cobra.Command {
	var q ops.Question
	var r ops.Run
	var hex bool
	var every time.Duration
	cmd := &cobra.Command{Use: "ask [NAME] [TYPE]", GroupID: stageVerify, Short: "send one query to a server, or to a zone file",
		Long: `Sends one query and shows the answer. With --zone the answer is made from a zone file,
without a server, and explained. Without --at and --zone the server of the workspace is
asked. For an address instead of NAME the query is for its PTR record. Several servers are
asked at once and compared; --at all is every address of every server in the delegation.
Remarks point out what is odd: data without the AA flag, spoofed answers that came first,
a TTL longer than the zone's.

--from sends the queries of a file, a name and a type a line, at a given rate, and sums up
response codes, times and failures. --watch repeats the query and shows when the answer
changes.

Exit status: 0 answered (also: no such name or no data), 1 a server answers with an error
(SERVFAIL, REFUSED ...), or several differ, 3 no answer came.`,
		Example: `  fencepost ask www.saltmarsh.example --at 127.0.0.1:5300
  fencepost ask saltmarsh.example MX --at 2001:db8::53
  fencepost ask www.saltmarsh.example --at all
  fencepost ask www.saltmarsh.example --at 192.0.2.100 --recursion --dnssec
  fencepost ask nosuch.saltmarsh.example --zone zones/saltmarsh.example.zone
  fencepost ask 198.51.100.25 --at 127.0.0.1:5300
  fencepost ask saltmarsh.example DNSKEY --dnssec --transport tcp
  fencepost ask www.saltmarsh.example --at all --watch 10s
  fencepost ask www.saltmarsh.example --as-from 192.0.2.7
  fencepost ask www.saltmarsh.example --zone saltmarsh.example --as-from 192.0.2.7
  fencepost ask id.server TXT --class CH --at 192.0.2.1
  fencepost ask --from questions.txt --at 127.0.0.1:5300 --rate 500`,
		Args: func(cmd *cobra.Command, args []string) error {
			if r.File != "" {
				return atMost()(cmd, args)
			}
			return nameAndType("; the server is given with --at HOST")(cmd, args)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if r.File != "" {
				r.Question = q
				return e.askMany(cmd, r)
			}
			q.Name, q.Type = asks(args)
			if len(q.At) > 0 && q.ZoneFile != "" {
				return usageError("--at asks a server and --zone a file: choose one")
			}
			if every != 0 {
				return e.askAgain(cmd, q, every, hex)
			}
			answers, err := e.app.Ask(cmd.Context(), q)
			if err != nil {
				return err
			}
			return errors.Join(e.shownAnswers(answers, hex), shown(ops.AskFindings(answers)))
		}}
	f := cmd.Flags()
	f.StringArrayVar(&q.At, "at", nil, "`SERVER` to ask: HOST or HOST:PORT, a peer of the workspace, or all: every address of the name's zone; repeat it for each")
	f.StringVar(&q.ZoneFile, "zone", "", "answer from this `FILE`, or zone of the workspace")
	f.StringVar(&q.AsFrom, "as-from", "", "as a client at this `ADDRESS` would be answered, with --zone, or by the running server of the workspace")
	f.StringVar(&q.Origin, "origin", "", "`NAME` of the zone, where the file does not say it")
	f.StringVar(&q.Transport, "transport", "", "`WAY` to ask: udp alone, or tcp (default: udp, and tcp if the answer does not fit)")
	f.BoolVar(&q.DNSSEC, "dnssec", false, "with signatures and proofs")
	f.BoolVar(&q.Recurse, "recursion", false, "have a resolver find the answer")
	f.BoolVar(&q.Unchecked, "unchecked", false, "have a resolver return bogus answers too (CD flag)")
	f.BoolVar(&q.NoEDNS, "without-edns", false, "ask without EDNS")
	f.IntVar(&q.Size, "size", 0, "accept `N` octets over UDP (default 1232)")
	f.IntVar(&q.Tries, "attempts", 0, "ask `N` times over UDP before giving up (default 3)")
	f.BoolVar(&q.NSID, "nsid", false, "ask which server it is (RFC 5001)")
	f.BoolVar(&q.Version, "zone-version", false, "ask from which version of which zone the answer is (RFC 9660)")
	f.StringVar(&q.Class, "class", "", "ask in this `CLASS` instead of IN; CH is about the server itself")
	f.BoolVar(&q.Cookie, "cookie", false, "send a cookie (RFC 7873)")
	f.StringVar(&q.Subnet, "client-subnet", "", "ask for the answer for this `NETWORK` (RFC 7871)")
	f.IntVar(&q.Pad, "pad", 0, "fill the query up to a multiple of `N` octets (RFC 7830)")
	f.StringArrayVar(&q.Options, "option", nil, "send the EDNS option `CODE[=HEX]`; repeat it for each")
	f.BoolVar(&hex, "hex", false, "show the octets of the answer")
	f.DurationVar(&q.Timeout, "timeout", 2*time.Second, "`TIME` to wait for one try")
	f.StringVar(&r.File, "from", "", "send the queries of this `FILE`")
	f.IntVar(&r.Rate, "rate", 100, "with --from: `N` queries a second")
	f.IntVar(&r.Count, "count", 0, "with --from: `N` queries in all, from the beginning again after the last (default: each once)")
	f.DurationVar(&every, "watch", 0, "ask again after this `TIME`, until interrupted")
	cmd.MarkFlagsMutuallyExclusive("from", "watch")
	cmd.MarkFlagsMutuallyExclusive("from", "hex")
	return cmd
}

// nameAndType are the arguments NAME [TYPE]; hint says where a third belongs.
func nameAndType(hint string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) > 2 {
			return fmt.Errorf("%q is one argument too many%s", args[2], hint)
		}
		return count(cmd, args, []string{"NAME"}, -1)
	}
}

// asks are these arguments; no type is empty.
func asks(args []string) (name, typ string) {
	if len(args) > 1 {
		typ = args[1]
	}
	return args[0], typ
}

// askedOne shows one answer.
func (e *env) askedOne(r *ops.Asked, hex bool) error {
	if e.ui.JSON {
		return e.ui.Object(ui.MessageJSON(r.Message, r.Raw))
	}
	e.asked(r)
	if hex {
		e.ui.Printf("\n%s\n%s", e.ui.Paint(ui.Bold, "Octets"), ui.Lines(ui.Octets(r.Raw)))
	}
	return nil
}

// kind is the type that is asked for, with the class where it is not IN.
func kind(q message.Question) string {
	if q.Class != rr.ClassIN {
		return q.Type.String() + " in class " + q.Class.String()
	}
	return q.Type.String()
}

// askedMany shows the answers of several servers, those that say the same together.
func (e *env) askedMany(answers []*ops.Asked) error {
	if e.ui.JSON {
		list := []any{}
		for _, r := range answers {
			o := map[string]any{"server": r.Server}
			if r.Host != "" {
				o["name"] = r.Host
			}
			if r.Err != nil {
				o["problem"] = r.Err.Error()
			} else {
				o["message"], o["transport"], o["milliseconds"] = ui.MessageJSON(r.Message, r.Raw), r.Transport, float64(r.Elapsed.Microseconds())/1000
			}
			list = append(list, o)
		}
		return e.ui.Object(map[string]any{"alike": len(ops.Alike(answers)) == 1, "answers": list})
	}
	q := answers[0].Question
	groups := ops.Alike(answers)
	e.ui.Printf("%s  at %s\n", e.ui.Paint(ui.Bold, "%s %s", plain(q.Name), kind(q)), ui.Plural(len(answers), "address"))
	for _, g := range groups {
		e.ui.Printf("\n")
		for _, line := range g.Says {
			style := ui.Style("0")
			if g.Failed {
				style = ui.Bad
			}
			e.ui.Printf("%s\n", e.ui.Paint(style, "%s", line))
		}
		var rows [][]ui.Text
		for _, r := range g.Answers {
			note := ""
			if r.Err != nil {
				note = r.Err.Error()
			} else {
				note = ui.Duration(r.Elapsed) + " over " + strings.ToUpper(r.Transport)
			}
			rows = append(rows, ui.Cells("  "+r.Host, r.Server, note))
		}
		e.ui.Table(nil, rows)
		for _, r := range g.Answers {
			for _, remark := range r.Remarks {
				e.ui.Printf("  %s  %s: %s\n", e.ui.Paint(ui.Suspect, "odd"), r.Server, remark)
			}
		}
	}
	if len(groups) > 1 {
		e.ui.Printf("\n%s\n", e.ui.Paint(ui.Bad, "%d different answers", len(groups)))
	} else {
		e.ui.Printf("\n%s\n", e.ui.Paint(ui.Good, "all say the same"))
	}
	return nil
}

// plain is a name without its final dot; the root keeps it.
func plain(n dnsname.Name) string {
	if n == dnsname.Root {
		return "."
	}
	return strings.TrimSuffix(n.String(), ".")
}

func (e *env) asked(r *ops.Asked) {
	e.ui.Printf("%s %s  ", e.ui.Paint(ui.Bold, "%s", plain(r.Question.Name)), kind(r.Question))
	if r.Transport == "file" {
		e.ui.Printf("from %s, serial %d\n", r.Server, r.Serial)
	} else if r.Transport == "control" {
		e.ui.Printf("at %s\n", r.Server)
	} else {
		how := "over " + strings.ToUpper(r.Transport)
		if r.Cut {
			how += " (too large for UDP)"
		}
		e.ui.Printf("at %s %s in %s\n", r.Server, how, ui.Duration(r.Elapsed))
	}
	e.ui.Printf("  %s, %s\n", strings.Join(ui.Flags(r.Message), ", "), ui.Plural(r.Message.Len, "octet"))
	if r.AskedFrom.IsValid() {
		who := "everyone"
		if r.Audience != "" {
			who = "the audience " + r.Audience
		}
		e.ui.Printf("  as asked from %s: what %s sees\n", r.AskedFrom, who)
	}
	if what := r.Outcome(); what != "" {
		e.ui.Printf("  %s\n", e.ui.Paint(ui.Suspect, "%s", what))
	}
	for _, remark := range r.Remarks {
		e.ui.Printf("  %s  %s\n", e.ui.Paint(ui.Suspect, "odd"), e.ui.Fit(remark, 7))
	}
	if r.Message.EDNS != nil {
		for _, o := range r.Message.EDNS.Options {
			if name, text := o.Words(); o.Code != message.OptionEDE { // which is told with the code
				e.ui.Printf("  %s: %s\n", name, text)
			}
		}
	}
	e.ui.Sections(r.Message)
	if len(r.Reasons) > 0 {
		e.ui.Printf("\n%s\n", e.ui.Paint(ui.Bold, "Why"))
		for _, why := range r.Reasons {
			e.ui.Printf("  %s\n", why)
		}
	}
	if r.Diags != nil && r.Diags.Count(diag.Error) > 0 {
		e.ui.Sayf("\nThe zone has %s and would not be served; see: fencepost check %s\n", ui.Tally(r.Diags), r.Server)
	}
}
