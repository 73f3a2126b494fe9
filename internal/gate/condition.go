package gate

import (
	"maps"
	"slices"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/region"
)

const (
	minInstant = clock.Beginning
	maxInstant = clock.End
)

// facts are the names that conditions ask about. What concerns the subject and the resource (owner, same, their
// tags) are dimensions like the rest, and are fixed once both are known.
type facts struct {
	same, context, subject, resource map[string]bool
	owner                            bool
	none                             *region.Context // what is known where no condition asks about subject or resource
}

func gatherFacts(e *estate.Estate) facts {
	f := facts{same: map[string]bool{}, context: map[string]bool{}, subject: map[string]bool{}, resource: map[string]bool{}}
	for _, g := range e.Grants {
		f.gather(g.When)
	}
	for _, b := range e.Blocks {
		f.gather(b.When)
	}
	for _, g := range e.Guarantees {
		f.gather(g.Requires)
	}
	return f
}

func (f *facts) gather(c *estate.Condition) {
	if c == nil {
		return
	}
	for _, k := range c.Same {
		f.same[k] = true
	}
	for to, list := range map[*map[string]bool][]estate.Match{&f.context: c.Context, &f.subject: c.Subject, &f.resource: c.Resource} {
		for _, m := range list {
			(*to)[m.Key] = true
		}
	}
	f.owner = f.owner || c.Owner != nil
	f.gather(c.Not)
	for i := range c.Any {
		f.gather(&c.Any[i])
	}
}

// dimensions gives the order in which regions ask: yes/no facts, ways to sign in, attributes; the space adds
// network and time.
func (f *facts) dimensions() []region.Dimension {
	dims := []region.Dimension{
		{Kind: region.Flag, Name: "mfa", Phrases: [2]string{"without a second factor", "with a second factor"}},
		{Kind: region.Flag, Name: "reason", Phrases: [2]string{"without a reason", "with a reason"}},
		{Kind: region.Flag, Name: "ticket", Phrases: [2]string{"without a ticket", "with a ticket"}},
		{Kind: region.Flag, Name: "owner", Phrases: [2]string{"not the owner", "the owner"}},
	}
	for _, k := range slices.Sorted(maps.Keys(f.same)) {
		dims = append(dims, region.Dimension{Kind: region.Flag, Name: "same " + k, Phrases: [2]string{"not the same " + k, "the same " + k}})
	}
	dims = append(dims, region.Dimension{Kind: region.Choice, Name: "sign-in", Values: estate.SignIns})
	for _, k := range slices.Sorted(maps.Keys(f.subject)) {
		dims = append(dims, region.Dimension{Kind: region.Text, Name: "subject " + k, Label: "the subject's " + k})
	}
	for _, k := range slices.Sorted(maps.Keys(f.resource)) {
		dims = append(dims, region.Dimension{Kind: region.Text, Name: "resource " + k, Label: "the resource's " + k})
	}
	for _, k := range slices.Sorted(maps.Keys(f.context)) {
		dims = append(dims, region.Dimension{Kind: region.Text, Name: "context " + k, Label: k})
	}
	return dims
}

// fixed lists the dimensions that a subject and a resource settle.
func (f *facts) fixed() []string {
	names := []string{"owner"}
	for prefix, keys := range map[string]map[string]bool{"same ": f.same, "subject ": f.subject, "resource ": f.resource} {
		for k := range keys {
			names = append(names, prefix+k)
		}
	}
	slices.Sort(names[1:])
	return names
}

// condition is the region in which all that the condition says holds.
func (g *Gate) condition(c *estate.Condition) (region.Region, error) {
	s := g.space
	var all []region.Region
	flag := func(name string, want *bool) {
		if want != nil {
			all = append(all, s.Is(name, *want))
		}
	}
	flag("mfa", c.MFA)
	flag("reason", c.Reason)
	flag("ticket", c.Ticket)
	flag("owner", c.Owner)
	for _, k := range c.Same {
		all = append(all, s.Is("same "+k, true))
	}
	if c.SignIn != nil {
		all = append(all, s.OneOf("sign-in", c.SignIn...))
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

// known gives what is so of a subject and a resource, whatever the request says.
func (g *Gate) known(s *subject, r *estate.Resource) *region.Context {
	if !g.facts.owner && len(g.facts.same)+len(g.facts.subject)+len(g.facts.resource) == 0 {
		if g.facts.none == nil {
			g.facts.none = g.space.NewContext()
		}
		return g.facts.none
	}
	c := g.space.NewContext()
	c.SetFlag("owner", g.owns(s, r.Owner))
	for k := range g.facts.same {
		v := s.Tags.Get(k)
		c.SetFlag("same "+k, v != "" && v == r.Tags.Get(k))
	}
	set := func(name, value string) {
		if value == "" {
			c.SetAbsent(name)
		} else {
			c.SetText(name, value)
		}
	}
	for k := range g.facts.subject {
		set("subject "+k, s.Tags.Get(k))
	}
	for k := range g.facts.resource {
		set("resource "+k, r.Tags.Get(k))
	}
	return c
}
