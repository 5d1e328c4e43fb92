package cli

import (
	"runtime/debug"
	"strings"

	"github.com/spf13/cobra"

	"fencepost/internal/edit"
	"fencepost/internal/ops"
	"fencepost/internal/ui"
	"fencepost/roll"
)

func newSign(e *env) *cobra.Command {
	var o ops.SignOptions
	cmd := &cobra.Command{Use: "sign FILE|ZONE", GroupID: stageSign, Short: "sign a zone file",
		Long: `Signs a zone: DNSKEY, proofs of what does not exist (NSEC, or NSEC3), CDS and
CDNSKEY for the parent, and a signature over every set of records. The same zone,
keys and time (--now) give the same file. A zone with errors is not signed.

In a workspace the zone's policy says how; flags come before it. With --previous
signatures that still fit are verified and kept.

Before anything is written the signed zone is looked over: every name is found, every
set has its signatures, the chain of proofs is closed. --prove also reads the file
back and verifies every signature, which takes longer than signing.`,
		Example: `  fencepost sign saltmarsh.example -o signed.zone
  fencepost sign plain.zone --keys ./mykeys -o - --now 2026-11-23T12:00:00Z
  fencepost sign plain.zone --keys ./mykeys -o new.signed --previous old.signed
  fencepost sign plain.zone --keys ./mykeys -o signed.zone --denial nsec3 --zonemd`,
		Args: exactly("FILE or ZONE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			debug.SetGCPercent(steadyGC)
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
				return e.ui.Object(map[string]any{"zone": r.Zone.String(), "serial": r.Serial, "file": r.Out, "keys": r.Keys, "signatures": r.Signatures, "kept": r.Kept, "expires": r.Expires.UTC(), "warnings": r.Warnings})
			}
			e.ui.Sayf("signed %s, serial %d: %s with %s in %s\n", strings.TrimSuffix(r.Zone.String(), "."), r.Serial,
				ui.Plural(r.Signatures, "signature"), ui.Plural(r.Keys, "key"), ui.Duration(r.Elapsed))
			if len(r.Started) > 0 {
				e.ui.Sayf("now in use: key %s\n", roll.Names(r.Started))
			}
			if r.Kept > 0 {
				e.ui.Sayf("%s of the previous version were kept\n", ui.Plural(r.Kept, "signature"))
			}
			for _, w := range r.Warnings {
				e.ui.Sayf("%s %s\n", e.ui.Paint(ui.Suspect, "note:"), w)
			}
			if r.Replaced > 0 {
				e.ui.Sayf("%s of the input were replaced\n", ui.Plural(r.Replaced, "old signature, NSEC or DNSKEY record"))
			}
			e.ui.Sayf("valid until %s\n", ui.When(r.Expires, e.app.Now()))
			if o.Out != "-" {
				e.ui.Sayf("wrote %s\n", edit.Shown(r.Out))
			}
			return nil
		}}
	cmd.Flags().StringVar(&o.Keys, "keys", "", "`DIR` of the keys (default: keys/ZONE in the workspace)")
	f := cmd.Flags()
	f.StringVarP(&o.Out, "output", "o", "", "`FILE` to write, - for standard output (default: ZONE.signed in this folder)")
	f.StringVar(&o.Previous, "previous", "", "earlier signed `FILE`: signatures that are still valid are kept")
	f.StringVar(&o.Denial, "denial", "", "`WAY` to prove what does not exist: nsec or nsec3 (default: nsec)")
	f.BoolVar(&o.OptOut, "opt-out", false, "with nsec3: leave delegations without DS out; for zones of many delegations")
	f.StringVar(&o.Salt, "salt", "", "with nsec3: `HEX` salt; none is best")
	f.IntVar(&o.Iterations, "iterations", 0, "with nsec3: hash `N` times more; 0 is best")
	f.BoolVar(&o.Zonemd, "zonemd", false, "add a digest of the whole zone (ZONEMD)")
	f.StringVar(&o.Validity, "valid-for", "", "`TIME` that signatures are valid (default: 28d)")
	f.BoolVar(&o.CheckAll, "check-all", false, "verify every signature made, not a sample")
	f.BoolVar(&o.Prove, "prove", false, "read the file back and verify all of it before it is put in place")
	f.BoolVar(&o.KeepKeys, "keep-keys", false, "keep DNSKEY, CDS and CDNSKEY records of the file that are not ours (several operators)")
	f.StringVar(&o.PassphraseFile, "passphrase-file", "", "`FILE` with the passphrase of protected keys")
	cmd.Flags().StringVar(&o.Origin, "origin", "", "`NAME` of the zone, where the file does not say it")
	return cmd
}
