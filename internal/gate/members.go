package gate

import (
	"slices"

	"hiddengate/internal/estate"
)

// group gives a group's members: those listed (of a group, those left after its own `not` entries) and all whom
// `match` fits, less its own `not` entries.
func (g *Gate) group(id string) set {
	if s, ok := g.groups[id]; ok {
		return s
	}
	group := g.estate.Groups[id]
	in := newSet(len(g.subjects))
	if group.Match != nil {
		for i, s := range g.subjects {
			if s.Subject != estate.AnonymousSubject && fits(group.Match, s.Tags) {
				in.add(i)
			}
		}
	}
	s := g.gather(in, group.Members)
	g.groups[id] = s
	return s
}

// selected gives the subjects that a list selects.
func (g *Gate) selected(list estate.Subjects) set {
	return g.gather(newSet(len(g.subjects)), list)
}

// gather adds what the list gathers to in, and then takes away what its `not` entries say.
func (g *Gate) gather(in set, list estate.Subjects) set {
	out := newSet(len(g.subjects))
	for _, t := range list {
		to := in
		if t.Not {
			to = out
		}
		switch t.Kind {
		case estate.IsGroup:
			to.unite(g.group(t.ID))
		case estate.IsEveryone:
			for i := range len(g.subjects) - 1 { // anonymous is the last
				to.add(i)
			}
		default:
			to.add(g.index[t.Principal].number)
		}
	}
	in.remove(out)
	return in
}

// fits says whether tags have one of the values for every key.
func fits(match []estate.Match, tags estate.Tags) bool {
	for _, m := range match {
		if v := tags.Get(m.Key); v == "" || !slices.Contains(m.Values, v) {
			return false
		}
	}
	return true
}

// Selects says whether a list of subjects selects the subject.
func (g *Gate) Selects(list estate.Subjects, p estate.Principal) bool {
	s := g.index[p]
	return s != nil && g.selected(list).has(s.number)
}

// Members lists whom a list of subjects selects, people first, by id.
func (g *Gate) Members(list estate.Subjects) []estate.Principal {
	var out []estate.Principal
	g.selected(list).each(func(i int) { out = append(out, g.subjects[i].principal) })
	return out
}

// InGroup says whether the subject is a member of the group.
func (g *Gate) InGroup(p estate.Principal, id string) bool {
	s := g.index[p]
	return s != nil && g.groups[id].has(s.number)
}

// Subjects lists everyone the estate knows, people first, by id, anonymous last.
func (g *Gate) Subjects() []estate.Principal {
	out := make([]estate.Principal, len(g.subjects))
	for i, s := range g.subjects {
		out[i] = s.principal
	}
	return out
}

// owns says whether the subject owns what has this owner.
func (g *Gate) owns(s *subject, owner *estate.Principal) bool {
	switch {
	case owner == nil:
		return false
	case owner.Kind == estate.IsGroup:
		return g.groups[owner.ID].has(s.number)
	}
	return *owner == s.principal
}
