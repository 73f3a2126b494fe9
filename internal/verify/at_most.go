package verify

import (
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/differing"
)

var atMost = &Kind{
	Name: "at-most", Doc: "no more people may",
	Takes: TakesNumber, Together: true,
	find: tooMany, Headcount: true,
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
	if people := len(s.cells.Estate().People); people <= s.says.Count {
		return nil, nil
	}
	claims, err := s.people(s.says.Count)
	if len(claims) > s.says.Count {
		out = &violation{claims: claims}
	}
	return out, err
}

// people finds people who may anything, all of them or one more than so many.
func (s *search) people(most int) (claims []claim, err error) {
	found := map[estate.Principal]bool{}
	isPerson := func(who estate.Principal) bool { return who.Kind == estate.IsPerson }
	err = s.each(isPerson, differing.First, func(a differing.Access) bool {
		for _, who := range a.Subjects {
			if who.Kind == estate.IsPerson && !found[who] {
				found[who] = true
				claims = append(claims, claim{who, a.Operation, a.Piles.First(), a.Possible})
				if len(claims) > most {
					return false
				}
			}
		}
		return true
	})
	return claims, err
}
