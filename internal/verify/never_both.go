package verify

import (
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/differing"
)

var neverBoth = &Kind{
	Name: "never-both", Doc: "nobody may do both",
	Takes: TakesOperations, Two: "operations", Example: "[OPERATION, OPERATION]", WithoutMay: true,
	Options: []string{"same-resource"},
	find:    bothOf,
}

// bothOf looks for somebody who may both operations, on one resource or anywhere.
func bothOf(s search) (out *violation, err error) {
	edition := s.gate.Estate().Edition
	first, second := estate.Operations{s.says.Both[0]}, estate.Operations{s.says.Both[1]}
	s.cells.Choose(func(o *estate.Operation) bool { return first.Fit(o, edition) || second.Fit(o, edition) }, s.says.On)
	type seen [2]*claim
	var class estate.Principal
	found := map[int]*seen{}
	known := map[estate.Principal]map[int]*seen{} // where somebody comes more than once
	err = s.each(nil, differing.Whole, func(a differing.Access) bool {
		if a.Subjects[0] != class {
			class = a.Subjects[0]
			if s.steps {
				if found = known[class]; found == nil {
					found = map[int]*seen{}
					known[class] = found
				}
			} else {
				clear(found)
			}
		}
		o := s.gate.Estate().Operations[a.Operation]
		piles := a.Piles
		if !s.says.SameResource {
			piles = piles.First().Alone()
		}
		for pile := range piles.All() {
			at := 0
			if s.says.SameResource {
				at = pile.Number()
			}
			pair := found[at]
			if pair == nil {
				pair = &seen{}
				found[at] = pair
			}
			for k, fits := range []bool{first.Fit(o, edition), second.Fit(o, edition)} {
				if fits && pair[k] == nil {
					pair[k] = &claim{class, a.Operation, pile, a.Possible}
				}
			}
			if pair[0] != nil && pair[1] != nil {
				out = &violation{claims: []claim{*pair[0], *pair[1]}}
				return false
			}
		}
		return true
	})
	return out, err
}
