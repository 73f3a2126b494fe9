package placemap

import (
	"slices"

	"hiddengate/internal/estate"
)

// term is a term of a list with its pattern by number: which patterns cover a resource the automaton knows.
type term struct {
	*estate.ResourceTerm
	in    int    // the number of its pattern; -1: it has none
	scope []term // what its scope says
}

// How a pattern meets a resource.
const (
	covers = 1 << iota
	matches
)

// compileTerms gives the terms of a list. numbers are those of patterns; scopes are those that are compiled already.
func compileTerms(e *estate.Estate, l estate.Resources, numbers map[string]uint32, scopes map[string][]term) []term {
	out := make([]term, len(l))
	for i := range l {
		out[i] = term{ResourceTerm: &l[i], in: -1}
		if id := l[i].Scope; id != "" {
			if scopes[id] == nil {
				scopes[id] = compileTerms(e, e.Scopes[id].Resources, numbers, scopes)
			}
			out[i].scope = scopes[id]
		}
		if l[i].In != nil {
			out[i].in = int(numbers[l[i].In.String()])
		}
	}
	return out
}

// covers is Covers, for the resource whose patterns are marked.
func (t *Traits) covers(list []term, r *estate.Resource) bool {
	in := false
	for i := range list {
		one := &list[i]
		if (!in || one.Not) && t.coversTerm(one, r) {
			if one.Not {
				return false
			}
			in = true
		}
	}
	return in
}

func (t *Traits) coversTerm(one *term, r *estate.Resource) bool {
	switch {
	case one.Everything:
		return true
	case one.Scope != "":
		return t.covers(one.scope, r)
	case one.in >= 0 && one.Exactly && t.covering[one.in]&matches == 0, one.in >= 0 && t.covering[one.in] == 0:
		return false
	}
	return selects(t.Estate, one.ResourceTerm, r)
}

// selects says whether a term fits a resource by all but where it stands.
func selects(e *estate.Estate, t *estate.ResourceTerm, r *estate.Resource) bool {
	if t.Kinds != nil && !slices.ContainsFunc(t.Kinds, e.Offer(r.System.Kind.ID).Is) {
		return false
	}
	if t.Types != nil && !slices.Contains(t.Types, r.Type) {
		return false
	}
	if t.Owners != nil && (r.Owner == nil || !slices.Contains(t.Owners, *r.Owner)) {
		return false
	}
	return estate.Fits(t.Tags, r.Tags)
}
