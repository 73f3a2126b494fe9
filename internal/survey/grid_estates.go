package survey

import (
	"slices"

	"hiddengate/internal/estate"
)

// withColumns adds a person for each group and role.
func withColumns(e *estate.Estate, columns []Column) (*estate.Estate, []estate.Principal) {
	var edits []estate.Edit
	who := make([]estate.Principal, len(columns))
	joined := map[string]*estate.Group{}
	var roles estate.Subjects // to whom nothing else applies
	for i, c := range columns {
		who[i] = c.Subject
		if c.Role == "" && c.Subject.Kind != estate.IsGroup {
			continue
		}
		// no id can be like that
		one := &estate.Subject{Object: estate.Object{ID: "who has " + c.Name}, Status: estate.Statuses[0]}
		edits = append(edits, estate.Put("people", one))
		who[i] = one.Principal()
		if c.Role == "" {
			if joined[c.Subject.ID] == nil {
				group := *e.Groups[c.Subject.ID]
				group.Members = slices.Clone(group.Members)
				joined[c.Subject.ID] = &group
				edits = append(edits, estate.Put("groups", &group))
			}
			joined[c.Subject.ID].Members = append(joined[c.Subject.ID].Members, estate.SubjectTerm{Principal: who[i]})
			continue
		}
		roles = append(roles, estate.SubjectTerm{Principal: who[i], Not: true})
		edits = append(edits, estate.Put("grants", &estate.Grant{
			Object: estate.Object{ID: one.ID}, To: estate.Subjects{{Principal: who[i]}}, Roles: []estate.Ref{{ID: c.Role}},
			On: estate.Resources{{Everything: true}},
		}))
	}
	if len(roles) > 0 {
		for _, gr := range e.Grants {
			one := *gr
			one.To = slices.Concat(gr.To, roles)
			edits = append(edits, estate.Put("grants", &one))
		}
		for _, b := range e.Blocks {
			one := *b
			one.To = slices.Concat(b.To, roles)
			edits = append(edits, estate.Put("blocks", &one))
		}
	}
	return e.With(edits...), who
}

// standing gives the estate with all that is on request as if it stood; nil if nothing is.
func standing(e *estate.Estate) *estate.Estate {
	var edits []estate.Edit
	for _, gr := range e.Grants {
		if gr.OnRequest == nil {
			continue
		}
		one := *gr
		one.OnRequest = nil
		edits = append(edits, estate.Put("grants", &one))
	}
	return withSome(e, edits)
}

// withSome gives an estate with some edits; nil if there are none.
func withSome(e *estate.Estate, edits []estate.Edit) *estate.Estate {
	if edits == nil {
		return nil
	}
	return e.With(edits...)
}

// indirect gives the estate without what grants give to some subjects by name, and marks those; nil if none does.
func indirect(e *estate.Estate, who []estate.Principal, named []bool) *estate.Estate {
	var edits []estate.Edit
	for id, gr := range e.Grants {
		var left estate.Subjects
		for _, t := range gr.To {
			i := slices.Index(who, t.Principal)
			if t.Not || i < 0 || id == t.ID { // that of a role's column is no grant of the files
				left = append(left, t)
			} else {
				named[i] = true
			}
		}
		if len(left) == len(gr.To) {
			continue
		}
		if len(left) == 0 {
			edits = append(edits, estate.Drop("grants", id))
			continue
		}
		one := *gr
		one.To = left
		edits = append(edits, estate.Put("grants", &one))
	}
	return withSome(e, edits)
}
