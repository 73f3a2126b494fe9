package gate

import (
	"maps"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/factspace"
	"hiddengate/internal/region"
)

// Way is one grant held against a request: what of it fits, and what it would give if all did.
type Way struct {
	Grant *estate.Grant
	Who   bool // the subject is in `to`
	What  bool // one of its roles has the operation
	Where bool // the resource is in `on`
	Lent  bool // it is standing, or in force for the subject
	Named bool // the session names one of its roles, or none at all
	// Region is what it would give, less the blocks, whenever the subject is active and its roles are in force.
	Region region.Region
	// Active and RoleTime say when those are, where they are not at the time of the request; Full where they are.
	Active, RoleTime region.Region
	// Meets says that what the grant would give, while the subject is active and its roles are in force, meets the
	// request; Own, that its region by itself does.
	Meets, Own bool
	// Fact is what it asks of the subject or the resource, where nothing else stands against it; else Empty.
	Fact region.Region
}

// Ways holds every grant against a request, by id, and gives those that lack no more than one of subject, operation,
// place, approval and session.
func (g *Gate) Ways(req Request) ([]Way, error) {
	q, err := g.question(req)
	if err != nil {
		return nil, err
	}
	known := g.Known(q.subject, q.resource)
	at := g.spot(q.resource)
	var out []Way
	for _, gr := range g.Grants {
		w := Way{Grant: gr.Grant, Who: slices.Contains(q.subject.Grants, gr), Where: g.Places.Covers(gr.List, at), Lent: true,
			Named: true}
		if !w.Who && !w.Where {
			continue
		}
		w.What = g.gives(gr.Grant, q.operation)
		if gr.OnRequest != nil {
			if w.Lent, err = g.isLent(gr, q.subject.principal, at, q.context.region); err != nil {
				return nil, err
			}
		}
		if len(q.context.Roles) > 0 {
			w.Named = slices.ContainsFunc(gr.Roles,
				func(ref estate.Ref) bool { return slices.Contains(q.context.Roles, ref.ID) })
		}
		if missing(w.Who, w.What, w.Where, w.Lent, w.Named) > 1 {
			continue
		}
		if w.Region, err = g.would(gr, &q, known); err != nil {
			return nil, err
		}
		when, err := g.inForce(gr, &q)
		if err != nil {
			return nil, err
		}
		w.Active, w.RoleTime = g.whenNot(q.subject.active, &q), g.whenNot(when, &q)
		if w.Region == region.Empty {
			if err := g.findFact(&w, gr, &q, known); err != nil {
				return nil, err
			}
		}
		all, err := g.space.And(w.Region, q.subject.active, when)
		if err != nil {
			return nil, err
		}
		w.Meets = g.space.Fix(all, q.context.region) != region.Empty
		w.Own = g.space.Fix(w.Region, q.context.region) != region.Empty
		out = append(out, w)
	}
	return out, nil
}

// OwnWays holds the grants to the request's subject against it, by id, and gives those whose roles have the operation
// and whose places cover the resource, on request or not. It costs what the subject's grants do.
func (g *Gate) OwnWays(req Request) ([]Way, error) {
	q, err := g.question(req)
	if err != nil {
		return nil, err
	}
	known, at := g.Known(q.subject, q.resource), g.spot(q.resource)
	var out []Way
	for _, gr := range q.subject.Grants {
		if !g.Places.Covers(gr.List, at) || !g.gives(gr.Grant, q.operation) {
			continue
		}
		w := Way{Grant: gr.Grant, Who: true, What: true, Where: true, Active: region.Full, RoleTime: region.Full}
		when, err := g.inForce(gr, &q)
		if err != nil {
			return nil, err
		}
		if w.Region, err = g.would(gr, &q, known); err != nil {
			return nil, err
		}
		if w.Region, err = g.space.And(w.Region, q.subject.active, when); err != nil {
			return nil, err
		}
		out = append(out, w)
	}
	return out, nil
}

// missing counts what is not there.
func missing(all ...bool) (n int) {
	for _, there := range all {
		if !there {
			n++
		}
	}
	return n
}

// inForce is when a grant's roles have the operation; always, where none ever does.
func (g *Gate) inForce(gr *CompiledGrant, q *question) (region.Region, error) {
	if !g.gives(gr.Grant, q.operation) {
		return region.Full, nil
	}
	var when []region.Region
	for _, ref := range gr.Roles {
		when = append(when, g.Roles[ref.ID].Operations[q.operation])
	}
	return g.space.Or(when...)
}

// whenNot says when something is so that is not at the time of a request, Full if it is.
func (g *Gate) whenNot(r region.Region, q *question) region.Region {
	if g.space.Fix(r, q.context.region) != region.Empty {
		return region.Full
	}
	return r
}

// would is what a grant would give if its subjects, operations and resources fitted, it and its roles were in force and
// the subject were active.
func (g *Gate) would(gr *CompiledGrant, q *question, known *region.Context) (region.Region, error) {
	return g.space.Left([]region.Region{g.space.Fix(gr.Region, known)},
		g.blocking(q.subject, q.operation, g.spot(q.resource), known), region.Full)
}

// findFact looks for the one fact of the subject or the resource without which the grant would meet the request, else
// for all of them.
func (g *Gate) findFact(w *Way, gr *CompiledGrant, q *question, known *region.Context) error {
	for _, name := range g.Facts.FixedNames() {
		without := known.Clone()
		without.Open(name)
		r, err := g.would(gr, q, without)
		if err != nil {
			return err
		}
		if rest := g.space.Fix(r, q.context.region); rest != region.Empty {
			w.Fact = rest
			return nil
		}
	}
	r, err := g.would(gr, q, g.space.NewContext())
	w.Fact = g.space.Fix(r, q.context.region)
	return err
}

// Asks gives what a region that does not meet the request asks beyond it, as little as will do: one thing other than
// the request says, or all things but the time, or the time too. what is that one thing, "" for several.
func (g *Gate) Asks(r region.Region, c *Context) (rest region.Region, what string) {
	for _, name := range g.Dimensions() {
		wider := c.region.Clone()
		wider.Open(name)
		if rest := g.space.Fix(r, wider); rest != region.Empty {
			return rest, name
		}
	}
	timed := g.space.NewContext()
	if at, ok := c.region.Time(); ok {
		timed.SetTime(at)
	}
	if rest := g.space.Fix(r, timed); rest != region.Empty {
		return rest, ""
	}
	return r, ""
}

// Dimensions lists what a request can say, in the order in which people would change it.
func (g *Gate) Dimensions() []string {
	var names []string
	for _, f := range factspace.OrderedFacts {
		names = append(names, f.Name)
	}
	names = append(names, "time")
	for _, k := range slices.Sorted(maps.Keys(g.Facts.Context)) {
		names = append(names, "context "+k)
	}
	return names
}

// Touches says whether a region meets a context.
func (g *Gate) Touches(r region.Region, c *Context) bool {
	return g.space.Judge(r, c.region) != region.None
}
