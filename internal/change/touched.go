package change

import (
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// Few is up to how many people an estate has for everybody to be looked at, whoever can be concerned. Tests set it to 0.
var Few = 5000

// altered lists, by section, the ids of the entries that are not the same in two estates.
type altered struct {
	people, services, groups, roles, scopes, grants, blocks, separations, systems, kinds, delegations, tests, guarantees []string
}

func alteredIn(before, after *estate.Estate) *altered {
	return &altered{
		others(before.People, after.People), others(before.Services, after.Services), others(before.Groups, after.Groups),
		others(before.Roles, after.Roles), others(before.Scopes, after.Scopes), others(before.Grants, after.Grants),
		others(before.Blocks, after.Blocks), others(before.Separations, after.Separations), others(before.Systems, after.Systems),
		others(before.Kinds, after.Kinds), others(before.Delegations, after.Delegations), others(before.Tests, after.Tests),
		others(before.Guarantees, after.Guarantees),
	}
}

// touched names the subjects whose access can differ between two estates; nil for all of them. It looks at which entries are others: where an estate was read again
// in part, the rest is the same by its address.
func touched(before, after *estate.Estate, altered *altered, rosters [2]*gate.Roster) map[estate.Principal]bool {
	if len(before.People)+len(after.People) < 2*Few || before.Tree != after.Tree || before.Zone.Name() != after.Zone.Name() || before.Edition != after.Edition ||
		len(altered.separations)+len(altered.systems)+len(altered.kinds) > 0 {
		return nil
	}
	out := map[estate.Principal]bool{}
	both := [2]*estate.Estate{before, after}
	add := func(k int, list estate.Subjects) {
		for _, p := range rosters[k].Of(list) {
			out[p] = true
		}
	}
	altered.subjects(both, rosters, out)
	eachAltered(both, altered, func(k int, to estate.Subjects, _ estate.Resources) { add(k, to) })
	for k, e := range both { // whoever the tests are about is needed to run them
		for _, t := range e.Tests {
			add(k, t.Who)
			for _, l := range t.Levels {
				add(k, estate.Subjects{{Principal: l.Subject}})
			}
		}
	}
	return out
}

// subjects adds those who are others, or who are in other groups than before.
func (a *altered) subjects(both [2]*estate.Estate, rosters [2]*gate.Roster, to map[estate.Principal]bool) {
	for _, id := range a.people {
		to[estate.Principal{ID: id}] = true
	}
	for _, id := range a.services {
		to[estate.Principal{Kind: estate.IsService, ID: id}] = true
	}
	for _, id := range a.groups {
		for _, outer := range around(both, id) {
			changed(rosters[0].Group(outer), rosters[1].Group(outer), to)
		}
	}
}

// eachAltered visits the grants and blocks of both estates that are others, or that name a role or scope that is.
func eachAltered(both [2]*estate.Estate, altered *altered, visit func(k int, to estate.Subjects, on estate.Resources)) {
	roles := map[string]bool{}
	for _, id := range altered.roles {
		roles[id] = true
	}
	scopes := map[string]bool{}
	for _, id := range altered.scopes {
		scopes[id] = true
	}
	for k, e := range both {
		spread(roles, e.Roles, func(r *estate.Role, has func(string) bool) bool {
			return slices.ContainsFunc(r.Include, func(ref estate.Ref) bool { return has(ref.ID) })
		})
		names := func(list estate.Resources) bool {
			return slices.ContainsFunc(list, func(t estate.ResourceTerm) bool { return scopes[t.Scope] })
		}
		spread(scopes, e.Scopes, func(s *estate.Scope, _ func(string) bool) bool { return names(s.Resources) })
		for id, g := range e.Grants {
			if slices.Contains(altered.grants, id) || names(g.On) || slices.ContainsFunc(g.Roles, func(ref estate.Ref) bool { return roles[ref.ID] }) {
				visit(k, g.To, g.On)
			}
		}
		for id, b := range e.Blocks {
			if slices.Contains(altered.blocks, id) || names(b.On) {
				visit(k, b.To, b.On)
			}
		}
	}
}

// concerned gives the lists of resources of which one must cover what may come for anybody's access to it to differ; nil where it may anywhere.
func concerned(before, after *estate.Estate, altered *altered, rosters [2]*gate.Roster) *[2][]estate.Resources {
	if before.Zone.Name() != after.Zone.Name() || before.Edition != after.Edition || len(altered.separations)+len(altered.kinds) > 0 {
		return nil
	}
	for _, id := range altered.systems {
		if was, is := before.Systems[id], after.Systems[id]; was == nil || is == nil || was.Kind.ID != is.Kind.ID {
			return nil
		}
	}
	both := [2]*estate.Estate{before, after}
	for _, e := range both {
		for _, s := range e.Separations {
			if s.Session {
				return nil // what is granted in one place tells which sessions there are, and so what may be done in another
			}
		}
	}
	out := &[2][]estate.Resources{}
	eachAltered(both, altered, func(k int, _ estate.Subjects, on estate.Resources) { out[k] = append(out[k], on) })
	if len(altered.people)+len(altered.services)+len(altered.groups) == 0 {
		return out
	}
	if len(before.People)+len(after.People) >= 2*Few {
		return nil // the pair looks at the grants alone that concern whom it is about
	}
	others := map[estate.Principal]bool{}
	altered.subjects(both, rosters, others)
	for k, e := range both {
		names := func(to estate.Subjects) bool {
			return slices.ContainsFunc(rosters[k].Of(to), func(p estate.Principal) bool { return others[p] })
		}
		for _, g := range e.Grants {
			if names(g.To) {
				out[k] = append(out[k], g.On)
			}
		}
		for _, b := range e.Blocks {
			if names(b.To) {
				out[k] = append(out[k], b.On)
			}
		}
	}
	return out
}

// rostersOf numbers the subjects of both estates, once where both have the same. That of the old one is given if it is known.
func rostersOf(before, after *estate.Estate, altered *altered, known *gate.Roster) [2]*gate.Roster {
	if known == nil {
		known = gate.NewRoster(before)
	}
	if len(altered.people)+len(altered.services)+len(altered.groups) == 0 {
		return [2]*gate.Roster{known, known}
	}
	return [2]*gate.Roster{known, known.For(after)}
}

// others lists the ids of a section that are new, gone or not the same any more.
func others[T any](before, after map[string]*T) (out []string) {
	if estate.SameMap(before, after) {
		return nil
	}
	gone := 0
	for id, was := range before {
		is := after[id]
		if is == nil {
			gone++
		}
		if is != was && (is == nil || !same(was, is)) {
			out = append(out, id)
		}
	}
	if len(after) == len(before)-gone {
		return out
	}
	for id := range after {
		if before[id] == nil {
			out = append(out, id)
		}
	}
	return out
}

// spread adds those that name any of the ids already there, until none does.
func spread[T any](ids map[string]bool, section map[string]*T, names func(*T, func(string) bool) bool) {
	if len(ids) == 0 {
		return
	}
	for grown := true; grown; {
		grown = false
		for id, entry := range section {
			if !ids[id] && names(entry, func(id string) bool { return ids[id] }) {
				ids[id], grown = true, true
			}
		}
	}
}

// around lists a group and those it stands in, in either estate.
func around(both [2]*estate.Estate, id string) []string {
	ids := map[string]bool{id: true}
	for _, e := range both {
		spread(ids, e.Groups, func(g *estate.Group, has func(string) bool) bool {
			return slices.ContainsFunc(g.Members, func(t estate.SubjectTerm) bool { return t.Kind == estate.IsGroup && has(t.ID) })
		})
	}
	var out []string
	for id := range ids {
		out = append(out, id)
	}
	return out
}

// changed adds those who are in one list and not in the other.
func changed(was, is []estate.Principal, out map[estate.Principal]bool) {
	in := map[estate.Principal]int{}
	for _, p := range was {
		in[p] |= 1
	}
	for _, p := range is {
		in[p] |= 2
	}
	for p, k := range in {
		if k != 3 {
			out[p] = true
		}
	}
}

// Others gives the entries of either estate that the other does not have, as estates of nothing else.
func (e *Effect) Others() (before, after *estate.Estate) {
	a, b := estate.New(), estate.New()
	for _, x := range []*estate.Estate{a, b} {
		x.Kinds, x.Tree = map[string]*estate.Kind{}, &estate.Tree{}
	}
	pick(e.altered.people, e.Before.People, e.After.People, a.People, b.People)
	pick(e.altered.services, e.Before.Services, e.After.Services, a.Services, b.Services)
	pick(e.altered.groups, e.Before.Groups, e.After.Groups, a.Groups, b.Groups)
	pick(e.altered.roles, e.Before.Roles, e.After.Roles, a.Roles, b.Roles)
	pick(e.altered.scopes, e.Before.Scopes, e.After.Scopes, a.Scopes, b.Scopes)
	pick(e.altered.grants, e.Before.Grants, e.After.Grants, a.Grants, b.Grants)
	pick(e.altered.blocks, e.Before.Blocks, e.After.Blocks, a.Blocks, b.Blocks)
	pick(e.altered.separations, e.Before.Separations, e.After.Separations, a.Separations, b.Separations)
	pick(e.altered.delegations, e.Before.Delegations, e.After.Delegations, a.Delegations, b.Delegations)
	pick(e.altered.tests, e.Before.Tests, e.After.Tests, a.Tests, b.Tests)
	pick(e.altered.guarantees, e.Before.Guarantees, e.After.Guarantees, a.Guarantees, b.Guarantees)
	return a, b
}

func pick[T any](ids []string, before, after, was, is map[string]*T) {
	for _, id := range ids {
		if x := before[id]; x != nil {
			was[id] = x
		}
		if x := after[id]; x != nil {
			is[id] = x
		}
	}
}
