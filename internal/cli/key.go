package cli

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"fencepost/dnsname"
	"fencepost/internal/edit"
	"fencepost/internal/ops"
	"fencepost/internal/ui"
	"fencepost/keyring"
	"fencepost/wholefile"
)

func newKey(e *env) *cobra.Command {
	cmd := &cobra.Command{Use: "key", GroupID: stageSign, Short: "make, list, move and retire keys",
		Long: `Keys are PKCS#8 PEM files that only their owner can read, in keys/ZONE/ of the workspace
or in the folder that --keys names. keyring.toml beside them holds the state of each
(RFC 7583): generated, published, ready, active, retired, dead, removed. A running server
notices each change.

A step that would break the zone is refused, with the time from when it is safe.`,
		Example: `  fencepost key new saltmarsh.example
  fencepost key list saltmarsh.example
  fencepost key import saltmarsh.example old-server/*.key --public old-zone.txt`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	cmd.AddCommand(newKeyNew(e), newKeyList(e), newKeyShow(e), newKeyImport(e), newKeyExport(e),
		newKeyStage(e, "activate", "put a key to use", "Activates a key: it signs at once. Where others are in use that is refused: resolvers do not\nknow the new key yet, and `fencepost roll start` brings it in in the right order.\nBut a key that left the zone is put back where the parent names it and no key in use."),
		newKeyStage(e, "retire", "end the use of a key", "Makes a key sign no more and leaves it in the zone, where caches still need it. The\nlast key in use, and one that the parent's DS names, is refused. Of another operator's\nkey it withdraws the wish for its DS: the key itself stays until it is deleted."),
		newKeyStage(e, "delete", "take a key away, with its file", "Takes a key out of the zone and removes its file. Refused while caches hold its\nsignatures or the parent's DS names it, with when it will be safe."))
	return cmd
}

// keyFlags are the flags that most commands about keys have.
func keyFlags(cmd *cobra.Command, dir *string) {
	cmd.Flags().StringVar(dir, "keys", "", "`DIR` of the keys (default: keys/ZONE in the workspace)")
}

// passphraseFlags let a passphrase come from a file or from the terminal.
func passphraseFlags(cmd *cobra.Command, p *passphraseSource, what string) {
	cmd.Flags().StringVar(&p.file, what+"-file", "", "`FILE` with the passphrase: its first line")
	cmd.Flags().BoolVar(&p.ask, what, false, p.help)
}

type passphraseSource struct {
	file string
	ask  bool
	help string
}

// read reads the passphrase; none if none was wanted.
func (p *passphraseSource) read(e *env, prompt string) ([]byte, error) {
	if p.file != "" {
		text, err := os.ReadFile(p.file)
		if err != nil {
			return nil, err
		}
		line, _, _ := bytes.Cut(text, []byte("\n"))
		if line = bytes.TrimRight(line, "\r"); len(line) == 0 {
			return nil, usageError("%s holds no passphrase", p.file)
		}
		return line, nil
	}
	if !p.ask {
		return nil, nil
	}
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return nil, usageError("there is no terminal to ask for the passphrase on; give it in a file")
	}
	e.ui.Sayf("%s: ", prompt)
	text, err := term.ReadPassword(int(os.Stdin.Fd()))
	e.ui.Sayf("\n")
	if err == nil && len(text) == 0 {
		err = usageError("the passphrase is empty")
	}
	return text, err
}

// changeKeys carries out a change and shows what became of it.
func (e *env) changeKeys(cmd *cobra.Command, k ops.KeyChange, words string) error {
	r, err := e.app.ChangeKeys(cmd.Context(), k)
	if err != nil {
		return err
	}
	if e.ui.JSON {
		return e.ui.Object(r)
	}
	where := ""
	if r.File != "" && k.Do != "delete" {
		where = " in " + r.File
	}
	e.ui.Printf("%s key %d (%s, %s)%s\n", words, r.Tag, r.Algorithm, r.Role, where)
	for _, w := range r.Warnings {
		style := ui.Suspect
		if strings.HasPrefix(w, "FORCED") {
			style = ui.Bad
		}
		e.ui.Sayf("%s\n", e.ui.Paint(style, "%s", w))
	}
	return nil
}

func newKeyNew(e *env) *cobra.Command {
	k := ops.KeyChange{Do: "new"}
	p := passphraseSource{help: "protect the key by a passphrase that is asked for"}
	cmd := &cobra.Command{Use: "new ZONE", Short: "make a key",
		Long: `Makes a key for a zone. One key that signs everything (single) suits most; ksk and
zsk part the work. The key is used for nothing until the zone is signed with it, or
until a rollover uses it.`,
		Example: `  fencepost key new saltmarsh.example
  fencepost key new saltmarsh.example --role ksk --keys ./mykeys
  fencepost key new saltmarsh.example --algorithm RSASHA256 --bits 3072
  fencepost key new saltmarsh.example --passphrase`,
		Args: exactly("ZONE"),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			k.Zone = args[0]
			if k.Protect, err = p.read(e, "Passphrase for the new key"); err != nil {
				return err
			}
			return e.changeKeys(cmd, k, "made")
		}}
	keyFlags(cmd, &k.Dir)
	passphraseFlags(cmd, &p, "passphrase")
	cmd.Flags().StringVar(&k.Algorithm, "algorithm", "ECDSAP256SHA256", "`MNEMONIC` or number of the DNSSEC algorithm: 8, 10, 13, 14, 15 or 16")
	cmd.Flags().StringVar(&k.Role, "role", "single", "`ROLE` of the key: single, ksk or zsk")
	cmd.Flags().IntVar(&k.Bits, "bits", 0, "size of an RSA key in `BITS`, 2048 to 4096 (default: 2048)")
	return cmd
}

func newKeyList(e *env) *cobra.Command {
	var dir string
	cmd := &cobra.Command{Use: "list ZONE", Short: "list the keys of a zone",
		Example: `  fencepost key list saltmarsh.example
  fencepost key list saltmarsh.example --format json`,
		Args: exactly("ZONE"),
		RunE: func(_ *cobra.Command, args []string) error {
			ring, keys, err := e.app.Keys(args[0], dir)
			if err != nil {
				return err
			}
			if e.ui.JSON {
				return e.ui.Object(map[string]any{"zone": ring.Zone.String(), "folder": ring.Dir, "keys": keys})
			}
			if len(keys) == 0 {
				e.ui.Sayf("%s has no keys in %s; make one with: fencepost key new %s\n", args[0], edit.Shown(ring.Dir), args[0])
				return nil
			}
			e.keyTable(keys)
			for _, k := range keys {
				if k.Concern != "" {
					e.ui.Printf("\n%s key %d: %s\n", e.ui.Paint(ui.Suspect, "note:"), k.Tag, k.Concern)
				}
			}
			if ring.Roll.Roll != nil {
				e.ui.Printf("\nA rollover is under way: %s; see: fencepost roll %s\n", ring.Roll.Roll.Kind.Description(), args[0])
			}
			return nil
		}}
	keyFlags(cmd, &dir)
	return cmd
}

// stateStyle is how a state is painted.
var stateStyle = map[string]ui.Style{"active": ui.Good, "retired": ui.Suspect, "revoked": ui.Bad}

func (e *env) keyTable(keys []ops.KeyInfo) {
	var rows [][]ui.Text
	for _, k := range keys {
		state := ui.Safe(k.State)
		if style, ok := stateStyle[k.State]; ok {
			state = e.ui.Paint(style, "%s", state)
		}
		since := ""
		if at, ok := k.Since[k.State]; ok {
			since = at.Format("2006-01-02 15:04")
		}
		role := k.Role
		if role == "single" {
			role = "single (CSK)"
		}
		if k.Foreign {
			role += ", another's"
		}
		rows = append(rows, ui.Cells(strconv.Itoa(int(k.Tag)), role, k.Algorithm, strconv.Itoa(k.Bits), state, since, shown3(k), dsWords(k)))
	}
	e.ui.Table([]string{">key tag", "role", "algorithm", ">bits", "state", "since (UTC)", "in the zone", "DS at the parent"}, rows)
}

// shown3 says what the zone shows of a key.
func shown3(k ops.KeyInfo) string {
	var words []string
	if k.Published && k.Revoked != 0 {
		words = append(words, fmt.Sprintf("DNSKEY as revoked, tag %d", k.Revoked))
	} else if k.Published {
		words = append(words, "DNSKEY")
	}
	if k.SignsKeys && k.SignsZone {
		words = append(words, "signs all")
	} else if k.SignsKeys {
		words = append(words, "signs the keys")
	} else if k.SignsZone {
		words = append(words, "signs the data")
	}
	if len(words) == 0 {
		return "-"
	}
	return strings.Join(words, ", ")
}

func dsWords(k ops.KeyInfo) string {
	if k.DS == "none" {
		return "-"
	}
	switch word := strings.TrimSuffix(k.DS, " at the parent"); word {
	case "still":
		return "still there"
	case "wanted":
		return "to be added"
	default:
		return word
	}
}

// tagOf reads a key tag.
func tagOf(s string) (uint16, error) {
	n, err := strconv.ParseUint(s, 10, 16)
	if err != nil {
		return 0, usageError("%q is not a key tag: a number up to 65535; see: fencepost key list ZONE", s)
	}
	return uint16(n), nil
}

func newKeyShow(e *env) *cobra.Command {
	var dir string
	cmd := &cobra.Command{Use: "show ZONE TAG", Short: "show one key, its life and its records",
		Example: `  fencepost key show saltmarsh.example 12345`,
		Args:    exactly("ZONE", "TAG"),
		RunE: func(_ *cobra.Command, args []string) error {
			tag, err := tagOf(args[1])
			if err != nil {
				return err
			}
			ring, keys, err := e.app.Keys(args[0], dir)
			if err != nil {
				return err
			}
			for _, k := range keys {
				if k.Tag == tag {
					if e.ui.JSON {
						return e.ui.Object(k)
					}
					e.showKey(ring, k)
					return nil
				}
			}
			return fmt.Errorf("%s has no key %d in %s; see: fencepost key list %s", args[0], tag, edit.Shown(ring.Dir), args[0])
		}}
	keyFlags(cmd, &dir)
	return cmd
}

func (e *env) showKey(ring *keyring.Ring, k ops.KeyInfo) {
	line := func(name, format string, args ...any) {
		e.ui.Printf("  %-16s %s\n", name, fmt.Sprintf(format, args...))
	}
	e.ui.Printf("%s\n", e.ui.Paint(ui.Bold, "Key %d of %s", k.Tag, strings.TrimSuffix(ring.Zone.String(), ".")))
	line("role", "%s", k.Role)
	line("algorithm", "%d (%s), %d bits", k.Number, k.Algorithm, k.Bits)
	line("state", "%s", k.State)
	line("in the zone", "%s", shown3(k))
	line("DS", "%s", k.DS)
	if k.File != "" {
		line("file", "%s", filepath.Join(edit.Shown(ring.Dir), k.File))
	}
	if k.Note != "" {
		line("origin", "%s", k.Note)
	}
	if k.Concern != "" {
		line("note", "%s", e.ui.Paint(ui.Suspect, "%s", k.Concern))
	}
	e.ui.Printf("\n%s\n", e.ui.Paint(ui.Bold, "Its life"))
	line("made", "%s", k.Created.UTC().Format(time.RFC3339))
	for _, e2 := range ring.Keys {
		if e2.Tag == k.Tag {
			for _, s := range keyring.SortedStates(e2.Since) {
				line(string(s), "%s", e2.Since[s].UTC().Format(time.RFC3339))
			}
		}
	}
	e.ui.Printf("\n%s\n  %s DNSKEY %s\n", e.ui.Paint(ui.Bold, "Records"), ring.Zone, k.DNSKEY)
	if k.Digest != "" {
		e.ui.Printf("  %s DS %s\n", ring.Zone, k.Digest)
	}
}

func newKeyImport(e *env) *cobra.Command {
	k := ops.KeyChange{Do: "import"}
	var public string
	var origin string
	open := passphraseSource{help: "ask for the passphrase that opens the key"}
	protect := passphraseSource{help: "protect the key here by a passphrase that is asked for"}
	cmd := &cobra.Command{Use: "import ZONE FILE...", Short: "import keys made elsewhere",
		Long: `Reads private keys as PKCS#8 (PEM or DER), in the older PEM forms of EC and RSA
keys, as JWK, or in the text form that RFC 5702, 6605 and 8080 print. What each is for
is told by --role, or found in the zone's DNSKEY records, which --public names: any file
with these records, such as the zone as the old server has it, or what
` + "`fencepost ask ZONE DNSKEY`" + ` shows. The tags stay the same.

With --foreign the file holds DNSKEY records of another operator of the zone, which
are published and never sign here (RFC 8901).`,
		Example: `  fencepost key import saltmarsh.example ksk.pem --role ksk
  fencepost key import saltmarsh.example old-server/*.key --public old-zone.txt --activate
  fencepost key import saltmarsh.example their-keys.txt --foreign`,
		Args: atLeast("ZONE", "FILE"),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			k.Zone = args[0]
			name, err := edit.WholeName(args[0])
			if err != nil {
				return usageError("the zone %q: %v", args[0], err)
			}
			if origin != "" {
				if name, err = edit.WholeName(origin); err != nil {
					return usageError("--origin %q: %v", origin, err)
				}
			}
			if public != "" {
				if k.Public, err = e.app.PublicRecords(public, name); err != nil {
					return err
				}
			}
			if k.Passphrase, err = open.read(e, "Passphrase of the key"); err != nil {
				return err
			}
			if k.Protect, err = protect.read(e, "Passphrase to protect it by"); err != nil {
				return err
			}
			return e.importKeys(cmd, k, args[1:], name)
		}}
	keyFlags(cmd, &k.Dir)
	passphraseFlags(cmd, &open, "passphrase")
	passphraseFlags(cmd, &protect, "protect")
	f := cmd.Flags()
	f.StringVar(&k.Role, "role", "", "`ROLE` of the key: single, ksk or zsk (default: found by --public)")
	f.StringVar(&k.Algorithm, "algorithm", "", "`MNEMONIC` of the algorithm, for RSA keys in a form that does not say it")
	f.StringVar(&public, "public", "", "`FILE` with the zone's DNSKEY records")
	f.StringVar(&origin, "origin", "", "`NAME` that relative names in --public follow (default: the zone)")
	f.BoolVar(&k.Foreign, "foreign", false, "the file holds DNSKEY records of another operator (multi-signer, RFC 8901)")
	f.BoolVar(&k.Activate, "activate", false, "use the keys at once, as they were used before")
	return cmd
}

// importKeys imports files one after another; of a folder full of files those that
// are no private keys are passed over, with a word.
func (e *env) importKeys(cmd *cobra.Command, k ops.KeyChange, files []string, name dnsname.Name) error {
	done := 0
	for _, file := range files {
		if k.Foreign {
			var err error
			if k.Public, err = e.app.PublicRecords(file, name); err != nil {
				return err
			}
		} else {
			if info, err := os.Stat(file); err == nil && info.IsDir() && len(files) > 1 {
				e.ui.Sayf("passed over %s: it is a folder\n", file)
				continue
			}
			text, err := os.ReadFile(file)
			if err != nil {
				return err
			}
			k.Content = text
		}
		k.Name = filepath.Base(file)
		err := e.changeKeys(cmd, k, "imported")
		if errors.Is(err, keyring.ErrForm) && len(files) > 1 {
			e.ui.Sayf("passed over %s: it holds no private key\n", file)
			continue
		}
		if err != nil {
			return err
		}
		done++
	}
	if done == 0 {
		return fmt.Errorf("none of the %d files holds a private key", len(files))
	}
	return nil
}

func newKeyExport(e *env) *cobra.Command {
	var dir, form, out string
	open := passphraseSource{help: "ask for the passphrase that opens the key"}
	protect := passphraseSource{help: "protect what is written by a passphrase that is asked for"}
	cmd := &cobra.Command{Use: "export ZONE TAG", Short: "write a key in a format for other software",
		Long: `Writes a private key as PKCS#8 (pem, der), as JWK (jwk) or in the text form of RFC
5702, 6605 and 8080 (text), or its public half as a record (dnskey, ds). A private
key goes to a file that only its owner can read; -o - prints it.`,
		Example: `  fencepost key export saltmarsh.example 12345 --as pem -o key.pem
  fencepost key export saltmarsh.example 12345 --as jwk -o - | ssh elsewhere ...
  fencepost key export saltmarsh.example 12345 --as ds`,
		Args: exactly("ZONE", "TAG"),
		RunE: func(_ *cobra.Command, args []string) error {
			tag, err := tagOf(args[1])
			if err != nil {
				return err
			}
			private := form != "dnskey" && form != "ds"
			if private && out == "" {
				return usageError("say where the private key goes: -o FILE, or -o - to print it")
			}
			passphrase, err := open.read(e, "Passphrase of the key")
			if err != nil {
				return err
			}
			guard, err := protect.read(e, "Passphrase to protect it by")
			if err != nil {
				return err
			}
			text, err := e.app.ExportKey(args[0], dir, tag, form, passphrase, guard)
			if err != nil {
				return err
			}
			if out == "" || out == "-" {
				_, err = e.out.Write(text)
				return err
			}
			if err := wholefile.WriteNew(out, text, 0o600); err != nil {
				return err
			}
			e.ui.Sayf("wrote key %d as %s to %s\n", tag, form, out)
			return nil
		}}
	keyFlags(cmd, &dir)
	passphraseFlags(cmd, &open, "passphrase")
	passphraseFlags(cmd, &protect, "protect")
	cmd.Flags().StringVar(&form, "as", "pem", "`FORM` to write: pem, der, jwk, text, dnskey or ds")
	cmd.Flags().StringVarP(&out, "output", "o", "", "`FILE` to write, - for standard output")
	return cmd
}

// newKeyStage is a command that moves a key on in its life.
func newKeyStage(e *env, do, short, long string) *cobra.Command {
	k := ops.KeyChange{Do: do}
	words := map[string]string{"activate": "activated", "retire": "retired", "delete": "deleted"}[do]
	cmd := &cobra.Command{Use: do + " ZONE TAG", Short: short, Long: long,
		Example: "  fencepost key " + do + " saltmarsh.example 12345",
		Args:    exactly("ZONE", "TAG"),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			k.Zone = args[0]
			if k.Tag, err = tagOf(args[1]); err != nil {
				return err
			}
			return e.changeKeys(cmd, k, words)
		}}
	keyFlags(cmd, &k.Dir)
	cmd.Flags().BoolVar(&k.Force, "force", false, "do it although it breaks the zone")
	return cmd
}
