package verify

import (
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/differing"
)

var atMost = &Kind{
	Name: "at-most", Doc: "no more people may",
	Takes: TakesNumber, Together: true,
	find: tooMany,
	forbids: func(says *estate.Guarantee, _ map[estate.Principal]bool, who []estate.Principal) (estate.Principal, bool) {
		people := 0
		return first(who, func(p estate.Principal) bool {
			if p.Kind == estate.IsPerson {
				people++
			}
			return people > says.Count
		})
	},
}

// tooMany looks for more people who may anything than there may be.
func tooMany(s search) (out *violation, err error) {
	found := map[estate.Principal]bool{}
	var claims []claim
	isPerson := func(who estate.Principal) bool { return who.Kind == estate.IsPerson }
	err = s.each(isPerson, differing.First, func(a differing.Access) bool {
		for _, who := range a.Subjects {
			if who.Kind == estate.IsPerson && !found[who] {
				found[who] = true
				claims = append(claims, claim{who, a.Operation, a.Piles[0], a.Possible})
				if len(claims) > s.says.Count {
					out = &violation{claims: claims}
					return false
				}
			}
		}
		return true
	})
	return out, err
}
