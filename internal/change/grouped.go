package change

import (
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/estate"
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
		parts = append(parts, "ownership of what it rewrites")
	}
	if other {
		parts = append(parts, "ownership of the workspace, since it gives power or weakens a rule")
	}
	return fmt.Sprintf("%s needs %s", by, and(parts))
}

// PersonGains is what a rule refuses of the gains of one subject.
type PersonGains struct {
	Who   string
	New   bool   // nobody knew them before
	At    string // where the files tell of them
	Gains []PlaceGains
}

// PlaceGains are the operations that are refused in a place; there may be further places of which that is so.
type PlaceGains struct {
	Where string
	What  Naming
}

// ByPerson brings a rule's breaches about operations together by whom they are about and by place, places that need a
// second look first, and gives the other breaches as they are.
func (g Group) ByPerson(before, after *estate.Estate) (out []PersonGains, others []Breach) {
	e := &Effect{Before: before, After: after}
	named := map[string][]string{}
	for _, b := range g.Breaches {
		if b.Operation == "" {
			others = append(others, b)
			continue
		}
		if n := len(out); n == 0 || out[n-1].Who != b.Who { // they are sorted by whom they are about, then by place
			who, err := estate.ParsePrincipal(b.Who)
			out = append(out, PersonGains{Who: b.Who, New: err == nil && before.Subject(who) == nil, At: b.Position.Short()})
		}
		key := b.Who + "\n" + b.Where
		if last := &out[len(out)-1]; named[key] == nil {
			last.Gains = append(last.Gains, PlaceGains{Where: b.Where})
		}
		if !slices.Contains(named[key], b.Operation) {
			named[key] = append(named[key], b.Operation)
		}
	}
	for i := range out {
		for k := range out[i].Gains {
			gain := &out[i].Gains[k]
			names := named[out[i].Who+"\n"+gain.Where]
			slices.Sort(names)
			gain.What = e.naming(names, nil, false)
		}
		slices.SortStableFunc(out[i].Gains, func(a, b PlaceGains) int { return len(b.What.Grave) - len(a.What.Grave) })
	}
	slices.SortStableFunc(out, func(a, b PersonGains) int { // who is new comes first
		switch {
		case a.New == b.New:
			return 0
		case a.New:
			return -1
		}
		return 1
	})
	return out, others
}
