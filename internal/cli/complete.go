package cli

import (
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fencepost/internal/edit"
	"fencepost/internal/ops"
	"fencepost/rr"
)

// completions gives every command completion: the words in its use line say what its
// arguments are.
func (e *env) completions(cmd *cobra.Command) {
	if words := placeholders(cmd.Use); cmd.ValidArgsFunction == nil && len(words) > 0 {
		cmd.ValidArgsFunction = func(_ *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
			i := min(len(args), len(words)-1)
			if len(args) >= len(words) && !strings.HasSuffix(cmd.Use, "...") && !strings.HasSuffix(cmd.Use, "...]]") {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			list, directive := e.argument(words[i], args)
			return slices.DeleteFunc(slices.Clone(list), func(w string) bool { return !hasPrefixFold(w, typed) }), directive
		}
	}
	for flag, list := range flagValues {
		if cmd.Flag(flag) != nil {
			_ = cmd.RegisterFlagCompletionFunc(flag, func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
				return list(e.completer()), cobra.ShellCompDirectiveNoFileComp
			})
		}
	}
	for _, c := range cmd.Commands() {
		e.completions(c)
	}
}

func hasPrefixFold(s, prefix string) bool {
	return len(s) >= len(prefix) && strings.EqualFold(s[:len(prefix)], prefix)
}

// completer is the app for completion, which comes before flags are settled.
func (e *env) completer() *ops.App {
	return &ops.App{Files: edit.Files{Workspace: e.workspace, Now: time.Now}}
}

// placeholders are the words in capitals of a use line, without brackets.
func placeholders(use string) (out []string) {
	for _, w := range strings.Fields(use)[1:] {
		if w = strings.Trim(w, "[]."); strings.ToUpper(w) != w || strings.HasPrefix(w, "-") {
			break
		}
		out = append(out, w)
	}
	return out
}

// argument completes an argument by what the use line calls it.
func (e *env) argument(word string, before []string) ([]string, cobra.ShellCompDirective) {
	a := e.completer()
	var out []string
	switch word {
	case "ZONE":
		return a.ZoneNames(), cobra.ShellCompDirectiveNoFileComp
	case "FILE|ZONE", "ZONE|FILE":
		return a.ZoneNames(), cobra.ShellCompDirectiveDefault
	case "FILE", "FROM", "TO", "DIR":
		return nil, cobra.ShellCompDirectiveDefault
	case "TYPE":
		out = rr.Mnemonics()
	case "OWNER", "OLD":
		out = a.OwnerNames(before[0])
	case "SERIAL":
		for _, s := range a.Serials(before[0]) {
			out = append(out, s[0]+"\t"+s[1])
		}
	case "TAG":
		for _, k := range a.KeyTags(before[0], "") {
			out = append(out, k[0]+"\t"+k[1])
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// words makes a list of values that are always the same.
func words(list ...string) func(*ops.App) []string { return func(*ops.App) []string { return list } }

// flagValues are what may stand behind flags, by their names; a flag of one name means
// the same everywhere.
var flagValues = map[string]func(*ops.App) []string{
	"algorithm": words("ECDSAP256SHA256", "ECDSAP384SHA384", "ED25519", "ED448", "RSASHA256", "RSASHA512"),
	"as":        words("pem", "der", "jwk", "text", "dnskey", "ds"),
	"at":        (*ops.App).PeerNames,
	"color":     words("auto", "always", "never"),
	"denial":    words("nsec", "nsec3"),
	"format":    words("text", "json"),
	"from":      (*ops.App).PeerNames,
	"key":       (*ops.App).SecretNames,
	"like":      (*ops.App).ZoneNames,
	"role":      words("single", "ksk", "zsk"),
	"transport": words("udp", "tcp"),
	"class":     words("IN", "CH"),
	"what":      words("keys", "ksk", "zsk", "sign", "unsign"),
	"zone":      (*ops.App).ZoneNames,
}
