package gate

import (
	"iter"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/placemap"
	"hiddengate/internal/gate/unitrow"
	"hiddengate/internal/region"
)

// Answer is the decision about one operation on one resource.
type Answer struct {
	Subject   estate.Principal
	Operation *estate.Operation
	Resource  *estate.Resource
	Outcome   Outcome
}

// Reach tells, for every listed resource in tree order and every operation valid on it by name, what the subject
// may do in the context; it leaves out what is denied. It stops when each returns false.
func (g *Gate) Reach(p estate.Principal, c *Context, each func(Answer) bool) error {
	asker, err := g.Asker(p, c)
	if err != nil {
		return err
	}
	for i := range g.estate.Tree.Len() {
		given, err := asker.On(i)
		if err != nil {
			return err
		}
		for k, o := range given.Operations {
			if given.Outcomes[k] != Deny && !each(Answer{p, o, g.estate.Tree.At(i), given.Outcomes[k]}) {
				return nil
			}
		}
	}
	return nil
}

// Sought says which operations are asked about, on which resources, and in which context.
type Sought struct {
	Context    *Context
	Resources  iter.Seq[*estate.Resource]
	Operations func(*estate.Operation) bool // nil: all
}

// Answers decides the operations for a subject where they are valid, until each returns false.
func (g *Gate) Answers(p estate.Principal, of Sought, each func(Answer) bool) error {
	c := of.Context
	n := g.NumberOf(p)
	if n < 0 {
		return g.Subject(p)
	}
	slow := question{context: c}
	several := len(c.Roles) > 0 || g.Rows.RowOf[n].Flags&unitrow.Separated != 0
	if several {
		slow.subject = g.Numbered(n)
		if err := slow.open(g); err != nil {
			return err
		}
	}
	for r := range of.Resources {
		q := Query{Subject: n, Context: c.region, Row: r.Index}
		if r.Index >= 0 {
			q.At = g.Places.Spots[r.Index]
		} else {
			q.At, q.Row = g.Places.Unlisted(r.Address.String())
		}
		for _, o := range g.estate.Offer(r.System.Kind.ID).On(r.Type) {
			if of.Operations != nil && !of.Operations(o) {
				continue
			}
			var outcome Outcome
			var err error
			if several {
				slow.operation, slow.resource = o.Name, r
				outcome, err = g.outcome(&slow)
			} else {
				q.Operation = g.Classes.Ops.Number[o.Name]
				outcome, err = g.Judge(&q)
			}
			if err != nil {
				return err
			}
			if !each(Answer{p, o, r, outcome}) {
				return nil
			}
		}
	}
	return nil
}

// Selected gives the rows of the listed resources that a list selects, in order. Of a list of grants and blocks their
// spots tell; of others, whatever is alike is judged once.
func (g *Gate) Selected(list estate.Resources) iter.Seq[int] {
	stretches, length := g.stretchesOf(list), 0
	for _, some := range stretches {
		length += some.to - some.from
	}
	places, n := g.placesOf(list)
	if places != nil && length > mostHeld {
		return places.RowsOf(n)
	}
	return func(yield func(int) bool) {
		for _, some := range stretches {
			if places == nil {
				for i := range placemap.Selected(g.estate, list, some.from, some.to) {
					if !yield(i) {
						return
					}
				}
				continue
			}
			for i := some.from; i < some.to; i++ {
				if places.Covers(n, places.Spots[i]) && !yield(i) {
					return
				}
			}
		}
	}
}

// mostHeld is up to how many rows are held against a list one by one rather than looked up by what it covers.
const mostHeld = 1 << 14

// Meets tells what a condition and dates come to in a context, apart from what concerns a subject or resource, which is
// open.
func (g *Gate) Meets(when *estate.Condition, starts, ends *estate.Moment, c *Context) Outcome {
	r, err := g.EntryRegion(when, starts, ends)
	if err != nil {
		return Depends
	}
	return outcomeOf(g.space.Judge(r, c.region))
}

// CoversAny says whether a list selects any listed resource. For the lists of grants and blocks it is known.
func (g *Gate) CoversAny(l estate.Resources) bool {
	if places, n := g.placesOf(l); places != nil {
		return places.CoversAny(n)
	}
	key := placemap.ResourcesKey(l)
	some, known := g.coverAny[key]
	if !known {
		for range g.Selected(l) {
			some = true
			break
		}
		g.coverAny[key] = some
	}
	return some
}

// Never says whether a condition and dates can never hold together.
func (g *Gate) Never(when *estate.Condition, starts, ends *estate.Moment) bool {
	r, err := g.EntryRegion(when, starts, ends)
	return err == nil && r == region.Empty
}

// RoleStandsFor lists the roles that a role is or includes.
func (g *Gate) RoleStandsFor(id string) (out []string) {
	if r := g.Roles[id]; r != nil {
		for other := range r.Includes {
			out = append(out, other)
		}
		slices.Sort(out)
	}
	return out
}

// Stops says whether a block may stop a subject from an operation on a resource, at some time and under some condition.
func (g *Gate) Stops(b *estate.Block, who estate.Principal, operation string, r *estate.Resource) bool {
	o := g.estate.Operations[operation]
	return o != nil && b.Deny.Fit(o, g.estate.Edition) && g.Selects(b.To, who) && g.Covers(b.On, r)
}
