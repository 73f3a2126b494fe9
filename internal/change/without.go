package change

import (
	"maps"
	"slices"

	"hiddengate/internal/estate"
)

// Without gives an estate as it would be if a grant were not there, nobody had a role, or nobody were in a group. Other sections stay as they are.
func Without(e *estate.Estate, section, id string) *estate.Estate {
	with := *e
	switch section {
	case "grants":
		with.Grants = maps.Clone(e.Grants)
		delete(with.Grants, id)
	case "roles":
		is := func(ref estate.Ref) bool { return ref.ID == id }
		with.Grants, with.Roles = maps.Clone(e.Grants), maps.Clone(e.Roles)
		for name, g := range e.Grants {
			if !slices.ContainsFunc(g.Roles, is) {
				continue
			}
			one := *g
			if one.Roles = slices.DeleteFunc(slices.Clone(g.Roles), is); len(one.Roles) == 0 {
				delete(with.Grants, name)
				continue
			}
			with.Grants[name] = &one
		}
		for name, r := range e.Roles {
			if slices.ContainsFunc(r.Include, is) {
				one := *r
				one.Include = slices.DeleteFunc(slices.Clone(r.Include), is)
				with.Roles[name] = &one
			}
		}
	case "groups":
		with.Groups = maps.Clone(e.Groups)
		one := *e.Groups[id]
		one.Members, one.Match = nil, nil
		with.Groups[id] = &one
	}
	return &with
}
