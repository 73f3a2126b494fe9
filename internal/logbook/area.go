package logbook

import (
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// Area tells which events are about access in some places, as the policy has them now.
type Area struct {
	gate    *gate.Gate
	list    estate.Resources
	named   []estate.Address                 // that the list names, there or not
	reached map[estate.Address]*gate.Reached // by the place within which it was looked
}

// NewArea gives the area of a list of resources. A scope that the policy does not name holds nothing.
func NewArea(g *gate.Gate, list estate.Resources) *Area {
	a := &Area{gate: g, reached: map[estate.Address]*gate.Reached{}}
	for _, t := range list {
		if t.Scope != "" && g.Estate().Scopes[t.Scope] == nil {
			continue
		}
		a.list = append(a.list, t)
		if t.In != nil && t.In.Plain() && !t.Not {
			a.named = append(a.named, g.Estate().Canonical(t.In.Address()))
		}
	}
	return a
}

// within gives what the list covers within a place; anywhere, where that is zero.
func (a *Area) within(place estate.Address) *gate.Reached {
	if a.reached[place] == nil {
		a.reached[place] = a.gate.Reached(a.list, place)
	}
	return a.reached[place]
}

// Has says whether an event is about access in the area. Where the event does not say in which places, it may be, and
// so it is.
func (a *Area) Has(t *Entry) bool {
	if t.Request != nil {
		if asks := t.Request.Credential; asks != nil {
			p := a.gate.Estate().Profiles[asks.Profile]
			return p != nil && a.in(p.Address())
		}
		return a.asked(t.Request.Grant, t.Request.Within)
	}
	if t.Pushed != nil {
		return a.in(estate.Address{System: t.Pushed.System})
	}
	if t.Published != nil {
		return a.in(estate.Address{System: t.Published.Authority})
	}
	if account := t.account(); account != "" {
		place, err := estate.ParseAddress(account)
		return err == nil && a.in(place)
	}
	effect := t.Effect()
	return effect.More > 0 || slices.ContainsFunc(effect.Lines, func(l EffectLine) bool {
		return slices.ContainsFunc(l.Where, a.told) || slices.ContainsFunc(l.MoreIn, a.told)
	})
}

// asked says whether a request is about the area: by what its grant covers in its place, or, where the grant is gone,
// by its place alone.
func (a *Area) asked(grant, within string) bool {
	var place estate.Address
	if within != "" {
		var err error
		if place, err = estate.ParseAddress(within); err != nil {
			return false
		}
	}
	if gr := a.gate.Estate().Grants[grant]; gr != nil && a.within(place).By(gr) {
		return true
	} else if gr == nil {
		return within != "" && a.in(place)
	}
	return slices.ContainsFunc(a.named, place.Inside)
}

// in says whether any of the area is at a place or inside it, or holds it.
func (a *Area) in(place estate.Address) bool {
	place = a.gate.Estate().Canonical(place)
	return slices.ContainsFunc(a.named, func(n estate.Address) bool { return place.Inside(n) || n.Inside(place) }) ||
		a.within(estate.Address{}).In(place)
}

// told says whether the words of an effect for a place, as change.Effect.Places gives them, tell of the area.
func (a *Area) told(words string) bool {
	place, err := placeIn(words)
	return err != nil || a.in(place)
}

// placeIn gives the place that the words of an effect are about.
func placeIn(words string) (estate.Address, error) {
	for _, before := range []string{"what is inside ", "whatever is added under "} {
		words = strings.TrimPrefix(words, before)
	}
	words, _, _ = strings.Cut(words, " (but not ")
	return estate.ParseAddress(strings.TrimSuffix(words, " itself"))
}
