package gate

import (
	"iter"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/membership"
	"hiddengate/internal/gate/placemap"
)

// Covers says whether a list of resources selects the resource.
func (g *Gate) Covers(list estate.Resources, r *estate.Resource) bool {
	return placemap.Covers(g.estate, list, r)
}

// CoversTerm says whether a term fits the resource, whatever its `not`.
func (g *Gate) CoversTerm(t *estate.ResourceTerm, r *estate.Resource) bool {
	return placemap.CoversTerm(g.estate, t, r)
}

// Selects says whether a list of subjects selects the subject.
func (g *Gate) Selects(list estate.Subjects, p estate.Principal) bool {
	n := g.NumberOf(p)
	return n >= 0 && g.Lists.Selects(list, n)
}

// Members lists whom a list of subjects selects, people first, by id.
func (g *Gate) Members(list estate.Subjects) []estate.Principal {
	return g.Roster.Of(list)
}

// EachMember tells them one by one.
func (g *Gate) EachMember(list estate.Subjects) iter.Seq[estate.Principal] {
	return func(yield func(estate.Principal) bool) {
		for _, n := range g.Lists.Selected(list) {
			if !yield(g.SubjectOf(int(n))) {
				return
			}
		}
	}
}

// CountMembers counts them.
func (g *Gate) CountMembers(list estate.Subjects) int { return len(g.Lists.Selected(list)) }

// InGroup says whether the subject is a member of the group.
func (g *Gate) InGroup(p estate.Principal, id string) bool {
	n := g.NumberOf(p)
	return n >= 0 && membership.Has(g.Lists.Group(id), n)
}

// Subjects lists everyone the estate knows, people first, by id, anonymous last.
func (g *Gate) Subjects() []estate.Principal {
	out := make([]estate.Principal, len(g.All))
	for i := range out {
		out[i] = g.SubjectOf(i)
	}
	return out
}

// Owns says whether the subject owns what has this owner.
func (g *Gate) Owns(subject int, owner *estate.Principal) bool {
	switch {
	case owner == nil:
		return false
	case owner.Kind == estate.IsGroup:
		return membership.Has(g.Lists.Group(owner.ID), subject)
	}
	return *owner == g.SubjectOf(subject)
}
