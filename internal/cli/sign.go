package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"fencepost/internal/app"
	"fencepost/internal/ui"
)

func newKey(e *env) *cobra.Command {
	cmd := &cobra.Command{Use: "key", GroupID: stageSign, Short: "make and list keys",
		Long: "Keys are PKCS#8 PEM files that only their owner can read, in the workspace under\nkeys/ZONE/ or in the folder that --keys names.",
		Example: `  fencepost key new saltmarsh.example
  fencepost key list saltmarsh.example`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	cmd.AddCommand(newKeyNew(e), newKeyList(e))
	return cmd
}

func newKeyNew(e *env) *cobra.Command {
	var o app.KeyOptions
	cmd := &cobra.Command{Use: "new ZONE", Short: "make a key",
		Long: "Makes a key for a zone. One key that signs everything (single) suits most; ksk and\nzsk part the work.",
		Example: `  fencepost key new saltmarsh.example
  fencepost key new saltmarsh.example --role ksk --keys ./mykeys`,
		Args: exactly("ZONE"),
		RunE: func(_ *cobra.Command, args []string) error {
			o.Zone = args[0]
			k, dir, err := e.app.NewKey(o)
			if err != nil {
				return err
			}
			if e.ui.JSON {
				return e.ui.Object(map[string]any{"zone": o.Zone, "key_tag": k.Tag, "algorithm": k.Algorithm, "role": k.Role, "file": app.Shown(dir) + "/" + k.File})
			}
			e.ui.Printf("made key %d (%s, %s) in %s/%s\n", k.Tag, k.Algorithm, k.Role, app.Shown(dir), k.File)
			return nil
		}}
	cmd.Flags().StringVar(&o.Dir, "keys", "", "`DIR` of the keys (default: keys/ZONE in the workspace)")
	cmd.Flags().StringVar(&o.Algorithm, "algorithm", "ECDSAP256SHA256", "`MNEMONIC` of the DNSSEC algorithm")
	cmd.Flags().StringVar(&o.Role, "role", "single", "`ROLE` of the key: single, ksk or zsk")
	return cmd
}

func newKeyList(e *env) *cobra.Command {
	var o app.KeyOptions
	cmd := &cobra.Command{Use: "list ZONE", Short: "list the keys of a zone",
		Example: `  fencepost key list saltmarsh.example`,
		Args:    exactly("ZONE"),
		RunE: func(_ *cobra.Command, args []string) error {
			o.Zone = args[0]
			ring, err := e.app.Keys(o)
			if err != nil {
				return err
			}
			if e.ui.JSON {
				keys := []map[string]any{}
				for _, k := range ring.Keys {
					keys = append(keys, map[string]any{"key_tag": k.Tag, "algorithm": k.Algorithm, "role": k.Role, "state": k.State, "created": k.Created, "file": k.File})
				}
				return e.ui.Object(map[string]any{"zone": ring.Zone.String(), "folder": ring.Dir, "keys": keys})
			}
			if len(ring.Keys) == 0 {
				e.ui.Sayf("%s has no keys in %s; make one with: fencepost key new %s\n", o.Zone, app.Shown(ring.Dir), o.Zone)
				return nil
			}
			var rows [][]string
			for _, k := range ring.Keys {
				rows = append(rows, []string{fmt.Sprint(k.Tag), k.Algorithm, k.Role, string(k.State), k.Created.Format("2006-01-02 15:04 UTC"), app.Shown(ring.Dir) + "/" + k.File})
			}
			e.ui.Table([]string{">key tag", "algorithm", "role", "state", "made", "file"}, rows)
			return nil
		}}
	cmd.Flags().StringVar(&o.Dir, "keys", "", "`DIR` of the keys (default: keys/ZONE in the workspace)")
	return cmd
}

func newSign(e *env) *cobra.Command {
	var o app.SignOptions
	cmd := &cobra.Command{Use: "sign FILE|ZONE", GroupID: stageSign, Short: "sign a zone file",
		Long: `Signs a zone: DNSKEY, an NSEC chain, and a signature over every set of records.
The same zone, keys and time (--now) give the same file. A zone with errors is
not signed.`,
		Example: `  fencepost sign saltmarsh.example -o signed.zone
  fencepost sign plain.zone --keys ./mykeys -o - --now 2026-11-23T12:00:00Z`,
		Args: exactly("FILE or ZONE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			o.Operand, o.Stdout = args[0], e.out
			update, end := e.ui.Progress("signing")
			o.Progress = update
			r, err := e.app.Sign(cmd.Context(), o)
			end()
			if r != nil && r.Input != nil {
				_ = e.onErr().Findings(r.Input.Source, r.Input.Diags)
			}
			if err != nil {
				return err
			}
			if e.ui.JSON && o.Out != "-" {
				return e.ui.Object(map[string]any{"zone": r.Zone.String(), "serial": r.Serial, "file": r.Out, "keys": r.Keys, "signatures": r.Signatures, "expires": r.Expires.UTC()})
			}
			e.ui.Sayf("signed %s, serial %d: %s with %s in %s\n", strings.TrimSuffix(r.Zone.String(), "."), r.Serial,
				ui.Plural(r.Signatures, "signature"), ui.Plural(r.Keys, "key"), ui.Duration(r.Elapsed))
			if r.Replaced > 0 {
				e.ui.Sayf("%s of the input were replaced\n", ui.Plural(r.Replaced, "old signature, NSEC or DNSKEY record"))
			}
			e.ui.Sayf("valid until %s\n", ui.When(r.Expires, e.app.Now()))
			if o.Out != "-" {
				e.ui.Sayf("wrote %s\n", app.Shown(r.Out))
			}
			return nil
		}}
	cmd.Flags().StringVar(&o.Keys, "keys", "", "`DIR` of the keys (default: keys/ZONE in the workspace)")
	cmd.Flags().StringVarP(&o.Out, "output", "o", "", "`FILE` to write, - for standard output (default: ZONE.signed in this folder)")
	cmd.Flags().StringVar(&o.Origin, "origin", "", "`NAME` of the zone, where the file does not say it")
	return cmd
}

func newVerify(e *env) *cobra.Command {
	var o app.VerifyOptions
	cmd := &cobra.Command{Use: "verify FILE|ZONE", GroupID: stageSign, Short: "prove a signed zone file right",
		Long: `Checks every signature of a signed zone, the chain of NSEC records and what they
list, and that nothing is signed that must not be. With --anchor, also that the
keys follow from the DS or DNSKEY records in a file.`,
		Example: `  fencepost verify signed.zone
  fencepost verify signed.zone --anchor ds-at-the-parent.txt`,
		Args: exactly("FILE or ZONE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			o.Operand = args[0]
			update, end := e.ui.Progress("verifying")
			o.Progress = update
			r, err := e.app.Verify(cmd.Context(), o)
			end()
			if r == nil {
				return err
			}
			if r.Proof == nil {
				_ = e.ui.Findings(r.Source, r.Diags)
				return err
			}
			return e.verified(r, err)
		}}
	cmd.Flags().StringVar(&o.Anchor, "anchor", "", "`FILE` with DS or DNSKEY records that the keys must follow from")
	cmd.Flags().StringVar(&o.Origin, "origin", "", "`NAME` of the zone, where the file does not say it")
	return cmd
}

func (e *env) verified(r *app.Verified, err error) error {
	if ferr := e.ui.Findings(r.Source, r.Diags); ferr != nil {
		return ferr
	}
	if e.ui.JSON {
		if oerr := e.ui.Object(map[string]any{"zone": r.Zone.String(), "serial": r.Serial, "valid": err == nil, "findings": r.Total,
			"signatures": r.Signatures, "names": r.Names, "first_expiry": r.Expires, "anchored": r.Trusted}); oerr != nil {
			return oerr
		}
		return shown(err)
	}
	zone := strings.TrimSuffix(r.Zone.String(), ".")
	if err != nil {
		e.ui.Printf("%s, serial %d: %s\n", zone, r.Serial, e.ui.Paint(ui.Bad, "%s", ui.Plural(r.Total, "fault")))
		return shown(err)
	}
	e.ui.Printf("%s, serial %d: %s\n", zone, r.Serial, e.ui.Paint(ui.Good, "proved"))
	e.ui.Printf("  %s right, the chain of %s complete (%s)\n", ui.Plural(r.Signatures, "signature"), ui.Plural(r.Names, "name"), ui.Duration(r.Elapsed))
	for _, k := range r.Keys {
		e.ui.Printf("  key %d, %s\n", k.Tag, k.Algorithm)
	}
	if r.Anchors > 0 {
		e.ui.Printf("  the keys follow from the %s given\n", ui.Plural(r.Anchors, "anchor"))
	} else {
		e.ui.Printf("  no anchor was given: the keys were taken as they are in the zone\n")
	}
	if r.Unchecked > 0 {
		e.ui.Printf("  %s could not be checked: their algorithm is not supported here\n", ui.Plural(r.Unchecked, "signature"))
	}
	e.ui.Printf("  the first signature expires %s\n", ui.When(r.Expires, e.app.Now()))
	return nil
}

func newHandover(e *env) *cobra.Command {
	var origin, keys string
	cmd := &cobra.Command{Use: "handover ZONE|FILE", GroupID: stageSign, Short: "what the parent zone's operator must be told",
		Long: `Shows what has to be entered at the registrar or in the parent zone: the name
servers, their addresses where these are needed (glue), and the DS of the key, as
fields to copy into a form and as records.`,
		Example: `  fencepost handover saltmarsh.example
  fencepost handover saltmarsh.example --format json`,
		Args: exactly("ZONE or FILE"),
		RunE: func(_ *cobra.Command, args []string) error {
			d, err := e.app.Handover(args[0], origin, keys)
			if err != nil {
				return err
			}
			if e.ui.JSON {
				var records []string
				for _, r := range d.Records() {
					records = append(records, strings.ReplaceAll(r.String(), "\t", " "))
				}
				return e.ui.Object(map[string]any{"zone": d.Zone.String(), "name_servers": d.Servers, "keys": d.Keys, "records": records})
			}
			e.handover(d)
			return nil
		}}
	cmd.Flags().StringVar(&origin, "origin", "", "`NAME` of the zone, where the file does not say it")
	cmd.Flags().StringVar(&keys, "keys", "", "`DIR` of the keys (default: keys/ZONE in the workspace)")
	return cmd
}

func (e *env) handover(d *app.DelegationData) {
	head := func(s string) { e.ui.Printf("\n%s\n", e.ui.Paint(ui.Bold, "%s", s)) }
	e.ui.Printf("For the operator of the zone above %s\n", e.ui.Paint(ui.Bold, "%s", strings.TrimSuffix(d.Zone.String(), ".")))
	head("Name servers")
	for i, s := range d.Servers {
		e.ui.Printf("  server %d          %s\n", i+1, strings.TrimSuffix(s.Name, "."))
		for _, a := range s.Addresses {
			e.ui.Printf("    address         %s\n", a)
		}
	}
	for i, k := range d.Keys {
		head(fmt.Sprintf("Delegation signer (DS) %d", i+1))
		for _, f := range [][2]string{{"key tag", fmt.Sprint(k.KeyTag)}, {"algorithm", fmt.Sprintf("%d (%s)", k.Algorithm, k.AlgorithmName)},
			{"digest type", fmt.Sprintf("%d (%s)", k.DigestType, k.DigestName)}, {"digest", k.Digest}, {"flags", fmt.Sprint(k.Flags)}, {"DNSKEY", k.PublicKey}} {
			e.ui.Printf("  %-16s  %s\n", f[0], f[1])
		}
	}
	if len(d.Keys) == 0 {
		head("Delegation signer (DS)")
		e.ui.Printf("  none: the zone has no key, so it is not signed\n")
	}
	head("As records of the parent zone")
	for _, r := range d.Records() {
		e.ui.Printf("  %s\n", strings.ReplaceAll(r.String(), "\t", "  "))
	}
}
