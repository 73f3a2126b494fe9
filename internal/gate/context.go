package gate

import (
	"maps"
	"net/netip"
	"slices"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/region"
)

// Context is what a request says of itself; what it does not say is open.
type Context struct {
	region     *region.Context
	attributes map[string]int // the dimensions of those that conditions ask about
	Roles      []string       // the roles the session names
}

// NewContext gives a context in which everything is open.
func (g *Gate) NewContext() *Context {
	return &Context{region: g.space.NewContext(), attributes: g.Facts.Attributes}
}

// Region gives what the context says as regions judge it.
func (c *Context) Region() *region.Context { return c.region }

// ContextOf gives what a region's context says as a context, which knows of no attributes and names no roles.
func ContextOf(r *region.Context) *Context { return &Context{region: r} }

// Clone copies the context.
func (c *Context) Clone() *Context {
	return &Context{region: c.region.Clone(), attributes: c.attributes, Roles: slices.Clone(c.Roles)}
}

// Reset opens everything again.
func (c *Context) Reset() {
	c.region.Reset()
	c.Roles = nil
}

// Time says when.
func (c *Context) Time(at clock.Instant) { c.region.SetTime(at) }

// Moment gives the time, if it is said.
func (c *Context) Moment() (clock.Instant, bool) { return c.region.Time() }

// Network says from which address.
func (c *Context) Network(a netip.Addr) { c.region.SetNetwork(a) }

// Flag says that a fact which is so or not is so, or that the request carries one.
func (c *Context) Flag(fact *estate.Fact, yes bool) { c.region.SetFlag(fact.Name, yes) }

// Say says something of a fact, in the words of estate.Fact.Parse.
func (c *Context) Say(fact *estate.Fact, value string) {
	switch fact.Kind {
	case estate.YesNo, estate.Carried:
		c.Flag(fact, value == estate.Yes)
	case estate.Choice, estate.Ago:
		c.region.SetText(fact.Name, value)
	case estate.FromNetwork:
		if a, err := netip.ParseAddr(value); err == nil {
			c.Network(a)
		}
	}
}

// SayAll says all that is given of a request; now is the time where none is given, nil to leave it open.
func (c *Context) SayAll(given *estate.Given, now *clock.Instant) {
	if given.Time != nil {
		c.Time(given.Time.Instant)
	} else if now != nil {
		c.Time(*now)
	}
	for _, v := range given.Facts {
		c.Say(estate.FactNamed(v.Fact), v.Value)
	}
	for _, a := range given.Context {
		c.Attribute(a.Key, a.Value)
	}
	for _, ref := range given.Roles {
		c.Roles = append(c.Roles, ref.ID)
	}
}

// Attribute gives an attribute of the request its value.
func (c *Context) Attribute(name, value string) {
	if dim, asked := c.attributes[name]; asked {
		c.region.ValueAt(dim, value)
	}
}

// In gives the same context for a gate that is a fork of the one it was made for, or that was forked from the same.
func (c *Context) In(g *Gate) *Context {
	d := g.NewContext()
	d.region.CopyFrom(c.region)
	d.Roles = c.Roles
	return d
}

// For gives the context, which is of another gate, as one of this gate. What this gate's conditions do not ask about is
// left out.
func (g *Gate) For(c *Context, of *Gate) *Context {
	out := g.NewContext()
	out.Roles = slices.Clone(c.Roles)
	if at, ok := c.region.Time(); ok {
		out.Time(at)
	}
	for _, v := range c.facts() {
		out.Say(estate.FactNamed(v.Fact), v.Value)
	}
	for key := range of.Facts.Context {
		if text, absent, ok := c.region.Text("context " + key); ok && absent {
			out.region.SetAbsent("context " + key)
		} else if ok {
			out.region.SetText("context "+key, text)
		}
	}
	return out
}

// facts gives what the context says of the facts of a request.
func (c *Context) facts() (out estate.FactsSaid) {
	for _, f := range estate.Facts {
		switch f.Kind {
		case estate.YesNo, estate.Carried:
			if yes, ok := c.region.Flag(f.Name); ok {
				out = append(out, estate.FactValue{Fact: f.Name, Value: estate.YesOrNo(yes)})
			}
		case estate.Choice, estate.Ago:
			if text, _, ok := c.region.Text(f.Name); ok {
				out = append(out, estate.FactValue{Fact: f.Name, Value: text})
			}
		case estate.FromNetwork:
			if a, ok := c.region.Network(); ok {
				out = append(out, estate.FactValue{Fact: f.Name, Value: a.String()})
			}
		}
	}
	return out
}

// Said gives what the context says of a request: of its own attributes, those that conditions ask about.
func (c *Context) Said(zone *clock.Zone) estate.Given {
	out := estate.Given{Facts: c.facts()}
	if at, ok := c.region.Time(); ok {
		out.Time = &estate.Moment{Instant: at, Text: zone.Format(at)}
	}
	for _, key := range slices.Sorted(maps.Keys(c.attributes)) {
		if text, absent, ok := c.region.Text("context " + key); ok && !absent {
			out.Context = append(out.Context, estate.Tag{Key: key, Value: text})
		}
	}
	for _, id := range c.Roles {
		out.Roles = append(out.Roles, estate.Ref{ID: id})
	}
	return out
}
