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
}
