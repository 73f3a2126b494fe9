package gate

import (
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/factspace"
	"hiddengate/internal/region"
)

// condition is the region in which all that the condition says holds.
func (g *Gate) condition(c *estate.Condition) (region.Region, error) {
	s := g.space
	var all []region.Region
	for _, t := range c.Facts {
		if kind := estate.FactNamed(t.Fact).Kind; kind == estate.Choice || kind == estate.Ago {
			all = append(all, s.OneOf(t.Fact, t.Values...))
		} else {
			all = append(all, s.Is(t.Fact, t.Values[0] == estate.Yes))
		}
	}
	if c.Owner != nil {
		all = append(all, s.Is("owner", *c.Owner))
	}
	for _, k := range c.Same {
		all = append(all, s.Is("same "+k, true))
	}
	texts := func(prefix string, list []estate.Match) {
		for _, m := range list {
			all = append(all, s.OneOf(prefix+m.Key, m.Values...))
		}
	}
	texts("subject ", c.Subject)
	texts("resource ", c.Resource)
	texts("context ", c.Context)
	if c.Network != nil {
		all = append(all, s.From(c.Network...))
	}
	if c.Hours != nil {
		all = append(all, s.Weekly(estate.WeekMinutes(c.Hours)))
	}
	if c.Any != nil {
		var ways []region.Region
		for i := range c.Any {
			r, err := g.condition(&c.Any[i])
			if err != nil {
				return region.Empty, err
			}
			ways = append(ways, r)
		}
		r, err := s.Or(ways...)
		if err != nil {
			return region.Empty, err
		}
		all = append(all, r)
	}
	if c.Not != nil {
		inner, err := g.condition(c.Not)
		if err != nil {
			return region.Empty, err
		}
		r, err := s.Not(inner)
		if err != nil {
			return region.Empty, err
		}
		all = append(all, r)
	}
	return s.And(all...)
}

// Known gives what is so of a subject and a resource, whatever the request says.
func (g *Gate) Known(s *CompiledSubject, r *estate.Resource) *region.Context {
	c := g.space.NewContext()
	g.fix(c, s.number, r.Tags, r.Owner)
	return c
}

// fix says in a context what is so of a subject and of a resource with these tags and this owner.
func (g *Gate) fix(c *region.Context, subject int, tags estate.Tags, owner *estate.Principal) {
	g.FixOwning(c, subject, tags, g.Owns(subject, owner))
}

// FixOwning is fix where it is known whether the subject owns the resource.
func (g *Gate) FixOwning(c *region.Context, subject int, tags estate.Tags, owns bool) {
	c.FlagAt(factspace.OwnerDim, owns)
	if g.Facts.Fixed == 1 {
		return
	}
	own := g.All[subject].Tags
	for _, k := range g.Facts.Sames {
		v := own.Get(k.Key)
		c.FlagAt(k.Dim, v != "" && v == tags.Get(k.Key))
	}
	for _, k := range g.Facts.Subjects {
		c.TextAt(k.Dim, own.Get(k.Key))
	}
	for _, k := range g.Facts.Resources {
		c.TextAt(k.Dim, tags.Get(k.Key))
	}
}
