package verify

import (
	"hiddengate/internal/estate"
)

var never = &Kind{
	Name: "never", Doc: "none of these may",
	Takes: TakesSubjects, Denies: true,
	find: func(s search) (*violation, error) {
		named := s.members(s.says.Subjects)
		return s.any(func(who estate.Principal) bool { return named[who] })
	},
	forbids: func(_ *estate.Guarantee, named map[estate.Principal]bool, who []estate.Principal) (estate.Principal, bool) {
		return first(who, func(p estate.Principal) bool { return named[p] })
	},
}
