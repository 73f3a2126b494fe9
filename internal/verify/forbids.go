package verify

import (
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// Forbids finds among subjects one who, by a guarantee, must not do what it speaks of, where each of them can do it
// whatever else is so.
func Forbids(g *gate.Gate, says *estate.Guarantee, who []estate.Principal) (estate.Principal, bool) {
	for _, k := range Kinds {
		if k.Name != says.Kind || k.forbids == nil {
			continue
		}
		named := map[estate.Principal]bool{}
		for _, p := range g.Members(says.Subjects) {
			named[p] = true
		}
		return k.forbids(says, named, who)
	}
	return estate.Principal{}, false
}

func first(who []estate.Principal, is func(estate.Principal) bool) (estate.Principal, bool) {
	for _, p := range who {
		if is(p) {
			return p, true
		}
	}
	return estate.Principal{}, false
}
