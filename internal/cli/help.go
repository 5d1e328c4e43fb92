package cli

import (
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"fencepost/diag"
)

// withHelp puts our words in the place of the library's own.
func withHelp(root *cobra.Command) {
	root.SetHelpCommand(newHelp(root))
	root.InitDefaultCompletionCmd()
	for _, c := range root.Commands() {
		if c.Name() == "completion" {
			c.Short, c.GroupID = "completion of commands, for a shell to load", stageTry
		}
	}
	root.SetHelpCommandGroupID(stageTry)
	root.PersistentFlags().BoolP("help", "h", false, "how to use the command")
	root.Flags().BoolP("version", "v", false, "which version this is")
	usage := strings.NewReplacer(`Use "{{.CommandPath}} [command] --help" for more information about a command.`, `More about a command: {{.CommandPath}} COMMAND --help`,
		"Global Flags:", "Flags of every command:", "Additional help topics:", "More:", "[command]", "COMMAND", "Available Commands:", "Commands:")
	narrow := strings.NewReplacer("{{.LocalFlags.FlagUsages | trimTrailingWhitespaces}}", "{{flags .LocalFlags}}", "{{.InheritedFlags.FlagUsages | trimTrailingWhitespaces}}", "{{flags .InheritedFlags}}")
	cobra.AddTemplateFunc("flags", func(f *pflag.FlagSet) string { return strings.TrimRight(f.FlagUsagesWrapped(helpWidth), " \n") })
	cobra.AddTemplateFunc("narrow", func(s string) string { return reflow(strings.TrimRight(s, " \n"), helpWidth) })
	root.SetUsageTemplate(narrow.Replace(usage.Replace(root.UsageTemplate())))
	root.SetHelpTemplate("{{with (or .Long .Short)}}{{narrow .}}\n\n{{end}}{{if or .Runnable .HasSubCommands}}{{.UsageString}}{{end}}")
}

// helpWidth is how wide help is: that of any terminal.
const helpWidth = 80

// reflow breaks paragraphs anew; lines that begin with a blank, such as examples and
// lists, stay as they are.
func reflow(text string, width int) string {
	var out, paragraph []string
	end := func() {
		if len(paragraph) > 0 {
			out = append(out, wrap(strings.Join(paragraph, " "), width))
			paragraph = nil
		}
	}
	for _, line := range strings.Split(text, "\n") {
		if line == "" || line[0] == ' ' {
			end()
			out = append(out, line)
			continue
		}
		paragraph = append(paragraph, line)
	}
	end()
	return strings.Join(out, "\n")
}

// newHelp is the help command; of what is no command it says so.
func newHelp(root *cobra.Command) *cobra.Command {
	return &cobra.Command{Use: "help [COMMAND]", Short: "how to use a command",
		Long: "Shows what a command does, its flags and examples; without a command all there are.",
		Example: `  fencepost help
  fencepost help roll start`,
		ValidArgsFunction: func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			at, _, err := root.Find(args)
			if err != nil {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			var out []string
			for _, c := range at.Commands() {
				if c.IsAvailableCommand() {
					out = append(out, c.Name()+"\t"+c.Short)
				}
			}
			return out, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			at, rest, err := root.Find(args)
			if err != nil || len(rest) > 0 {
				at, word := root, args[0]
				if len(rest) > 0 {
					at, _, _ = root.Find(args[:len(args)-len(rest)])
					word = rest[0]
				}
				return noSuchCommand(at, word)
			}
			return at.Help()
		}}
}

func noSuchCommand(at *cobra.Command, word string) error {
	var have []string
	for _, c := range at.Commands() {
		have = append(have, c.Name())
	}
	if meant := diag.Closest(word, have); meant != "" {
		return usageError("there is no command %s %s; did you mean %s?", at.CommandPath(), word, meant)
	}
	return usageError("there is no command %s %s; see: fencepost help", at.CommandPath(), word)
}
