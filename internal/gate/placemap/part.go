package placemap

import "hiddengate/internal/estate"

// Up to so many listed resources, or one in so many of them all, it pays to look at them anew, by a few lists.
const (
	fewInPart = 256
	partOfAll = 8
)

// Part gives a map of some lists and marks alone, which knows the listed resources alone that are near; nil where those
// are many. Their groups are those of these resources.
func (p *Map) Part(lists []estate.Resources, marks []estate.Address, near *Near) *Map {
	in := near.rows()
	if in == nil {
		return nil
	}
	x, _ := TakeApart(p.Estate, lists, marks)
	x.in = in
	x.Spots = make([]Spot, len(in))
	x.locate(func(row int, mark uint32) { x.Spots[row].Mark = mark })
	x.inherit(p.Traits.Classes)
	x.Traits.init(x, p.Traits.Classes)
	x.Traits.learn(x)
	return x
}

// Partial says that the map knows some of the listed resources alone.
func (p *Map) Partial() bool { return p.in != nil }

// has says whether a map knows the listed resource of a row.
func (p *Map) has(row int) bool { return p.in == nil || p.in[row] }
