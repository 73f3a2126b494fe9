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
}
