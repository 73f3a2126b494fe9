package change

import (
	"reflect"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
)

// Renaming is an entry that gets another id.
type Renaming struct{ Section, From, To string }

// alone says that an estate is another one with this entry under its new id, and says nothing otherwise: ids mean
// nothing, so that nobody's access differs, and tests and guarantees come out as before. altered is what is not the
// same. In doubt it is false; so it is for resources and profiles, whose ids are parts of addresses.
func (r Renaming) alone(before, after *estate.Estate, altered altered) bool {
	has := func(e *estate.Estate, id string) bool { return e.Head(r.Section, id) != nil }
	if slices.Contains([]string{"resources", "profiles", "catalogs"}, r.Section) || before.Edition != after.Edition ||
		before.Zone.Name() != after.Zone.Name() || altered.any("catalogs") ||
		!has(before, r.From) || !has(after, r.To) || has(before, r.To) || has(after, r.From) {
		return false
	}
	ids := substitution{r.Section: {r.From: r.To}}
	for section, some := range altered {
		for _, id := range some {
			if section == r.Section && id == r.To {
				continue // it is looked at by its old id
			}
			now := ids.of(section, id)
			if before.Head(section, id) == nil || after.Head(section, now) == nil {
				return false
			}
			one := ids.copy(reflect.ValueOf(before.Entry(section, id))).Interface().(estate.Head)
			if one.Head().ID = now; !same(one, after.Entry(section, now)) {
				return false
			}
		}
	}
	if r.Section == "systems" && (r.meant(before, r.To) || r.meant(after, r.From)) {
		return false
	}
	return after.Tree == before.Tree || after.Tree.ListsAsRenamed(before.Tree, func(id string) string {
		return ids.of("systems", id)
	}, func(p estate.Principal) estate.Principal {
		p.ID = ids.of(p.Kind.Section(), p.ID)
		return p
	})
}

// meant says that an entry of an estate means a system by an id that none has there, or that a pattern fits one of the
// two ids and not the other.
func (r Renaming) meant(e *estate.Estate, id string) (found bool) {
	for _, section := range estate.SectionNames {
		e.Each(section, func(o *estate.Object) {
			policyfile.EachNaming(section, e.Entry(section, o.ID), func(n policyfile.Naming) {
				found = found || slices.ContainsFunc(n.Resources, func(t estate.ResourceTerm) bool {
					return t.In != nil && (t.In.System == id || estate.Glob(t.In.System, r.From) != estate.Glob(t.In.System, r.To) &&
						t.In.System != r.From && t.In.System != r.To)
				})
			})
		})
	}
	return found
}
