package placemap

import (
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/opset"
)

// Described gives the spot of a resource that no inventory has, as it is described, whatever the estate would make of
// its address.
func (p *Map) Described(r *estate.Resource, classes *opset.Classes) Spot {
	at := Spot{Class: classes.Number(r.System.Kind.ID, r.Type)}
	row := -1
	if p.Estate.Systems[r.System.ID] != nil {
		at.Mark = p.markOf(r.Address)
		row = p.Estate.Tree.Find(r.System.ID)
	} else {
		at.Mark = p.phantomOf(r.Address)
	}
	if len(p.Complex) == 0 {
		return at
	}
	var patterns uint32
	if row >= 0 {
		if a := p.machine(p.Estate.Tree.Rows[row].System); a != nil {
			patterns = a.walk(r.Address.Path)
		} else {
			patterns = p.sets.Number(nil)
		}
	} else {
		patterns = NewAutomaton(r.System, p.Estate.Folds(r.System), p.patterns, p.sets).walk(r.Address.Path)
	}
	at.Trait = p.judge(r, patterns)
	return at
}

// markOf gives the nearest mark at or above an address that is not listed, of a system that is.
func (p *Map) markOf(a estate.Address) uint32 {
	at, _ := p.Unlisted(a.String())
	return at.Mark
}

// phantomOf gives the nearest mark at or above an address of a system that is not there.
func (p *Map) phantomOf(a estate.Address) uint32 {
	for ok := true; ok; a, ok = a.Parent() {
		if i := p.phantoms.Find(a.String()); i >= 0 {
			return p.phantom[i]
		}
	}
	return 0
}

// CoversAny says whether a list, by number, covers any listed resource.
func (p *Map) CoversAny(n int) bool {
	for range p.Covered(n) {
		return true
	}
	return false
}

// Within says whether a list, by number, covers nothing, now and later, that another does not; in doubt it says no.
func (p *Map) Within(one, other int) bool {
	if one == other {
		return true
	}
	a, b := &p.Lists[one], &p.Lists[other]
	everything := len(b.Spans) == 1 && b.Spans[0] == Span{0, uint32(len(p.Marks) + 1)}
	if a.Trait >= 0 && !everything {
		return false
	}
	for _, s := range a.Spans {
		if !slices.ContainsFunc(b.Spans, func(t Span) bool { return t.From <= s.From && s.To <= t.To }) {
			return false
		}
	}
	return true
}
