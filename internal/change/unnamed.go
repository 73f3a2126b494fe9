package change

import (
	"maps"

	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
)

// withoutUnnamedScopes gives an edit without its scopes, where nothing names them in either estate: they select nothing
// for anybody, and with the same scopes on both sides places are as in the gate at hand. Up to so many people, where
// all findings are looked for, it gives the edit as it is.
func withoutUnnamedScopes(before, after *estate.Estate, all altered, few int) (altered, *estate.Estate) {
	if len(all["scopes"]) == 0 || len(after.People) <= few || anyNamed(all["scopes"], before, after) {
		return all, after
	}
	var edits []estate.Edit
	for _, id := range all["scopes"] {
		if was := before.Scopes[id]; was != nil {
			edits = append(edits, estate.Put("scopes", was))
		} else {
			edits = append(edits, estate.Drop("scopes", id))
		}
	}
	rest := maps.Clone(all)
	delete(rest, "scopes")
	return rest, after.With(edits...)
}

// anyNamed says that something in one of the estates names one of some scopes.
func anyNamed(ids []string, in ...*estate.Estate) (named bool) {
	scopes := setOf(ids)
	for _, e := range in {
		for _, section := range estate.SectionNames {
			e.Each(section, func(o *estate.Object) {
				if named {
					return
				}
				policyfile.EachNaming(section, e.Entry(section, o.ID), func(n policyfile.Naming) {
					n.Each(func(one policyfile.Name) { named = named || one.Section == "scopes" && scopes[one.ID] })
				})
			})
		}
	}
	return named
}
