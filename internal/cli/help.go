package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/clipperhouse/displaywidth"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// helpWidth is how many columns a line of help has at most.
const helpWidth = 100

// helps gives a command and all below it our own help.
func helps(root *cobra.Command) {
	root.PersistentFlags().BoolP("help", "h", false, "tell what the command does, and how it is written")
	root.Flags().BoolP("version", "v", false, "print the program's version")
	root.SetHelpFunc(func(c *cobra.Command, _ []string) { fmt.Fprint(c.OutOrStdout(), helpOf(c)) })
	root.SetUsageFunc(func(c *cobra.Command) error {
		_, err := fmt.Fprint(c.OutOrStderr(), helpOf(c))
		return err
	})
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error { return flagError(c, err) })
	root.SetHelpCommand(&cobra.Command{
		Use: "help COMMAND", Short: "Tell what a command does, and how it is written",
		GroupID: "other",
		Example: "  hgate help try",
		RunE: func(c *cobra.Command, args []string) error {
			of, rest, err := c.Root().Find(args)
			if err == nil && len(rest) > 0 {
				err = unknownCommand(of, rest[0])
			}
			if err != nil {
				return err
			}
			return of.Help()
		},
		ValidArgsFunction: func(c *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			of, _, err := c.Root().Find(args)
			var out []string
			if err == nil {
				for _, sub := range of.Commands() {
					if sub.IsAvailableCommand() {
						out = append(out, cobra.CompletionWithDesc(sub.Name(), sub.Short))
					}
				}
			}
			return out, cobra.ShellCompDirectiveNoFileComp
		},
	})
	root.InitDefaultCompletionCmd()
	for _, c := range root.Commands() {
		if c.Name() == "completion" {
			completionHelp(c)
		}
	}
}

// sorts marks commands whose subcommands are sorts of entry.
const sorts = "sorts"

// ownCommands refuses what is none of a command's own commands.
func ownCommands(c *cobra.Command, args []string) error {
	if len(args) > 0 {
		return unknownCommand(c, args[0])
	}
	return nil
}

// completionHelp says in our own words what the commands for completion do.
func completionHelp(c *cobra.Command) {
	c.Short = "Print what makes a shell complete commands"
	c.Long = "Prints a script that makes a shell complete commands, flags, and the ids and addresses of the workspace."
	c.Example = "  source <(hgate completion bash)"
	at := map[string]string{
		"bash": "source <(hgate completion bash)", "zsh": "source <(hgate completion zsh)",
		"fish":       "hgate completion fish | source",
		"powershell": "hgate completion powershell | Out-String | Invoke-Expression",
	}
	for _, sub := range c.Commands() {
		sub.Short = "Print the completion script for " + sub.Name()
		sub.Long = sub.Short + ". The line below turns completion on in a shell that is open; put it into the shell's " +
			"startup file to keep it."
		sub.Example = "  " + at[sub.Name()]
		if flag := sub.Flags().Lookup("no-descriptions"); flag != nil {
			flag.Usage = "complete without saying what each word does"
		}
	}
}

// helpOf writes the help of a command.
func helpOf(c *cobra.Command) string {
	var b strings.Builder
	part := func(title string) { fmt.Fprintf(&b, "\n%s\n", title) }
	text := c.Long
	if text == "" {
		text = c.Short
	}
	b.WriteString(reflowed(text) + "\n")
	if c.Runnable() && c.HasParent() || len(c.Commands()) == 0 {
		part("Written as")
		line := strings.TrimSuffix(c.UseLine(), " [flags]")
		if c.HasAvailableSubCommands() {
			line += map[bool]string{true: " SORT …", false: " [COMMAND …]"}[c.Annotations[sorts] != ""]
		}
		b.WriteString("  " + line + "\n")
	}
	if c.Example != "" {
		part("Examples, in the folder that `hgate demo` writes")
		b.WriteString(c.Example + "\n")
	}
	groups := c.Groups()
	if len(groups) == 0 {
		groups = []*cobra.Group{{Title: map[bool]string{true: "Sorts", false: "Commands"}[c.Annotations[sorts] != ""]}}
	}
	for _, g := range groups {
		var rows [][2]string
		for _, sub := range c.Commands() {
			if sub.IsAvailableCommand() && sub.GroupID == g.ID {
				rows = append(rows, [2]string{sub.Name(), sub.Short})
			}
		}
		if len(rows) > 0 {
			part(strings.TrimSuffix(g.Title, ":"))
			b.WriteString(columns(rows))
		}
	}
	for _, set := range []struct {
		title string
		flags *pflag.FlagSet
	}{{"Flags", c.NonInheritedFlags()}, {"Flags of every command", c.InheritedFlags()}} {
		if set.flags.HasAvailableFlags() {
			part(set.title)
			b.WriteString(flagsText(set.flags))
		}
	}
	if c.HasAvailableSubCommands() {
		fmt.Fprintf(&b, "\n`%s COMMAND --help` tells more of one command.\n", c.CommandPath())
	}
	return b.String()
}

// reflowed breaks paragraphs anew where a line is too long; lines that are indented stay as they are.
func reflowed(text string) string {
	var out []string
	for paragraph := range strings.SplitSeq(strings.TrimSpace(text), "\n\n") {
		lines := strings.Split(paragraph, "\n")
		tooLong := func(line string) bool { return displaywidth.String(line) > helpWidth }
		if slices.ContainsFunc(lines, func(line string) bool { return strings.HasPrefix(line, " ") }) ||
			!slices.ContainsFunc(lines, tooLong) {
			out = append(out, paragraph)
			continue
		}
		out = append(out, strings.Join(filled(strings.Fields(paragraph), helpWidth), "\n"))
	}
	return strings.Join(out, "\n\n")
}

// filled puts words into lines of a width.
func filled(words []string, width int) (lines []string) {
	for _, word := range words {
		if n := len(lines) - 1; n >= 0 && displaywidth.String(lines[n])+1+displaywidth.String(word) <= width {
			lines[n] += " " + word
		} else {
			lines = append(lines, word)
		}
	}
	return lines
}

// columns writes names with what they are.
func columns(rows [][2]string) string {
	wide := 0
	for _, r := range rows {
		wide = max(wide, displaywidth.String(r[0]))
	}
	wide = min(wide, 28)
	var b strings.Builder
	for _, r := range rows {
		indent := "  " + strings.Repeat(" ", wide) + "  "
		lines := filled(strings.Fields(r[1]), helpWidth-len(indent))
		name := "  " + r[0] + strings.Repeat(" ", max(0, wide-displaywidth.String(r[0]))) + "  "
		if displaywidth.String(r[0]) > wide { // a name that is too long has a line of its own
			b.WriteString("  " + r[0] + "\n")
			name = indent
		}
		for i, line := range lines {
			if i > 0 {
				name = indent
			}
			b.WriteString(name + line + "\n")
		}
	}
	return b.String()
}

func flagsText(flags *pflag.FlagSet) string {
	var rows [][2]string
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Hidden {
			return
		}
		name := "    --" + f.Name
		if f.Shorthand != "" {
			name = "-" + f.Shorthand + ", --" + f.Name
		}
		value, usage := pflag.UnquoteUsage(f)
		if value != "" {
			name += " " + value
		}
		if f.DefValue != "" && !slices.Contains([]string{"false", "[]", "0"}, f.DefValue) {
			usage += fmt.Sprintf(" (%s, where left out)", f.DefValue)
		}
		rows = append(rows, [2]string{name, usage})
	})
	return columns(rows)
}

// unknownCommand says that a command has no such command, and which one may be meant.
func unknownCommand(c *cobra.Command, name string) error {
	var names []string
	for _, sub := range c.Commands() {
		if sub.IsAvailableCommand() {
			names = append(names, sub.Name())
		}
	}
	text := fmt.Sprintf("`%s` has no command %s", c.CommandPath(), name)
	if near := nearest(name, names); near != "" {
		return fmt.Errorf("%s; did you mean %s?", text, near)
	}
	return fmt.Errorf("%s; it has %s", text, strings.Join(names, ", "))
}

// flagError says what is wrong with a flag, and which one may be meant.
func flagError(c *cobra.Command, err error) error {
	_, name, unknown := strings.Cut(err.Error(), "unknown flag: --")
	if !unknown {
		return err
	}
	var names []string
	c.Flags().VisitAll(func(f *pflag.Flag) {
		if !f.Hidden {
			names = append(names, f.Name)
		}
	})
	slices.Sort(names)
	text := fmt.Sprintf("`%s` has no flag --%s", c.CommandPath(), name)
	if near := nearest(name, names); near != "" {
		return fmt.Errorf("%s; did you mean --%s?", text, near)
	}
	return fmt.Errorf("%s; it has --%s", text, strings.Join(names, ", --"))
}
