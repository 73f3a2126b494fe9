package gate

import (
	"slices"

	"hiddengate/internal/estate"
)

// Selection is how a list of subjects selects one: by name, as everyone, or through groups. The zero value is no
// selection.
type Selection struct {
	Subject  estate.Principal // it is named itself
	Groups   []string         // from the one in the list to the one that has the subject
	Match    []estate.Tag     // the tags by which the last of the groups has it
	Everyone bool             // the list, or the last of the groups, has everyone
}

// Selects says whether there is one.
func (s *Selection) Selects() bool {
	return s.Everyone || len(s.Groups) > 0 || s.Subject != estate.Principal{}
}

// Who says how a list selects the subject.
func (g *Gate) Who(list estate.Subjects, p estate.Principal) (out Selection) {
	if !g.Selects(list, p) {
		return out
	}
	for _, t := range list {
		if t.Not {
			continue
		}
		switch t.Kind {
		case estate.IsEveryone:
			if p.Kind != estate.IsAnonymous {
				return Selection{Everyone: true}
			}
		case estate.IsGroup:
			if g.InGroup(p, t.ID) {
				g.throughGroups(t.ID, p, &out)
				return out
			}
		default:
			if t.Principal == p {
				return Selection{Subject: p}
			}
		}
	}
	return out
}

// throughGroups leads from a group to its member.
func (g *Gate) throughGroups(id string, p estate.Principal, out *Selection) {
	group := g.estate.Groups[id]
	out.Groups = append(out.Groups, id)
	for _, t := range group.Members {
		if !t.Not && t.Principal == p {
			return
		}
	}
	for _, t := range group.Members {
		if !t.Not && t.Kind == estate.IsGroup && g.InGroup(p, t.ID) {
			g.throughGroups(t.ID, p, out)
			return
		}
	}
	if tags := g.All[g.NumberOf(p)].Tags; group.Match != nil && estate.Fits(group.Match, tags) {
		for _, m := range group.Match {
			out.Match = append(out.Match, estate.Tag{Key: m.Key, Value: tags.Get(m.Key)})
		}
		return
	}
	out.Everyone = true
}

// through gives the role of a grant that has the operation, and the included ones by which it has it.
func (g *Gate) through(gr *estate.Grant, operation string) (path []string) {
	at := slices.IndexFunc(gr.Roles, func(ref estate.Ref) bool { return g.RoleHas(ref.ID, operation) })
	for next := gr.Roles; at >= 0; at = slices.IndexFunc(next,
		func(ref estate.Ref) bool { return g.RoleHas(ref.ID, operation) }) {
		role := g.Roles[next[at].ID]
		path = append(path, next[at].ID)
		if role.Allow.Fit(g.estate.Operations[operation], g.estate.Edition) {
			break
		}
		next = role.Include
	}
	return path
}

// operationTerm gives the entry by which a list has an operation.
func operationTerm(list estate.Operations, o *estate.Operation, edition int) (out estate.OperationTerm) {
	for _, t := range list {
		if !t.Not && t.Fits(o, edition) {
			return t
		}
	}
	return out
}

// where gives the entry by which a list selects the resource, and those of the scopes that it leads through.
func (g *Gate) where(list estate.Resources, r *estate.Resource) (out []estate.ResourceTerm) {
	if !g.Covers(list, r) {
		return nil
	}
	for i, t := range list {
		if t.Not || !g.CoversTerm(&list[i], r) {
			continue
		}
		out = []estate.ResourceTerm{t}
		if t.Scope != "" {
			out = append(out, g.where(g.estate.Scopes[t.Scope].Resources, r)...)
		}
		return out
	}
	return nil
}
