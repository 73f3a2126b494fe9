package change

import (
	"fmt"
	"slices"
	"strings"
)

// Group is breaches of one rule, about the same people and place or the same file.
type Group struct {
	Rule     Rule
	Breaches []Breach
}

// Grouped brings breaches together by rule, and under it by whom and which place they are about.
func Grouped(breaches []Breach) (out []Group) {
	sorted := slices.DeleteFunc(slices.Clone(breaches), func(b Breach) bool { return b.later && said(breaches, b) })
	slices.SortStableFunc(sorted, func(a, b Breach) int {
		if c := strings.Compare(a.Who, b.Who); a.Rule == b.Rule && c != 0 {
			return c
		}
		return strings.Compare(a.Where, b.Where)
	})
	for _, b := range sorted {
		i := slices.IndexFunc(out, func(g Group) bool { return g.Rule == b.Rule })
		if i < 0 {
			i = len(out)
			out = append(out, Group{Rule: b.Rule})
		}
		out[i].Breaches = append(out[i].Breaches, b)
	}
	slices.SortStableFunc(out, func(a, b Group) int { return strings.Compare(string(a.Rule), string(b.Rule)) })
	return out
}

// said says that a breach about what may come is told of something there, too.
func said(breaches []Breach, b Breach) bool {
	return slices.ContainsFunc(breaches, func(o Breach) bool {
		return !o.later && o.Rule == b.Rule && o.Who == b.Who && o.Operation == b.Operation
	})
}

// Lacks says in one line what would make the breaches their author's to commit.
func Lacks(breaches []Breach, by string) string {
	delegation, owner, other := false, false, false
	for _, b := range breaches {
		switch b.Rule {
		case AuthorActive:
			return by + " is not active, and an inactive author changes nothing"
		case GainDelegated, GrantInside, JoinCeiling, NotToSelf, LossDelegated:
			delegation = true
		case EntryOwner, WorkspaceOwner, RoleKeeps:
			owner = true
		default:
			other = true
		}
	}
	var parts []string
	if delegation {
		parts = append(parts, "a delegation that covers what the change gives")
	}
	if owner {
		parts = append(parts, "to own what it rewrites")
	}
	if other {
		parts = append(parts, "to own the workspace, since it gives power or weakens a rule")
	}
	return fmt.Sprintf("%s lacks %s", by, and(parts))
}
