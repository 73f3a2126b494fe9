package finding

import (
	"slices"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var matchesNothing = &Finding{
	Code: "matches-nothing", Severity: diagnostic.Warning,
	Doc: "An entry selects nothing that there is: a pattern or selector fits no listed resource, a glob no operation, a tag no subject, or the " +
		"`not` entries of a list leave nothing over. On a block or a `not` it is an error: what should be kept out is not.",
	Cure: "correct the pattern, or list what it is meant to fit",
	dear: true,
	find: func(c *check) {
		c.placeLists(func(what string, o *estate.Object, list estate.Resources) {
			for _, t := range list {
				plain := t.In != nil && t.In.Plain() && t.String() == estate.ResourceTerm{In: t.In, Not: t.Not}.String()
				if !plain && !c.coversAny(estate.Resources{withoutNot(t)}) {
					c.weigh(kept(what == "block" || t.Not), o, t.Position, "%s: %s fits no listed resource", named(what, o), t)
				}
			}
			if len(list) > 1 && slices.ContainsFunc(list, func(t estate.ResourceTerm) bool { return t.Not }) && !c.coversAny(list) {
				c.weigh(kept(what == "block"), o, list[0].Position, "%s: the `not` entries leave no listed resource over", named(what, o))
			}
		})
		c.operationLists(func(what string, o *estate.Object, list estate.Operations) {
			for _, t := range list {
				if t.Kind == estate.ByGlob && !c.fitsAny(estate.Operations{{Kind: t.Kind, Name: t.Name}}) {
					c.weigh(kept(what == "block" || t.Not), o, t.Position, "%s: %s fits no operation", named(what, o), t)
				}
			}
			if len(list) > 1 && slices.ContainsFunc(list, func(t estate.OperationTerm) bool { return t.Not }) && what != "role" && !c.fitsAny(list) {
				c.weigh(kept(what == "block"), o, list[0].Position, "%s: the `not` entries leave no operation over", named(what, o))
			}
		})
		for _, r := range estate.Sorted(c.about.Roles) {
			if len(c.gate.RoleOperations(r.ID)) == 0 && !slices.ContainsFunc(r.Allow, func(t estate.OperationTerm) bool { return t.Kind == estate.ByName && !t.Not }) {
				c.report(&r.Object, r.Source.Position, "role %s has no operation", r.ID)
			}
		}
		c.subjectLists(func(what string, o *estate.Object, list estate.Subjects) {
			if slices.ContainsFunc(list, func(t estate.SubjectTerm) bool { return t.Not }) && len(c.gate.Members(list)) == 0 {
				c.weigh(kept(what == "block"), o, list[0].Position, "%s: the `not` entries leave nobody over", named(what, o))
			}
		})
		for _, g := range estate.Sorted(c.about.Groups) {
			if g.Match != nil && g.Members == nil && len(c.gate.Members(estate.Subjects{{Principal: estate.Principal{Kind: estate.IsGroup, ID: g.ID}}})) == 0 {
				c.report(&g.Object, g.Source.Position, "group %s: nobody has the tags that it matches", g.ID)
			}
		}
	},
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

// placeLists visits every list of resources in the estate.
func (c *check) placeLists(visit func(what string, o *estate.Object, list estate.Resources)) {
	for _, s := range estate.Sorted(c.about.Scopes) {
		visit("scope", &s.Object, s.Resources)
	}
	for _, g := range estate.Sorted(c.about.Grants) {
		visit("grant", &g.Object, g.On)
	}
	for _, b := range estate.Sorted(c.about.Blocks) {
		visit("block", &b.Object, b.On)
	}
	for _, d := range estate.Sorted(c.about.Delegations) {
		visit("delegation", &d.Object, d.On)
	}
	for _, g := range estate.Sorted(c.about.Guarantees) {
		visit("guarantee", &g.Object, g.On)
	}
}

// subjectLists visits every list of subjects that gathers by itself.
func (c *check) subjectLists(visit func(what string, o *estate.Object, list estate.Subjects)) {
	for _, g := range estate.Sorted(c.about.Groups) {
		if g.Match == nil {
			visit("group", &g.Object, g.Members)
		}
	}
	for _, g := range estate.Sorted(c.about.Grants) {
		visit("grant", &g.Object, g.To)
	}
	for _, b := range estate.Sorted(c.about.Blocks) {
		visit("block", &b.Object, b.To)
	}
	for _, d := range estate.Sorted(c.about.Delegations) {
		visit("delegation", &d.Object, d.To)
	}
}
