package logbook

import (
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// Concerns says whether an event is about somebody's access.
func (t *Entry) Concerns(subject string) bool {
	if t.Request != nil {
		return t.Asker == subject
	}
	if t.Policy == nil {
		return false
	}
	named := func(text string) bool {
		return slices.Contains(strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(" ,;()", r) }),
			subject)
	}
	return slices.ContainsFunc(t.Policy.Entries, named) ||
		slices.ContainsFunc(t.Effect(), func(l EffectLine) bool { return named(l.Who) })
}

// Names says whether an event is about an entry, as in `grant books`, or by its id alone.
func (t *Entry) Names(entry string) bool {
	is := func(one string) bool {
		_, id, _ := strings.Cut(one, " ")
		return one == entry || id == entry
	}
	return t.Request != nil && is("grant "+t.Request.Grant) || t.Policy != nil && slices.ContainsFunc(t.Policy.Entries, is)
}

// placeIn gives the address in the words for a place.
func placeIn(words string) string {
	words, _, _ = strings.Cut(strings.TrimPrefix(words, "what is inside "), " ")
	return words
}

// Touches says whether an event is about access in a place or inside it.
func (t *Entry) Touches(g *gate.Gate, place estate.Address) bool {
	in := func(text string) bool {
		a, err := estate.ParseAddress(text)
		return err == nil && (a.Inside(place) || place.Inside(a))
	}
	if t.Request != nil {
		if t.Request.Within != "" {
			return in(t.Request.Within)
		}
		gr := g.Estate().Grants[t.Request.Grant]
		r, err := g.Place(place)
		return gr != nil && err == nil && g.Covers(gr.On, r)
	}
	return slices.ContainsFunc(t.Effect(), func(l EffectLine) bool {
		return slices.ContainsFunc(l.Where, func(where string) bool {
			return in(placeIn(where))
		})
	})
}

// Within says whether an event is about access to something that a list covers.
func (t *Entry) Within(g *gate.Gate, list estate.Resources) bool {
	e := g.Estate()
	for _, term := range list {
		if term.Scope != "" && e.Scopes[term.Scope] == nil {
			return false // what the policy does not name holds nothing
		}
	}
	covered := func(text string) bool {
		a, err := estate.ParseAddress(text)
		if err != nil {
			return false
		}
		r, err := g.Place(a)
		return err == nil && g.Covers(list, r)
	}
	if t.Request != nil {
		if t.Request.Within != "" && covered(t.Request.Within) {
			return true
		}
		gr := e.Grants[t.Request.Grant]
		if gr == nil {
			return false
		}
		within, err := estate.ParseAddress(t.Request.Within)
		for r := range e.Tree.All() {
			if g.Covers(list, r) && g.Covers(gr.On, r) && (t.Request.Within == "" || err == nil && r.Address.Inside(within)) {
				return true
			}
		}
		return false
	}
	for _, l := range t.Effect() {
		for _, where := range l.Where {
			if covered(placeIn(where)) {
				return true
			}
		}
	}
	return false
}
