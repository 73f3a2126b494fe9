package change

import (
	"slices"

	"hiddengate/internal/estate"
)

// Without gives an estate as it would be if a grant were not there, nobody had a role, or nobody were in a group. Other
// sections stay as they are.
func Without(e *estate.Estate, section, id string) *estate.Estate {
	switch section {
	case "grants":
		return e.With(estate.Drop(section, id))
	case "roles":
		is := func(ref estate.Ref) bool { return ref.ID == id }
		edits := []estate.Edit{}
		for name, g := range e.Grants {
			if !slices.ContainsFunc(g.Roles, is) {
				continue
			}
			one := *g
			if one.Roles = slices.DeleteFunc(slices.Clone(g.Roles), is); len(one.Roles) == 0 {
				edits = append(edits, estate.Drop("grants", name))
				continue
			}
			edits = append(edits, estate.Put("grants", &one))
		}
		for _, r := range e.Roles {
			if slices.ContainsFunc(r.Include, is) {
				one := *r
				one.Include = slices.DeleteFunc(slices.Clone(r.Include), is)
				edits = append(edits, estate.Put("roles", &one))
			}
		}
		return e.With(edits...)
	case "groups":
		one := *e.Groups[id]
		one.Members, one.Match = nil, nil
		return e.With(estate.Put(section, &one))
	}
	return e
}
