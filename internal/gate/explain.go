package gate

import (
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/region"
)

// Cause is one grant or block that bears on a request, with what in it matched. Met says whether its region meets
// the request: a grant's less what the blocks take, in some possible session.
type Cause struct {
	Grant *estate.Grant
	Block *estate.Block
	Met   bool
	Who   string // by which entry of `to`, and through which groups
	Role  string // through which role, and which it includes; a block's operation entry
	Where string // by which entry of `on`, and through which scope
	When  string // what its conditions and dates come to; "" if they ask nothing
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
	Outcome   Outcome
	Grants    []Cause // whose subjects, operations and resources fit
	Blocks    []Cause
	DependsOn string // for Depends: what remains to be known
	Inactive  string // why the subject is inactive, if that is so
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
	known := g.known(q.subject, q.resource)
	left := func(r region.Region) region.Region { return g.space.Fix(g.space.Fix(r, known), q.context.region) }
	at := g.spot(q.resource)
	blocked, err := g.blocked(q.subject, q.operation, at, known)
	if err != nil {
		return out, err
	}
	o := g.estate.Operations[q.operation]
	for _, b := range q.subject.blocks {
		if g.places.Covers(b.on, at) && b.Deny.Fit(o, g.estate.Edition) {
			out.Blocks = append(out.Blocks, Cause{
				Block: b.Block, Met: left(b.region) != region.Empty, Who: g.Who(b.To, q.subject.principal),
				Role: operationTerm(b.Deny, o, g.estate.Edition), Where: g.Where(b.On, q.resource), When: g.when(b.region),
			})
		}
	}
	for _, gr := range q.subject.grants {
		if !g.places.Covers(gr.on, at) || !g.gives(gr.Grant, q.operation) {
			continue
		}
		c := Cause{
			Grant: gr.Grant, Who: g.Who(gr.To, q.subject.principal), Role: g.Through(gr.Grant, q.operation),
			Where: g.Where(gr.On, q.resource), When: g.when(gr.region),
		}
		for _, roles := range q.sessions {
			r, err := g.grantRegion(gr, q.subject, q.operation, roles)
			if err == nil {
				r, err = g.space.Minus(g.space.Fix(r, known), blocked)
			}
			if err == nil {
				r, err = g.space.And(r, q.subject.active)
			}
			if err != nil {
				return out, err
			}
			c.Met = c.Met || g.space.Fix(r, q.context.region) != region.Empty
		}
		out.Grants = append(out.Grants, c)
	}
	if out.Outcome == Depends {
		out.DependsOn, err = g.dependsOn(&q)
	}
	if left(q.subject.active) == region.Empty {
		out.Inactive = "the status is " + q.subject.Status
		if q.subject.active != region.Empty {
			out.Inactive = "active only " + g.space.Text(q.subject.active, 2)
		}
	}
	return out, err
}

// dependsOn writes what remains to be known.
func (g *Gate) dependsOn(q *question) (string, error) {
	var parts []string
	for _, roles := range q.sessions {
		r, err := g.left(q, roles)
		if err != nil {
			return "", err
		}
		text := "allowed " + g.space.Text(r, 4)
		switch r {
		case region.Full:
			text = "allowed"
		case region.Empty:
			text = "denied"
		}
		if len(q.sessions) > 1 {
			apart := slices.DeleteFunc(slices.Clone(roles), func(id string) bool { // what all sessions have says nothing
				return !slices.ContainsFunc(q.sessions, func(other []string) bool { return !slices.Contains(other, id) })
			})
			text = "in a session as " + strings.Join(apart, " and ") + ": " + text
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, "; "), nil
}

// when writes an entry's region, "" if it asks nothing.
func (g *Gate) when(r region.Region) string {
	if r == region.Full {
		return ""
	}
	return g.space.Text(r, 3)
}

// gives says whether one of a grant's roles has the operation at any time.
func (g *Gate) gives(gr *estate.Grant, operation string) bool {
	return slices.ContainsFunc(gr.Roles, func(ref estate.Ref) bool { return g.RoleHas(ref.ID, operation) })
}

// RoleHas says whether a role has the operation at any time.
func (g *Gate) RoleHas(id, operation string) bool {
	_, has := g.roles[id].operations[operation]
	return has
}

// Includes says whether a role is another one, or includes it.
func (g *Gate) Includes(id, other string) bool { return g.roles[id].includes[other] }

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

// Through names the role of a grant that has the operation, and the included ones that lead to it.
func (g *Gate) Through(gr *estate.Grant, operation string) string {
	for _, ref := range gr.Roles {
		if g.RoleHas(ref.ID, operation) {
			return strings.Join(g.rolePath(ref.ID, operation), " → ")
		}
	}
	return ""
}

func (g *Gate) rolePath(id, operation string) []string {
	r := g.roles[id]
	o := g.estate.Operations[operation]
	if !r.Allow.Fit(o, g.estate.Edition) {
		for _, ref := range r.Include {
			if g.RoleHas(ref.ID, operation) {
				return append([]string{id}, g.rolePath(ref.ID, operation)...)
			}
		}
	}
	return []string{id}
}

func operationTerm(list estate.Operations, o *estate.Operation, edition int) string {
	for _, t := range list {
		if !t.Not && t.Fits(o, edition) {
			return t.String()
		}
	}
	return ""
}

// Who says by which entry a list selects the subject, and through which groups; "" if it does not.
func (g *Gate) Who(list estate.Subjects, p estate.Principal) string {
	if !g.Selects(list, p) {
		return ""
	}
	for _, t := range list {
		if t.Not {
			continue
		}
		switch t.Kind {
		case estate.IsEveryone:
			if p.Kind != estate.IsAnonymous {
				return "everyone"
			}
		case estate.IsGroup:
			if g.InGroup(p, t.ID) {
				return strings.Join(g.groupPath(t.ID, p), " ← ")
			}
		default:
			if t.Principal == p {
				return p.String()
			}
		}
	}
	return ""
}

// groupPath leads from a group to the member.
func (g *Gate) groupPath(id string, p estate.Principal) []string {
	group := g.estate.Groups[id]
	path := []string{"group:" + id}
	for _, t := range group.Members {
		if !t.Not && t.Principal == p {
			return path
		}
	}
	for _, t := range group.Members {
		if !t.Not && t.Kind == estate.IsGroup && g.InGroup(p, t.ID) {
			return append(path, g.groupPath(t.ID, p)...)
		}
	}
	if group.Match != nil && estate.Fits(group.Match, g.All[g.NumberOf(p)].Tags) {
		var tags []string
		for _, m := range group.Match {
			tags = append(tags, m.Key+" "+g.All[g.NumberOf(p)].Tags.Get(m.Key))
		}
		return append(path, "tag "+strings.Join(tags, ", "))
	}
	return append(path, "everyone")
}

// Where says by which entry a list selects the resource, and through which scopes; "" if it does not.
func (g *Gate) Where(list estate.Resources, r *estate.Resource) string {
	if !g.Covers(list, r) {
		return ""
	}
	for _, t := range list {
		if t.Not || !g.CoversTerm(t, r) {
			continue
		}
		if t.Scope != "" {
			return fmt.Sprintf("%s → %s", t, g.Where(g.estate.Scopes[t.Scope].Resources, r))
		}
		return t.String()
	}
	return ""
}

// When writes what a condition and dates ask, "" if nothing.
func (g *Gate) When(when *estate.Condition, starts, ends *estate.Moment) string {
	r, err := g.entryRegion(when, starts, ends)
	if err != nil {
		return err.Error()
	}
	return g.when(r)
}
