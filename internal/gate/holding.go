package gate

import (
	"slices"

	"hiddengate/internal/estate"
)

// Holding is who holds a role, in all and by system.
type Holding struct {
	All map[estate.Principal]bool
	In  map[string]map[estate.Principal]bool
}

// Holding lists the people and services who hold a role, by the grants of it that count for them.
func (g *Gate) Holding(role string, counts func(*estate.Grant, estate.Principal, *estate.Subject) bool) Holding {
	h := Holding{map[estate.Principal]bool{}, map[string]map[estate.Principal]bool{}}
	for _, gr := range g.estate.Grants {
		if !g.IsOf(gr, role) {
			continue
		}
		systems := g.Systems(gr.On)
		for p := range g.EachMember(gr.To) {
			s := g.estate.Subject(p)
			if s == nil || p.Kind == estate.IsAnonymous || !counts(gr, p, s) {
				continue
			}
			h.All[p] = true
			for _, id := range systems {
				if h.In[id] == nil {
					h.In[id] = map[estate.Principal]bool{}
				}
				h.In[id][p] = true
			}
		}
	}
	return h
}

// IsOf says whether a grant is of a role, or of one that includes it.
func (g *Gate) IsOf(grant *estate.Grant, role string) bool {
	return slices.ContainsFunc(grant.Roles, func(ref estate.Ref) bool { return g.Includes(ref.ID, role) })
}
