package placemap

import (
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/opset"
)

// Up to so many listed resources, or one in so many of them all, it pays to look at them anew, by a few lists.
const (
	fewInPart = 256
	partOfAll = 8
)

// Part gives a map of some lists and marks alone, which knows the listed resources alone that are near; nil where those
// are many. Their groups are those of these resources.
func (p *Map) Part(lists []estate.Resources, marks []estate.Address, near *Near) *Map {
	return partOf(lists, marks, near, p.Traits.Classes, p.keyOf)
}

// PartOf is Part of the estate of what is near.
func PartOf(lists []estate.Resources, marks []estate.Address, near *Near, classes *opset.Classes) *Map {
	return partOf(lists, marks, near, classes, ResourcesKey)
}

func partOf(lists []estate.Resources, marks []estate.Address, near *Near, classes *opset.Classes,
	keyOf func(estate.Resources) string) *Map {
	in := near.rows()
	if in == nil {
		return nil
	}
	x, _ := takeApart(near.estate, lists, marks, keyOf)
	x.in = in
	x.Spots = make([]Spot, len(in))
	x.locate(func(row int, mark uint32) { x.Spots[row].Mark = mark })
	x.inherit(classes)
	x.Traits.init(x, classes)
	x.Traits.learn(x)
	return x
}

// Partial says that the map knows some of the listed resources alone.
func (p *Map) Partial() bool { return p.in != nil }

// KnowsRow says that the map knows the listed resource of a row.
func (p *Map) KnowsRow(row int) bool { return p.in == nil || p.in[row] }
