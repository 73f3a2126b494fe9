package gate

import (
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/region"
)

// Cause is one grant or block that bears on a request, with what in it matched. Met says whether its region meets
// the request: a grant's less what the blocks take, in some possible session.
type Cause struct {
	Grant *estate.Grant
	Block *estate.Block
	Met   bool
	Who   Selection             // by `to`
	Roles []string              // of a grant: the role that has the operation, and those that it has it by
	Deny  estate.OperationTerm  // of a block: the entry of `deny`
	Where []estate.ResourceTerm // the entry of `on`, and those of the scopes that it leads through
	When  region.Region         // what its conditions and dates come to
}

// Met names the causes whose region meets the request, [] if there is none.
func Met(causes []Cause) []string {
	ids := []string{}
	for _, c := range causes {
		if c.Met {
			ids = append(ids, c.ID())
		}
	}
	return ids
}

// ID gives the entry's id.
func (c Cause) ID() string {
	if c.Grant != nil {
		return c.Grant.ID
	}
	return c.Block.ID
}

// Explanation is a decision with its causes.
type Explanation struct {
	Outcome  Outcome
	Grants   []Cause // whose subjects, operations and resources fit
	Blocks   []Cause
	Left     []Left        // for Depends: what remains to be known, in each possible session
	Inactive bool          // the subject is not active in any of the circumstances
	Active   region.Region // when it is
}

// Left is what of a request remains to be known in a session.
type Left struct {
	Roles []string // those that the session has and others lack; nil where there is one session alone
	When  region.Region
}

// Explain answers a request and says why.
func (g *Gate) Explain(req Request) (Explanation, error) {
	var out Explanation
	q, err := g.question(req)
	if err != nil {
		return out, err
	}
	if out.Outcome, err = g.outcome(&q); err != nil {
		return out, err
	}
	known := g.Known(q.subject, q.resource)
	left := func(r region.Region) region.Region { return g.space.Fix(g.space.Fix(r, known), q.context.region) }
	at := g.spot(q.resource)
	blocking := g.blocking(q.subject, q.operation, at, known)
	o := g.estate.Operations[q.operation]
	for _, b := range q.subject.Blocks {
		if g.Places.Covers(b.List, at) && b.Deny.Fit(o, g.estate.Edition) {
			out.Blocks = append(out.Blocks, Cause{
				Block: b.Block, Met: left(b.Region) != region.Empty, Who: g.Who(b.To, q.subject.principal),
				Deny: operationTerm(b.Deny, o, g.estate.Edition), Where: g.where(b.On, q.resource), When: b.Region,
			})
		}
	}
	for _, gr := range g.grantsAt(q.subject, at) {
		if !g.gives(gr.Grant, q.operation) {
			continue
		}
		c := Cause{
			Grant: gr.Grant, Who: g.Who(gr.To, q.subject.principal), Roles: g.through(gr.Grant, q.operation),
			Where: g.where(gr.On, q.resource), When: gr.Region,
		}
		for _, session := range q.sessions {
			r, err := g.GrantRegion(gr,
				SessionQuery{Subject: q.subject, Operation: q.operation, At: at, Roles: session.Roles})
			if err == nil {
				r, err = g.space.And(r, session.When)
			}
			if err == nil {
				r, err = g.space.Left([]region.Region{g.space.Fix(r, known)}, blocking, q.subject.active)
			}
			if err != nil {
				return out, err
			}
			c.Met = c.Met || g.space.Fix(r, q.context.region) != region.Empty
		}
		out.Grants = append(out.Grants, c)
	}
	if out.Outcome == Depends {
		out.Left, err = g.remaining(&q)
	}
	out.Active, out.Inactive = q.subject.active, left(q.subject.active) == region.Empty
	return out, err
}

// remaining tells what remains to be known.
func (g *Gate) remaining(q *question) (out []Left, err error) {
	for _, session := range q.sessions {
		one := Left{}
		if one.When, err = g.left(q, session); err != nil {
			return nil, err
		}
		if len(q.sessions) > 1 {
			one.Roles = slices.DeleteFunc(slices.Clone(session.Roles), func(id string) bool { // what all have says nothing
				return !slices.ContainsFunc(q.sessions, func(other Session) bool { return !other.Has(id) })
			})
		}
		out = append(out, one)
	}
	return out, nil
}

// gives says whether one of a grant's roles has the operation at any time.
func (g *Gate) gives(gr *estate.Grant, operation string) bool {
	return slices.ContainsFunc(gr.Roles, func(ref estate.Ref) bool { return g.RoleHas(ref.ID, operation) })
}

// RoleHas says whether a role has the operation at any time.
func (g *Gate) RoleHas(id, operation string) bool {
	_, has := g.Roles[id].Operations[operation]
	return has
}

// Includes says whether a role is another one, or includes it.
func (g *Gate) Includes(id, other string) bool { return g.Roles[id].Includes[other] }

// RoleOperations lists a role's operations by name.
func (g *Gate) RoleOperations(id string) []*estate.Operation {
	var out []*estate.Operation
	for _, o := range estate.Sorted(g.estate.Operations) {
		if g.RoleHas(id, o.Name) {
			out = append(out, o)
		}
	}
	return out
}
