package cli

import (
	"errors"
	"time"

	"github.com/spf13/cobra"

	"fencepost/dnsname"
	"fencepost/internal/ops"
	"fencepost/internal/ui"
	"fencepost/validate"
)

func newChain(e *env) *cobra.Command {
	var q ops.ChainQuestion
	cmd := &cobra.Command{Use: "chain NAME [TYPE]", GroupID: stageVerify, Short: "check the chain of trust from an anchor to an answer, and draw it",
		Long: `Follows the chain of trust from an anchor to an answer and checks every link: that a DS matches a
key, that the key signs the zone's keys, that these sign the next DS or the data, and when
each signature ends. What does not exist is checked by its proof. The verdict is one of
RFC 4035: secure, insecure (proved to be unsigned), bogus (it should be provable and is
not: then the first broken link, why, and what to do), or indeterminate.

The anchor is that of the workspace ([trust]), a file of DS or DNSKEY records or of trust
anchors in XML (RFC 7958), or the world's root, built in.

Exit status: 0 secure or insecure, 1 bogus or indeterminate.`,
		Example: `  fencepost chain www.saltmarsh.example
  fencepost chain saltmarsh.example MX --format svg > chain.svg
  fencepost chain saltmarsh.example --anchor root-anchors.xml
  fencepost chain www.saltmarsh.example --now 2027-01-01T00:00:00Z`,
		Annotations: map[string]string{moreFormats: "svg html"},
		Args:        nameAndType(""),
		RunE: func(cmd *cobra.Command, args []string) error {
			q.Name, q.Type = asks(args)
			c, err := e.app.Chain(cmd.Context(), q)
			if err != nil {
				return err
			}
			t := &ui.Trust{Chain: c.Chain, Name: c.Name, Type: c.Type, Now: c.Now, Anchors: c.Anchors, States: c.States, Advice: c.Advice()}
			switch {
			case e.format == "svg":
				err = ui.ChainSVG(e.out, t)
			case e.format == "html":
				err = ui.ChainHTML(e.out, t)
			case e.ui.JSON:
				err = e.ui.Object(ui.ChainJSON(t))
			default:
				e.chain(t)
				if c.Unreached != nil && c.Status != validate.Indeterminate { // else it is the verdict
					e.ui.Sayf("not all could be asked: %v\n", c.Unreached)
				}
			}
			return errors.Join(err, shown(c.ErrBroken()))
		}}
	f := cmd.Flags()
	f.StringVar(&q.AnchorFile, "anchor", "", "`FILE` of DS or DNSKEY records, or trust anchors in XML, to trust")
	f.StringArrayVar(&q.Negative, "negative-anchor", nil, "`NAME` below which answers are not validated (RFC 7646); repeat it for each")
	f.DurationVar(&q.Timeout, "timeout", 2*time.Second, "`TIME` to wait for one try")
	return cmd
}

var statusStyle = map[validate.Status]ui.Style{validate.Secure: ui.Good, validate.Insecure: ui.Suspect, validate.Bogus: ui.Bad, validate.Indeterminate: ui.Suspect}

// chain shows a chain: the verdict, then zones from the anchor down with what they prove.
func (e *env) chain(t *ui.Trust) {
	e.ui.Printf("%s  %s\n", e.ui.Paint(ui.Bold, "%s %s", t.Name.Plain(), t.Type), e.ui.Paint(statusStyle[t.Status], "%s", t.Status))
	e.ui.Printf("  %s\n", e.ui.Fit(t.Sentence(), 2))
	if t.Advice != "" {
		e.ui.Printf("  → %s\n", e.ui.Fit(t.Advice, 4))
	}
	var in dnsname.Name
	for _, l := range t.Links {
		if l.Kind != validate.ZoneKeys && !l.Zone.IsZero() && !l.Zone.Equal(in) {
			again := ", as above"
			if l.Kind == validate.Nowhere {
				again = ""
			}
			e.ui.Printf("\n%s%s\n", e.ui.Paint(ui.Bold, "%s", ui.ZoneName(l.Zone)), again)
		}
		if in = l.Zone; l.Kind == validate.ZoneKeys {
			in = l.Name
		}
		e.link(t, l)
	}
}

func (e *env) link(t *ui.Trust, l *validate.Link) {
	broken := l.Status == validate.Bogus
	signed := func() {
		for _, s := range l.Sigs {
			style := ui.Dim
			if s.Err != nil && broken {
				style = ui.Bad
			}
			e.ui.Printf("      %s\n", e.ui.Paint(style, "%s", ui.SigText(s, t.Now)))
		}
	}
	switch l.Kind {
	case validate.ZoneKeys:
		e.ui.Printf("\n%s", e.ui.Paint(ui.Bold, "%s", ui.ZoneName(l.Name)))
		if l.Anchor {
			e.ui.Printf("  trusted: %s", t.Anchors)
		}
		e.ui.Printf("\n")
		for _, k := range l.Keys {
			e.ui.Printf("    %s\n", ui.KeyText(k))
		}
		for _, a := range t.States {
			if text := ui.AnchorText(a); text != "" && l.Anchor {
				e.ui.Printf("    %s\n", e.ui.Paint(ui.Suspect, "%s", e.ui.Fit(text, 6)))
			}
		}
		signed()
	case validate.Delegation:
		for _, d := range l.DS {
			style := ui.Style("0")
			if !d.Leads && !d.NoKeys || !d.Usable {
				style = ui.Suspect
			}
			e.ui.Printf("    %s\n", e.ui.Paint(style, "%s", ui.DSText(d)+"  of "+ui.ZoneName(l.Name)))
		}
		signed()
	default:
		e.ui.Printf("    %s\n", e.ui.Fit(ui.LinkText(l), 6))
		if len(l.Proof) > 0 {
			e.ui.Printf("      %s\n", e.ui.Paint(ui.Dim, "proved by %s", ui.Plural(len(l.Proof), l.Proof[0].Type.String()+" record")))
		} else {
			signed()
		}
	}
	if broken {
		e.ui.Printf("    %s\n", e.ui.Paint(ui.Bad, "broken: %s", l.Reason))
	}
}
