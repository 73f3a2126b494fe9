package verify

import (
	"hiddengate/internal/estate"
)

var only = &Kind{
	Name: "only", Doc: "nobody but these may",
	Takes: TakesSubjects, Excepts: true,
	find: func(s search) (*violation, error) {
		named := s.members(s.says.Subjects)
		return s.any(func(who estate.Principal) bool { return !named[who] })
	},
	forbids: func(_ *estate.Guarantee, named map[estate.Principal]bool, who []estate.Principal) (estate.Principal, bool) {
		return first(who, func(p estate.Principal) bool { return !named[p] })
	},
}
