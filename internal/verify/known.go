package verify

import (
	"slices"

	"hiddengate/internal/estate"
)

// Known says whether an estate knows all that a test names, so that the test can be put to it: one that was written for
// another may not.
func Known(e *estate.Estate, t *estate.Test) bool {
	subject := func(p estate.Principal) bool {
		switch p.Kind {
		case estate.IsGroup:
			return e.Groups[p.ID] != nil
		case estate.IsEveryone:
			return true
		}
		return e.Subject(p) != nil
	}
	place := func(r estate.ResourceTerm) bool {
		return (r.Scope == "" || e.Scopes[r.Scope] != nil) && (r.In == nil || !r.In.Plain() || e.Systems[r.In.System] != nil)
	}
	for _, m := range t.Who {
		if !subject(m.Principal) {
			return false
		}
	}
	for _, s := range slices.Concat(t.Allowed, t.Denied) {
		if !place(s.Place) {
			return false
		}
	}
	for _, l := range t.Levels {
		if !subject(l.Subject) || !place(l.Place) {
			return false
		}
	}
	for _, ref := range t.Given.Roles {
		if e.Roles[ref.ID] == nil {
			return false
		}
	}
	return true
}
