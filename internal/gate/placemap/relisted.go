package placemap

import (
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/lookup"
)

// MostRelisted is in up to how many places resources are looked at anew where an estate lists others.
const MostRelisted = 64

// Relisted gives the map of an estate that lists other resources in a few places, or has systems more or less, and
// has the same kinds and scopes; nil where there are many such places, or a system is of another kind. What lies
// elsewhere is taken over.
func (p *Map) Relisted(e *estate.Estate) *Map {
	was, is := p.Estate.Tree, e.Tree
	if p.Partial() || !e.TermsAs(p.Estate) || slices.ContainsFunc(is.Systems, func(s *estate.System) bool {
		before := p.Estate.Systems[s.ID]
		return before != nil && before.Kind.ID != s.Kind.ID
	}) {
		return nil
	}
	places, all := is.DiffersFrom(was, MostRelisted)
	if !all {
		return nil
	}
	slices.SortFunc(places, estate.Address.Compare)
	x := p.Fork()
	x.groups, x.index, x.knowing, x.Phantoms, x.phantom = nil, nil, nil, nil, nil
	x.Estate, x.tree, x.values, x.owner = e, is, nil, nil
	if x.Classes = p.Classes.For(e); len(p.Complex) > 0 {
		x.number(is)
		x.forgetMachines()
	}
	x.offers = nil
	for _, s := range is.Systems {
		offer := e.Offer(s.Kind.ID)
		x.offers = append(x.offers, offer)
		for _, name := range offer.Placed() {
			x.Classes.Number(s.Kind.ID, name) // so that deciding adds none
		}
	}
	x.Spots = lookup.Large[Spot](0, is.Len())
	next := [2]int{} // of the old tree and the new one, the rows that come next
	for _, a := range places {
		if row := is.Find(a.String()); row >= 0 {
			x.Spots = append(x.Spots, p.Spots[next[0]:next[0]+row-next[1]]...)
			next[0] += row - next[1]
			for next[1] = row; next[1] < is.End(row); next[1]++ {
				x.Spots = append(x.Spots, x.spotOf(next[1]))
			}
		}
		if row := was.Find(a.String()); row >= 0 {
			x.Spots = append(x.Spots, p.Spots[next[0]:row]...)
			next[1] += row - next[0]
			next[0] = was.End(row)
		}
	}
	x.Spots = append(x.Spots, p.Spots[next[0]:]...)
	x.locate(func(int, uint32) {})
	return x
}

// spotOf finds the spot of a listed resource, where that of the one above is known.
func (p *Map) spotOf(row int) Spot {
	r := p.tree.At(row)
	at := Spot{Class: p.Classes.Of(p.tree.Rows[row].System, p.tree.Rows[row].Type)}
	if mark, is := p.Marks[r.Address]; is {
		at.Mark = mark
	} else if up := p.tree.Rows[row].Parent; up > 0 {
		at.Mark = p.Spots[up-1].Mark
	}
	if len(p.Complex) > 0 {
		key := traitKey{class: at.Class, values: p.values[p.tree.Rows[row].Tags], owner: p.owner[p.tree.Rows[row].Owner]}
		if a := p.machine(p.tree.Rows[row].System); a != nil {
			key.patterns = a.walk(r.Address.Path)
		}
		trait, is := p.known[key]
		if !is {
			trait = p.judge(r, key.patterns)
			p.known[key] = trait
		}
		at.Trait = trait
	}
	return at
}
