package gate

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
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

// Context is what a request says of itself; what it does not say is open.
type Context struct {
	region *region.Context
	Roles  []string // the roles the session names
}

// NewContext gives a context in which everything is open.
func (g *Gate) NewContext() *Context { return &Context{region: g.space.NewContext()} }

// Clone copies the context.
func (c *Context) Clone() *Context {
	return &Context{region: c.region.Clone(), Roles: slices.Clone(c.Roles)}
}

// Reset opens everything again.
func (c *Context) Reset() {
	c.region.Reset()
	c.Roles = nil
}

// Time, Network, MFA, SignIn, Reason, Ticket and Attribute each say one thing.
func (c *Context) Time(at clock.Instant) { c.region.SetTime(at) }

// Network says from which address.
func (c *Context) Network(a netip.Addr) { c.region.SetNetwork(a) }

// MFA says whether with a second factor.
func (c *Context) MFA(yes bool) { c.region.SetFlag("mfa", yes) }

// SignIn says in which way the subject signed in, one of estate.SignIns.
func (c *Context) SignIn(how string) { c.region.SetText("sign-in", how) }

// Reason says whether there is one.
func (c *Context) Reason(yes bool) { c.region.SetFlag("reason", yes) }

// Ticket says whether there is one.
func (c *Context) Ticket(yes bool) { c.region.SetFlag("ticket", yes) }

// Attribute gives an attribute of the request its value.
func (c *Context) Attribute(name, value string) { c.region.SetText("context "+name, value) }

// Request asks whether a subject may do an operation on a resource.
type Request struct {
	Subject   estate.Principal
	Operation string
	Resource  estate.Address
	Context   *Context
}

// question is a request whose names are found.
type question struct {
	subject   *subject
	operation string
	resource  *estate.Resource
	context   *Context
	sessions  [][]string
}

// Decide answers a request. Its error says that the question is wrong, or too complex.
func (g *Gate) Decide(req Request) (Outcome, error) {
	if outcome, ok := g.kept(req); ok {
		return outcome, nil
	}
	q, err := g.question(req)
	if err != nil {
		return Deny, err
	}
	return g.outcome(&q)
}

// kept answers a plain request, about listed things in the only session there can be, from what has been worked out.
func (g *Gate) kept(req Request) (Outcome, bool) {
	s := g.index[req.Subject]
	if s == nil || !s.single || req.Context == nil || len(req.Context.Roles) > 0 {
		return Deny, false
	}
	r := g.estate.Listed(req.Resource)
	if r == nil {
		return Deny, false
	}
	operation, valid := g.valid[r.Index][req.Operation]
	if !valid {
		return Deny, false
	}
	a, found := g.answers[answerNumber(s, operation, r)]
	if !found {
		return Deny, false
	}
	switch holds, known := g.space.Holds(a, req.Context.region); {
	case !known:
		return Deny, false
	case holds:
		return Allow, true
	}
	return Deny, true
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
		return nil, &UnknownError{What: "address", ID: a.String(), Why: "it is in no inventory of " + a.System + ", which refuses such", known: func() []string {
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
	if g.index[p] != nil {
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
	return fmt.Errorf("%w question: %s is a %s, and %s applies to %s", ErrInvalid, r.Address, r.Type, name, strings.Join(types, ", "))
}

func (g *Gate) question(req Request) (question, error) {
	q := question{subject: g.index[req.Subject], operation: req.Operation, context: req.Context}
	if q.subject == nil {
		return q, g.Subject(req.Subject)
	}
	var err error
	if q.resource, err = g.Place(req.Resource); err != nil {
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
	at, timed := q.context.region.Time()
	var err error
	q.sessions, err = g.possible(q.subject, q.context.Roles, at, timed)
	return err
}

// outcome is allow if q lies in allowed in every possible session, deny if it meets it in none.
func (g *Gate) outcome(q *question) (Outcome, error) {
	allow, deny := true, true
	for _, roles := range q.sessions {
		a, err := g.allowed(q.subject, q.operation, q.resource, roles)
		if err != nil {
			return Deny, err
		}
		holds, known := g.space.Holds(a, q.context.region)
		if !known {
			rest := g.space.Fix(a, q.context.region)
			holds, known = rest == region.Full, rest <= region.Full
		}
		allow = allow && known && holds
		deny = deny && known && !holds
	}
	switch {
	case allow:
		return Allow, nil
	case deny:
		return Deny, nil
	}
	return Depends, nil
}

// left is what the request leaves open of the region allowed in a session.
func (g *Gate) left(q *question, roles []string) (region.Region, error) {
	a, err := g.allowed(q.subject, q.operation, q.resource, roles)
	return g.space.Fix(a, q.context.region), err
}
