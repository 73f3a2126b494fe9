package gate

import (
	"slices"

	"hiddengate/internal/estate"
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
	// Region is what it would give, less the blocks, within the time in which the subject is active.
	Region region.Region
	// Meets says that the region meets the request.
	Meets bool
}

// Ways holds every grant against a request, by id.
func (g *Gate) Ways(req Request) ([]Way, error) {
	q, err := g.question(req)
	if err != nil {
		return nil, err
	}
	covers, known := g.coverage(q.resource), g.known(q.subject, q.resource)
	blocked, err := g.blocked(q.subject, q.operation, covers, known)
	if err != nil {
		return nil, err
	}
	var out []Way
	for _, gr := range g.grants {
		w := Way{
			Grant: gr.Grant, Who: slices.Contains(q.subject.grants, gr), What: g.gives(gr.Grant, q.operation),
			Where: covers.grants.has(gr.number), Lent: true, Named: true,
		}
		if gr.OnRequest != nil {
			at, timed := q.context.region.Time()
			w.Lent = g.lentAt(gr, q.subject, at, timed)
		}
		if len(q.context.Roles) > 0 {
			w.Named = slices.ContainsFunc(gr.Roles, func(ref estate.Ref) bool { return slices.Contains(q.context.Roles, ref.ID) })
		}
		r, err := g.space.Minus(g.space.Fix(gr.region, known), blocked)
		if err == nil {
			r, err = g.space.And(r, q.subject.active)
		}
		if err == nil && w.What {
			when := region.Empty
			for _, ref := range gr.Roles {
				if has, ok := g.roles[ref.ID].operations[q.operation]; ok && err == nil {
					when, err = g.space.Or(when, has)
				}
			}
			if err == nil {
				r, err = g.space.And(r, when)
			}
		}
		if err != nil {
			return nil, err
		}
		w.Region = r
		w.Meets = g.space.Fix(r, q.context.region) != region.Empty
		out = append(out, w)
	}
	return out, nil
}

// Opened says what would have to hold if the request did not say what it says of one thing: the region, written
// out, and which thing; ok is false if no single thing stands in the way.
func (g *Gate) Opened(r region.Region, c *Context) (text, what string, ok bool) {
	for _, name := range g.Dimensions() {
		wider := c.region.Clone()
		wider.Open(name)
		if rest := g.space.Fix(r, wider); rest != region.Empty {
			return g.space.Text(rest, 3), name, true
		}
	}
	return "", "", false
}

// Dimensions lists what a request can say, in the order in which people would change it.
func (g *Gate) Dimensions() []string {
	names := []string{"mfa", "reason", "ticket", "sign-in", "network", "time"}
	for k := range g.facts.context {
		names = append(names, "context "+k)
	}
	slices.Sort(names[6:])
	return names
}
