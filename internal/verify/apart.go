package verify

import (
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/differing"
)

var apart = &Kind{
	Name: "apart", Doc: "on no resource may both groups",
	Takes: TakesSubjects, Two: "groups", Example: "[group:ONE, group:OTHER]", Together: true,
	find: meeting,
}

// meeting looks for a resource on which members of both groups may anything.
func meeting(s search) (out *violation, err error) {
	groups := [2]map[estate.Principal]bool{s.members(s.says.Subjects[:1]), s.members(s.says.Subjects[1:])}
	found := make([][2]*claim, s.cells.Numbers())
	either := func(who estate.Principal) bool { return groups[0][who] || groups[1][who] }
	err = s.each(either, differing.Whole, func(a differing.Access) bool {
		for k, members := range groups {
			i := slices.IndexFunc(a.Subjects, func(who estate.Principal) bool { return members[who] })
			if i < 0 {
				continue
			}
			for pile := range a.Piles.All() {
				pair := &found[pile.Number()]
				if pair[k] == nil {
					pair[k] = &claim{a.Subjects[i], a.Operation, pile, a.Possible}
				}
				if pair[0] != nil && pair[1] != nil {
					out = &violation{claims: []claim{*pair[0], *pair[1]}}
					return false
				}
			}
		}
		return true
	})
	return out, err
}
