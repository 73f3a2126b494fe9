package gate

import (
	"maps"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/newplace"
	"hiddengate/internal/gate/placemap"
)

// Reached is what a list of resources covers in a place: what is listed, and such as a system judges though no
// inventory lists it, one for each way in which the list and those of grants tell it apart.
type Reached struct {
	gate     *Gate
	on       estate.Resources
	inside   func(estate.Address) bool // the place
	rows     []int                     // of what is listed, in tree order
	unlisted []estate.Address          // one for each way
	spots    []placemap.Spot           // of both, by their marks
}

// Reached finds what a list of resources covers in a place and inside it; anywhere, where the place is zero. It goes
// through what is listed there once; each question after that looks at what differs.
func (g *Gate) Reached(on estate.Resources, place estate.Address) *Reached {
	e := g.estate
	place = e.Canonical(place)
	inside := func(a estate.Address) bool { return place == (estate.Address{}) || a.Inside(place) }
	out := &Reached{gate: g, on: on, inside: inside}
	spots := map[placemap.Spot]bool{}
	first, last := 0, e.Tree.Len()
	if place != (estate.Address{}) { // all inside it comes right behind it
		if first = e.Tree.Find(place.String()); first < 0 {
			first = last
		}
	}
	for i := first; i < last; i++ {
		r := e.Tree.At(i)
		if !inside(r.Address) {
			break
		}
		if g.Covers(on, r) {
			spots[g.Places.Spots[i]] = true
			out.rows = append(out.rows, i)
		}
	}
	lists := []estate.Resources{on}
	if pattern, err := estate.ParsePattern(place.String()); err == nil {
		lists = append(lists, estate.Resources{{In: &pattern}})
	}
	for _, gr := range g.Grants {
		lists = append(lists, gr.On)
	}
	for _, address := range newplace.ForLists(e, lists) {
		if inside(address) && g.Covers(on, e.Unlisted(address)) {
			spot, _ := g.Places.Unlisted(address.String())
			spots[spot] = true
			out.unlisted = append(out.unlisted, address)
		}
	}
	out.spots = slices.SortedFunc(maps.Keys(spots), byMark)
	return out
}

// In says whether any of it is at an address, or inside it.
func (r *Reached) In(a estate.Address) bool {
	e := r.gate.estate
	a = e.Canonical(a)
	if e.Systems[a.System] == nil {
		return false
	}
	row := e.Tree.Find(a.String())
	if row < 0 && e.Systems[a.System].Judge && r.inside(a) && r.gate.Covers(r.on, e.Unlisted(a)) {
		return true
	}
	if row >= 0 { // all inside it comes right behind it
		if i, _ := slices.BinarySearch(r.rows, row); i < len(r.rows) && e.Tree.At(r.rows[i]).Address.Inside(a) {
			return true
		}
	}
	return slices.ContainsFunc(r.unlisted, func(u estate.Address) bool { return u.Inside(a) })
}

// By says whether a grant covers any of it.
func (r *Reached) By(gr *estate.Grant) (any bool) {
	if compiled := r.gate.GrantOf(gr.ID); compiled != nil {
		r.gate.covered(compiled.List, r.spots, func(placemap.Spot) bool {
			any = true
			return false
		})
	}
	return any
}

// Gives lists the operations, by name, that a grant's roles have and that apply to any of it that the grant covers.
func (r *Reached) Gives(gr *estate.Grant) []*estate.Operation { return r.gate.givesAmong(gr, r.spots) }
