package cli

import (
	"slices"

	"github.com/spf13/cobra"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
)

// complete is what cobra calls to complete a word.
type complete = func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective)

func nearest(word string, known []string) string { return diagnostic.Nearest(word, known) }

// words offers what a function draws from the workspace; a workspace with errors offers nothing.
func (a *app) words(from func(*gate.Gate) []string) ([]string, cobra.ShellCompDirective) {
	g, err := a.compiled()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return from(g), cobra.ShellCompDirectiveNoFileComp
}

// completeSection offers the ids of a section.
func (a *app) completeSection(section string) complete {
	return func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return a.words(sectionIDs(section))
	}
}

// subjects gives people, services and anonymous.
func (a *app) subjects(g *gate.Gate) []string { return texts(g.Subjects()) }

// subjectsAndGroups gives groups too.
func (a *app) subjectsAndGroups(g *gate.Gate) []string {
	return append(a.subjects(g), ofKinds(g, "group")...)
}

// completeFirst offers words for the first argument alone.
func (a *app) completeFirst(from func(*gate.Gate) []string) complete {
	return func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return a.words(from)
	}
}

// completeRequest offers subjects, then operations, then the addresses to which the operation applies.
func (a *app) completeRequest(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	switch len(args) {
	case 0:
		return a.words(a.subjects)
	case 1:
		return a.words(usedOperations)
	case 2:
		return a.words(func(g *gate.Gate) []string { return addresses(g, args[1]) })
	}
	return nil, cobra.ShellCompDirectiveNoFileComp
}

// completeHolders offers operations and selectors of them, then addresses and scopes.
func (a *app) completeHolders(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	switch len(args) {
	case 0:
		return a.words(operationTerms)
	case 1:
		return a.words(places)
	}
	return nil, cobra.ShellCompDirectiveNoFileComp
}

// completeShow offers what can be shown, then the ids of such.
func (a *app) completeShow(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	switch len(args) {
	case 0:
		return ones(), cobra.ShellCompDirectiveNoFileComp
	case 1:
		for _, l := range listings {
			if l.one == args[0] {
				if g, err := a.compiledOrBare(l.many); err == nil {
					return l.ids(g), cobra.ShellCompDirectiveNoFileComp
				}
			}
		}
	}
	return nil, cobra.ShellCompDirectiveNoFileComp
}

// completeNames offers what a key can name.
func (a *app) completeNames(sections []string) complete {
	return a.lastOfList(func(g *gate.Gate) (out []string) {
		for _, section := range sections {
			out = append(out, namesIn(g, section)...)
		}
		return out
	})
}

// namesIn lists what of a section can be named, as lists name it.
func namesIn(g *gate.Gate, section string) []string {
	switch section {
	case policyfile.NamesOperation:
		return usedOperations(g)
	case policyfile.NamesFinding:
		return estate.FindingCodes
	case "resources":
		return addresses(g, "")
	case "catalogs":
		return keys(g.Estate().Kinds)
	}
	out := ids(g.Estate().Section(section))
	for i, id := range out {
		out[i] = draft.Named(section, id)
	}
	return out
}

// usedOperations lists the operations of the kinds that the estate's systems have.
func usedOperations(g *gate.Gate) []string {
	var out []string
	for _, s := range g.Estate().Systems {
		for _, o := range g.Estate().Offer(s.Kind.ID).Operations {
			out = append(out, o.Name)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// addresses lists where an operation, or any if it is a selector, applies.
func addresses(g *gate.Gate, operation string) []string {
	var out []string
	known := g.Estate().Operations[operation] != nil
	for r := range g.Estate().Tree.All() {
		if !known || g.Estate().Offer(r.System.Kind.ID).Valid(operation, r.Type) != nil {
			out = append(out, r.Address.String())
		}
	}
	return out
}
