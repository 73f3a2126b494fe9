package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// completions gives every flag of a command, and of those below it, what its placeholder says that it takes. Flags that
// have their own completion keep it.
func (a *app) completions(c *cobra.Command) {
	from := map[string]func(*gate.Gate) []string{
		"subject": a.subjects, "who": a.subjects, "subjects": a.subjectsAndGroups, "groups": sectionIDs("groups"),
		"roles": sectionIDs("roles"), "places": places, "operations": operationTerms,
	}
	c.LocalNonPersistentFlags().VisitAll(func(f *pflag.Flag) {
		if _, has := c.GetFlagCompletionFunc(f.Name); has || f.Value.Type() == "bool" {
			return
		}
		switch what, _ := pflag.UnquoteUsage(f); {
		case f.Name == "except":
			_ = c.RegisterFlagCompletionFunc(f.Name, a.lastOfList(rolesAndGroups))
		case what == "file" && f.Name == "file": // a file of the workspace
			_ = c.RegisterFlagCompletionFunc(f.Name, a.lastOfList(workspaceFiles))
		case what == "file":
			_ = c.RegisterFlagCompletionFunc(f.Name, files)
		case from[what] != nil:
			_ = c.RegisterFlagCompletionFunc(f.Name, a.lastOfList(from[what]))
		}
	})
	for _, below := range c.Commands() {
		a.completions(below)
	}
}

// files leaves completion to the shell, which offers files.
func files(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return nil, cobra.ShellCompDirectiveDefault
}

// firstFile offers files for the first argument alone.
func firstFile(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return nil, cobra.ShellCompDirectiveDefault
}

// lastOfList offers words for the last item of a list, with the + or - before it that may stand there.
func (a *app) lastOfList(from func(*gate.Gate) []string) complete {
	return func(_ *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
		at := strings.LastIndexByte(typed, ',') + 1
		if rest := typed[at:]; strings.HasPrefix(rest, "+") || strings.HasPrefix(rest, "-") {
			at++
		}
		return a.words(func(g *gate.Gate) []string {
			out := from(g)
			for i := range out {
				out[i] = typed[:at] + out[i]
			}
			return out
		})
	}
}

// places gives what selects resources: addresses, scopes and everything.
func places(g *gate.Gate) []string {
	return append(append(addresses(g, ""), "everything"), ofKinds(g, "scope")...)
}

// operationTerms gives operations, and what selects them by level.
func operationTerms(g *gate.Gate) []string {
	out := usedOperations(g)
	for _, l := range estate.LevelNames() {
		out = append(out, "only "+l, "up to "+l, "from "+l)
	}
	return out
}

// ofKinds gives entries of some kinds, as kind:ID.
func ofKinds(g *gate.Gate, kinds ...string) (out []string) {
	for _, l := range listings {
		if slices.Contains(kinds, l.one) {
			for _, id := range l.ids(g) {
				out = append(out, l.one+":"+id)
			}
		}
	}
	return out
}

// rolesAndGroups gives both, as what a copy leaves out is named.
func rolesAndGroups(g *gate.Gate) []string { return ofKinds(g, "role", "group") }

// workspaceFiles gives the files in which entries stand.
func workspaceFiles(g *gate.Gate) []string {
	seen := map[string]bool{}
	for _, section := range listings {
		for _, o := range g.Estate().Section(section.section) {
			if strings.HasSuffix(o.Source.File, ".yaml") { // the rest are inventories
				seen[o.Source.File] = true
			}
		}
	}
	return keys(seen)
}

// completeContest offers exclusive operations, the addresses where they apply, and subjects.
func (a *app) completeContest(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	switch len(args) {
	case 0:
		return a.words(func(g *gate.Gate) []string {
			return slices.DeleteFunc(usedOperations(g), func(name string) bool { return !g.Estate().Operations[name].Exclusive })
		})
	case 1:
		return a.words(func(g *gate.Gate) []string { return addresses(g, args[0]) })
	}
	return a.words(a.subjects)
}

// completeStatus offers subjects with a status; those who are away, or will be, with the suspended.
func (a *app) completeStatus(status string) complete {
	return func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		now := a.present()
		return a.words(func(g *gate.Gate) (out []string) {
			for _, p := range g.Subjects() {
				s := g.Estate().Subject(p)
				if s != nil && (s.Status == status || status == "suspended" && slices.ContainsFunc(s.Away,
					func(one estate.Absence) bool { return !one.Ends.OverAt(g.Estate().Zone, now) })) {
					out = append(out, p.String())
				}
			}
			return out
		})
	}
}

// completeCompared offers roles, people, services and groups, of the sort of the first one.
func (a *app) completeCompared(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 1 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	kinds := comparedKinds
	if len(args) == 1 {
		kind, _, _ := strings.Cut(args[0], ":")
		kinds = []string{kind}
	}
	return a.words(func(g *gate.Gate) []string { return ofKinds(g, kinds...) })
}

// completeKeys offers the keys of what is listed, the last of a list.
func (a *app) completeKeys(_ *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	before := typed[:strings.LastIndexByte(typed, ',')+1]
	var out []string
	for _, key := range keysHeld(a.entriesOf(args)) {
		out = append(out, before+key)
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// completeFilter offers the keys of what is listed, and behind one the values that it has.
func (a *app) completeFilter(_ *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	const most = 200
	entries := a.entriesOf(args)
	key, _, found := strings.Cut(typed, "=")
	if !found {
		out := keysHeld(entries)
		for i := range out {
			out[i] += "="
		}
		return out, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
	}
	values := map[string]bool{}
	for _, e := range entries {
		if text := e.text(key); text != "" && len(values) < most {
			values[key+"="+text] = true
		}
	}
	return keys(values), cobra.ShellCompDirectiveNoFileComp
}

// entriesOf gives what the command lists; nothing if that is not known.
func (a *app) entriesOf(args []string) []entry {
	for _, l := range listings {
		if len(args) == 0 || l.many != args[0] {
			continue
		}
		g, err := a.compiledOrBare(l.many)
		if err != nil {
			return nil
		}
		entries, err := l.chosen(g, choice{})
		if err != nil {
			return nil
		}
		return entries
	}
	return nil
}

// keysHeld lists the keys that some of the entries have.
func keysHeld(entries []entry) []string {
	known := map[string]bool{}
	for _, e := range entries {
		for _, p := range e.said() {
			known[p.key] = true
		}
	}
	return keys(known)
}
