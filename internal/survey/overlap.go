package survey

import (
	"cmp"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/differing"
)

// Overlap is what two scopes share of what is listed.
type Overlap struct {
	One, Other         string // the one has no fewer resources than the other
	Both, Rest, Others int    // how many are in both, in the one alone and in the other alone
	First              string // the first that they share
}

// Overlaps tells which scopes share something, by what they share most. Its cost is piles times scopes, where nothing
// tells the resources of a pile apart.
func Overlaps(e *estate.Estate) ([]Overlap, error) {
	scopes := estate.Sorted(e.Scopes)
	var lists []estate.Resources
	for _, s := range scopes {
		lists = append(lists, s.Resources)
	}
	cells, err := differing.CompileCells(e,
		differing.Scene{Only: map[estate.Principal]bool{}, Everywhere: true, Places: lists})
	if err != nil {
		return nil, err
	}
	size := make([]int, len(scopes))
	shared := map[[2]int]*Overlap{}
	for _, pile := range cells.Piles() {
		if !pile.Listed() {
			continue
		}
		in := cells.In(pile, lists)
		for k, i := range in {
			size[i] += pile.Len()
			for _, j := range in[:k] {
				o := shared[[2]int{j, i}]
				if o == nil {
					o = &Overlap{First: pile.First()}
					shared[[2]int{j, i}] = o
				}
				if e.Tree.Find(pile.First()) < e.Tree.Find(o.First) {
					o.First = pile.First()
				}
				o.Both += pile.Len()
			}
		}
	}
	var out []Overlap
	for at, o := range shared {
		one, other := at[0], at[1]
		if size[other] > size[one] {
			one, other = other, one
		}
		o.One, o.Other = scopes[one].ID, scopes[other].ID
		o.Rest, o.Others = size[one]-o.Both, size[other]-o.Both
		out = append(out, *o)
	}
	slices.SortFunc(out, func(a, b Overlap) int {
		return cmp.Or(cmp.Compare(b.Both, a.Both), cmp.Compare(a.One, b.One), cmp.Compare(a.Other, b.Other))
	})
	return out, nil
}
