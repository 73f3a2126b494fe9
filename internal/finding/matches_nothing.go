package finding

import (
	"slices"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var matchesNothing = &Finding{
	Code: "matches-nothing", Severity: diagnostic.Warning,
	Doc: "An entry selects nothing that there is: a pattern or selector fits no listed resource, a glob no operation, a " +
		"tag no subject, or the " +
		"`not` entries of a list leave nothing over. On a block or a `not` it is an error: what should be kept out is not.",
	Cure:      "correct the pattern, or list what it is meant to fit",
	expensive: true,
	find: func(c *check) {
		var asked []estate.Resources
		for _, l := range c.lists() {
			asked = append(asked, askedOf(l)...)
		}
		c.gate.LookForAny(asked)
		for _, l := range c.lists() {
			c.emptyPlaces(l)
			c.emptyOperations(l)
			isNot := func(t estate.SubjectTerm) bool { return t.Not }
			if !l.Beside && slices.ContainsFunc(l.Subjects, isNot) && c.gate.CountMembers(l.Subjects) == 0 {
				c.weigh(kept(l.what == "block"), l.entry, l.Subjects[0].Position, "%s: the `not` entries leave nobody in it",
					named(l.what, l.entry))
			}
		}
		for _, r := range estate.Sorted(c.about.Roles) {
			isUnknown := func(t estate.OperationTerm) bool { // of which unknown-operation tells
				return t.Kind == estate.ByName && !t.Not && c.estate.Operations[t.Name] == nil
			}
			if len(c.gate.RoleOperations(r.ID)) == 0 && !slices.ContainsFunc(r.Allow, isUnknown) {
				c.report(&r.Object, r.Source.Position, "role %s has no operation", r.ID)
			}
		}
		for _, g := range estate.Sorted(c.about.Groups) {
			isNot := slices.ContainsFunc(g.Members, func(t estate.SubjectTerm) bool { return t.Not })
			if g.Match == nil && !isNot || g.Match != nil && g.Members != nil {
				continue
			}
			if c.gate.CountMembers(estate.InGroup(g.ID)) > 0 {
				continue
			}
			if isNot {
				c.report(&g.Object, g.Members[0].Position, "group %s: the `not` entries leave nobody in it", g.ID)
			} else {
				c.report(&g.Object, g.Source.Position, "group %s: nobody has the tags that it matches", g.ID)
			}
		}
	},
}

// askedOf gives the lists of which it is asked whether they select anything: each term of a list that is no address,
// and the list itself if it has `not` entries.
func askedOf(l namedList) (out []estate.Resources) {
	for _, t := range l.Resources {
		if !isPlain(t) {
			out = append(out, estate.Resources{withoutNot(t)})
		}
	}
	if leavesOut(l) {
		out = append(out, l.Resources)
	}
	return out
}

// isPlain says that a term is nothing but an address.
func isPlain(t estate.ResourceTerm) bool {
	return t.In != nil && t.In.Plain() && t.String() == estate.ResourceTerm{In: t.In, Not: t.Not}.String()
}

// leavesOut says that a list has `not` entries beside others.
func leavesOut(l namedList) bool {
	return len(l.Resources) > 1 && slices.ContainsFunc(l.Resources, func(t estate.ResourceTerm) bool { return t.Not })
}

// emptyPlaces reports what of a list of resources selects nothing.
func (c *check) emptyPlaces(l namedList) {
	for _, t := range l.Resources {
		if !isPlain(t) && !c.coversAny(estate.Resources{withoutNot(t)}) {
			c.weigh(kept(l.what == "block" || t.Not), l.entry, t.Position, "%s: %s fits no listed resource",
				named(l.what, l.entry), t)
		}
	}
	if leavesOut(l) && !c.coversAny(l.Resources) {
		c.weigh(kept(l.what == "block"), l.entry, l.Resources[0].Position,
			"%s: the `not` entries leave no listed resource over", named(l.what, l.entry))
	}
}

// emptyOperations reports what of a list of operations selects nothing.
func (c *check) emptyOperations(l namedList) {
	for _, t := range l.Operations {
		if t.Kind == estate.ByGlob && !c.fitsAny(estate.Operations{{Kind: t.Kind, Name: t.Name}}) {
			c.weigh(kept(l.what == "block" || t.Not), l.entry, t.Position, "%s: %s fits no operation", named(l.what, l.entry), t)
		}
	}
	isNot := func(t estate.OperationTerm) bool { return t.Not }
	if !l.Beside && len(l.Operations) > 1 && slices.ContainsFunc(l.Operations, isNot) && !c.fitsAny(l.Operations) {
		c.weigh(kept(l.what == "block"), l.entry, l.Operations[0].Position, "%s: the `not` entries leave no operation over",
			named(l.what, l.entry))
	}
}

// kept is an error where something is meant to be kept out.
func kept(out bool) diagnostic.Severity {
	if out {
		return diagnostic.Error
	}
	return diagnostic.Warning
}

func withoutNot(t estate.ResourceTerm) estate.ResourceTerm {
	t.Not = false
	return t
}

func (c *check) coversAny(list estate.Resources) bool {
	return c.gate.CoversAny(list)
}

func (c *check) fitsAny(list estate.Operations) bool {
	for _, o := range c.estate.Operations {
		if list.Fit(o, c.estate.Edition) {
			return true
		}
	}
	return false
}
