package gate

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/placemap"
	"hiddengate/internal/gate/unitrow"
	"hiddengate/internal/lookup"
	"hiddengate/internal/region"
)

// Outcome is what a decision says.
type Outcome int

// The outcomes, weakest first.
const (
	Deny Outcome = iota
	Depends
	Allow
)

var outcomeNames = []string{"deny", "depends", "allow"}

func (o Outcome) String() string { return outcomeNames[o] }

// Request asks whether a subject may do an operation on a resource.
type Request struct {
	Subject   estate.Principal
	Operation string
	Resource  string // its address as text
	Context   *Context
}

// question is a request whose names are found, looked at closely.
type question struct {
	subject   *CompiledSubject
	operation string
	resource  *estate.Resource
	context   *Context
	sessions  []Session
}

// Query is a request as numbers.
type Query struct {
	Subject   int
	Operation uint32
	At        placemap.Spot
	Row       int // the listed resource, or the nearest listed one above
	Context   *region.Context
	Known     *region.Context // Context, and what is so of subject and resource; nil until that is asked about
}

// Decide answers a request. Its error says that the question is wrong, or too complex.
func (g *Gate) Decide(req Request) (Outcome, error) {
	q, ok := g.query(&req)
	if !ok || len(req.Context.Roles) > 0 || g.Rows.RowOf[q.Subject].Flags&unitrow.Separated != 0 {
		q, err := g.question(req)
		if err != nil {
			return Deny, err
		}
		return g.outcome(&q)
	}
	return g.Judge(&q)
}

// query finds what a request names; ok is false where something is wrong with it.
func (g *Gate) query(req *Request) (q Query, ok bool) {
	// A listed address as it is written in the tree is canonical; any other is made so first.
	if req.Subject.Kind == estate.IsPerson {
		q.Subject, q.Row = lookup.Both(&g.Names, &g.estate.Tree.Names, req.Subject.ID, req.Resource)
		if q.Subject >= g.Persons {
			return q, false // no person, but what a service or anonymous is found by
		}
	} else {
		q.Subject, q.Row = g.NumberOf(req.Subject), g.estate.Tree.Find(req.Resource)
	}
	operation, known := g.Classes.Ops.Number[req.Operation]
	if q.Subject < 0 || !known || req.Context == nil {
		return q, false
	}
	q.Operation, q.Context = operation, req.Context.region
	if q.Row >= 0 {
		q.At = g.Places.Spots[q.Row]
	} else if !g.unlisted(&q, req.Resource) {
		return q, false
	}
	return q, g.Classes.Valid[q.At.Class].Has(operation)
}

// unlisted turns to a resource whose address is not canonical as it is written, or not listed; false where something is
// wrong with it.
func (g *Gate) unlisted(q *Query, text string) bool {
	a, err := estate.ParseAddress(text)
	if err != nil {
		return false
	}
	c := g.estate.Canonical(a)
	if len(text) != len(c.System)+1+len(c.Path) || text[len(c.System)+1:] != c.Path {
		text = c.String()
		if q.Row = g.estate.Tree.Find(text); q.Row >= 0 {
			q.At = g.Places.Spots[q.Row]
			return true
		}
	}
	q.At, q.Row = g.Places.Unlisted(text)
	return q.Row >= 0 && g.estate.Tree.Systems[g.estate.Tree.Rows[q.Row].System].Judge
}

// Judge decides a query in the only session there can be.
func (g *Gate) Judge(q *Query) (Outcome, error) {
	h := &g.Rows.RowOf[q.Subject]
	if h.Active == int32(region.Empty) {
		return Deny, nil
	}
	g.match(q, h)
	return g.Weigh(q, g.matched, region.Region(h.Active))
}

// Weigh decides a query about units that have its operation, by a subject that is active in a region.
func (g *Gate) Weigh(q *Query, units []uint32, within region.Region) (Outcome, error) {
	given, blocked := region.None, region.None
	blocks, grants := 0, 0 // how many hold some of it
	for _, u := range units {
		one := &g.Units.List[u]
		if !one.Block && given == region.All {
			continue
		}
		switch holds := g.holds(q, one.Region); {
		case holds == region.None:
		case one.Block && holds == region.All:
			return Deny, nil
		case one.Block:
			blocked = region.Some
			blocks++
		default:
			given = holds
			grants++
		}
	}
	if given == region.None {
		return Deny, nil
	}
	active := region.All
	if within != region.Full {
		active = g.holds(q, within)
	}
	switch {
	case active == region.None:
		return Deny, nil
	case given == region.All && blocked == region.None && active == region.All:
		return Allow, nil
	// in question is one region alone: it meets the request, and does not hold it
	case given == region.All && blocked == region.None,
		given == region.All && active == region.All && blocks == 1,
		active == region.All && blocked == region.None && grants == 1:
		return Depends, nil
	}
	return g.together(q, units, within)
}

// match gathers the units in force for the subject at the spot that have the operation.
func (g *Gate) match(q *Query, h *unitrow.Holder) {
	out := g.matched[:0]
	var one [1]uint32
	for _, u := range g.Rows.Cover(g.Rows.At(h, q.At.Mark), &one) {
		if g.Units.Has(u, q.Operation) {
			out = append(out, u)
		}
	}
	if q.At.Trait > 0 {
		for _, e := range g.Rows.Extras[h.Extra : h.Extra+h.Extras] {
			if g.Places.Traits.Has(q.At.Trait, int(e.Trait)) && g.Units.Has(e.Unit, q.Operation) {
				out = append(out, e.Unit)
			}
		}
	}
	if len(g.lent) > 0 {
		for _, l := range g.lentUnits(q) {
			if g.Units.Has(l.unit, q.Operation) {
				out = append(out, l.unit)
			}
		}
	}
	g.matched = out
}

// lentUnits lists what is lent to the subject that is in force at the spot.
func (g *Gate) lentUnits(q *Query) (out []lending) {
	for _, l := range g.lent[uint32(q.Subject)] {
		if q.At.Mark >= l.within.From && q.At.Mark < l.within.To && g.Places.Covers(l.on, q.At) {
			out = append(out, l)
		}
	}
	return out
}

// holds tells how much of the request lies in a region.
func (g *Gate) holds(q *Query, r region.Region) region.Holding {
	switch {
	case r == region.Full:
		return region.All
	case !g.space.AsksBelow(r, g.Facts.Fixed):
		return g.space.Judge(r, q.Context)
	}
	if q.Known == nil {
		row := &g.estate.Tree.Rows[q.Row]
		g.scratch.CopyFrom(q.Context)
		g.fix(g.scratch, q.Subject, g.estate.Tree.Tags[row.Tags], g.estate.Tree.Owners[row.Owner])
		q.Known = g.scratch
	}
	return g.space.Judge(r, q.Known)
}

// together decides where several regions hold some of the request each: they may hold all of it together. What has
// been combined once the space remembers.
func (g *Gate) together(q *Query, units []uint32, active region.Region) (Outcome, error) {
	given, taken := g.given[:0], g.taken[:0]
	for _, u := range units {
		if one := &g.Units.List[u]; one.Block {
			taken = append(taken, one.Region)
		} else {
			given = append(given, one.Region)
		}
	}
	g.given, g.taken = given, taken
	left, err := g.space.Left(given, taken, active)
	if err != nil {
		return Deny, err
	}
	return outcomeOf(g.holds(q, left)), nil
}

// outcomeOf tells what it means that a region of what is allowed holds so much of a request.
func outcomeOf(h region.Holding) Outcome {
	switch h {
	case region.All:
		return Allow
	case region.Some:
		return Depends
	}
	return Deny
}

// Place finds a resource: a listed one, or, where its system judges those, one made up at an unlisted address.
func (g *Gate) Place(a estate.Address) (*estate.Resource, error) {
	if r := g.estate.Listed(a); r != nil {
		return r, nil
	}
	system := g.estate.Systems[a.System]
	if system == nil {
		return nil, unknown("system", a.System, g.estate.Systems)
	}
	if !system.Judge {
		return nil, &UnknownError{What: "address", ID: a.String(), Why: "it is in no inventory of " + a.System +
			", which refuses such", known: func() []string {
			var listed []string
			for r := range g.estate.Tree.All() {
				if r.System == system {
					listed = append(listed, r.Address.String())
				}
			}
			return listed
		}}
	}
	return g.estate.Unlisted(a), nil
}

// UnknownError says that a question names what there is not.
type UnknownError struct {
	What, ID string
	Why      string // "" if there is nothing to add
	known    func() []string
}

// Error says what is unknown.
func (e *UnknownError) Error() string {
	text := fmt.Sprintf("unknown %s %q", e.What, e.ID)
	if e.Why != "" {
		text += ": " + e.Why
	}
	return text
}

// Nearest gives what may have been meant, "" if nothing is near. It looks at everything that is known.
func (e *UnknownError) Nearest() string {
	known := e.known()
	slices.Sort(known)
	return diagnostic.Nearest(e.ID, known)
}

func unknown[T any](what, id string, known map[string]T) error {
	return &UnknownError{What: what, ID: id, known: func() []string { return slices.Collect(maps.Keys(known)) }}
}

// Subject sees that the estate knows a person, service or anonymous.
func (g *Gate) Subject(p estate.Principal) error {
	if g.NumberOf(p) >= 0 {
		return nil
	}
	switch p.Kind {
	case estate.IsService:
		return unknown("service", p.ID, g.estate.Services)
	case estate.IsPerson:
		return unknown("person", p.ID, g.estate.People)
	}
	return fmt.Errorf("%w subject %s: a request is made by a person, a service or anonymous", ErrInvalid, p)
}

// Operation sees that an operation is valid on a resource.
func (g *Gate) Operation(name string, r *estate.Resource) error {
	offer := g.estate.Offer(r.System.Kind.ID)
	if offer.Valid(name, r.Type) != nil {
		return nil
	}
	o := g.estate.Operations[name]
	if o == nil {
		return unknown("operation", name, g.estate.Operations)
	}
	var types []string
	for _, t := range offer.AllTypes {
		if offer.Valid(name, t) != nil {
			types = append(types, t)
		}
	}
	if types == nil {
		return fmt.Errorf("%w question: %s is no operation of %s, a %s", ErrInvalid, name, r.System.ID, r.System.Kind.ID)
	}
	return fmt.Errorf("%w question: %s is of type %s, and %s applies to %s", ErrInvalid, r.Address, r.Type, name,
		strings.Join(types, ", "))
}

func (g *Gate) question(req Request) (question, error) {
	q := question{subject: g.subject(req.Subject), operation: req.Operation, context: req.Context}
	if q.subject == nil {
		return q, g.Subject(req.Subject)
	}
	address, err := estate.ParseAddress(req.Resource)
	if err != nil {
		return q, err
	}
	if q.resource, err = g.Place(address); err != nil {
		return q, err
	}
	if g.estate.Offer(q.resource.System.Kind.ID).Valid(req.Operation, q.resource.Type) == nil {
		return q, g.Operation(req.Operation, q.resource)
	}
	if q.context == nil {
		q.context = g.NewContext()
	}
	err = q.open(g)
	return q, err
}

// open works out the possible sessions.
func (q *question) open(g *Gate) error {
	var err error
	q.sessions, err = g.PossibleSessions(q.subject, q.context.Roles, q.context.region)
	return err
}

// outcome is allow if q lies in allowed in every possible session, deny if it meets it in none.
func (g *Gate) outcome(q *question) (Outcome, error) {
	allow, deny := true, true
	for _, session := range q.sessions {
		a, err := g.allowed(q.subject, q.operation, q.resource, session.Roles)
		if err != nil {
			return Deny, err
		}
		sure, some, err := g.WhileIn(session, a)
		if err != nil {
			return Deny, err
		}
		allow = allow && g.space.Judge(sure, q.context.region) == region.All
		deny = deny && g.space.Judge(some, q.context.region) == region.None
	}
	switch {
	case allow:
		return Allow, nil
	case deny:
		return Deny, nil
	}
	return Depends, nil
}

// WhileIn gives of what is allowed in a session what is so while the session is possible, sure with all other time
// beside it, which the session says nothing of.
func (g *Gate) WhileIn(s Session, allowed region.Region) (sure, some region.Region, err error) {
	if s.When == region.Full {
		return allowed, allowed, nil
	}
	if some, err = g.space.And(allowed, s.When); err != nil {
		return sure, some, err
	}
	lacks, err := g.space.Minus(s.When, allowed)
	if err != nil {
		return sure, some, err
	}
	sure, err = g.space.Not(lacks)
	return sure, some, err
}

// left is what the request leaves open of the region allowed in a session.
func (g *Gate) left(q *question, s Session) (region.Region, error) {
	a, err := g.allowed(q.subject, q.operation, q.resource, s.Roles)
	if err == nil {
		a, err = g.space.And(a, s.When)
	}
	return g.space.Fix(a, q.context.region), err
}
