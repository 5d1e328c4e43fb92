package cli

import (
	"runtime/debug"
	"strings"

	"github.com/spf13/cobra"

	"fencepost/internal/ops"
	"fencepost/internal/ui"
	"fencepost/workspace"
)

func newVerify(e *env) *cobra.Command {
	var o ops.VerifyOptions
	var within string
	cmd := &cobra.Command{Use: "verify FILE|ZONE", GroupID: stageSign, Short: "verify the signatures of a zone file",
		Long: `Verifies every signature of a signed zone, the chain of NSEC or NSEC3 records and
their type lists, CDS and CDNSKEY, the digest of the zone (ZONEMD), and that nothing is
signed that must not be. With --anchor or --ds, also that the keys match the given DS or
DNSKEY records.`,
		Example: `  fencepost verify signed.zone
  fencepost verify signed.zone --anchor ds-at-the-parent.txt
  fencepost verify signed.zone --expires-within 5d
  fencepost verify signed.zone --ds "12345 13 2 9F0A..."`,
		Args: exactly("FILE or ZONE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			debug.SetGCPercent(steadyGC)
			if within != "" {
				var err error
				if o.Within, err = workspace.ParseSpan(within); err != nil {
					return usageError("--expires-within: %v; write a time such as 5d or 36h", err)
				}
			}
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
	cmd.Flags().StringVar(&o.Anchor, "anchor", "", "`FILE` with DS or DNSKEY records that the keys must match")
	cmd.Flags().StringArrayVar(&o.DS, "ds", nil, "`DATA` of a DS record that the keys must match; repeat it for each")
	cmd.Flags().StringVar(&within, "expires-within", "", "report signatures that expire within this `TIME`, such as 5d")
	cmd.Flags().StringVar(&o.Origin, "origin", "", "`NAME` of the zone, where the file does not say it")
	return cmd
}

// numbers are octets as a program expects them: JSON would have them as base64.
func numbers(octets []uint8) []int {
	out := []int{}
	for _, o := range octets {
		out = append(out, int(o))
	}
	return out
}

func (e *env) verified(r *ops.Verified, err error) error {
	if ferr := e.ui.Findings(r.Source, r.Diags); ferr != nil {
		return ferr
	}
	if e.ui.JSON {
		if oerr := e.ui.Object(map[string]any{"zone": r.Zone.String(), "serial": r.Serial, "valid": err == nil, "findings": r.Total,
			"signatures": r.Signatures, "names": r.Names, "first_expiry": r.Expires, "anchored": r.Trusted, "denial": r.Denial(), "zonemd": numbers(r.Digests)}); oerr != nil {
			return oerr
		}
		return shown(err)
	}
	zone := strings.TrimSuffix(r.Zone.String(), ".")
	if err != nil {
		e.ui.Printf("%s, serial %d: %s\n", zone, r.Serial, e.ui.Paint(ui.Bad, "%s", ui.Plural(r.Total, "error")))
		return shown(err)
	}
	e.ui.Printf("%s, serial %d: %s\n", zone, r.Serial, e.ui.Paint(ui.Good, "proved"))
	e.ui.Printf("  %s valid, the chain of %s complete with %s (%s)\n", ui.Plural(r.Signatures, "signature"), ui.Plural(r.Names, "name"), r.Denial(), ui.Duration(r.Elapsed))
	for _, k := range r.Keys {
		e.ui.Printf("  key %d, %s, %d bits\n", k.Tag, k.Algorithm, k.Bits())
	}
	for _, d := range r.Digests {
		e.ui.Printf("  the digest of the whole zone is right (ZONEMD, %s)\n", map[uint8]string{1: "SHA-384", 2: "SHA-512"}[d])
	}
	if r.Anchors > 0 {
		e.ui.Printf("  the keys follow from the %s given\n", ui.Plural(r.Anchors, "anchor"))
	} else {
		e.ui.Printf("  no anchor given: the keys themselves were not validated\n")
	}
	if r.Unchecked > 0 {
		e.ui.Printf("  %s could not be checked: their algorithm is not supported here\n", ui.Plural(r.Unchecked, "signature"))
	}
	e.ui.Printf("  the first signature expires %s\n", ui.When(r.Expires, e.app.Now()))
	return nil
}
