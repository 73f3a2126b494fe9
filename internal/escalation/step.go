// Package escalation works out what access subjects can still get: through operations that open accounts, tags,
// memberships or roles, through delegations and groups that they look after, and on request, step by step.
package escalation

import (
	"time"

	"hiddengate/internal/estate"
)

// Kind says what sort of step it is.
type Kind int

// The kinds of step. What each takes and gives is said in docs/meaning.md.
const (
	Asks     Kind = iota // for an on-request grant
	Joins                // a group that the subject looks after, or may edit for itself
	Hands                // itself a role, by a delegation
	SignsIn              // as somebody else, whose account it can open
	Acts                 // as anybody, in a place
	Assigns              // itself roles, in a place
	Rewrites             // roles, in a place where it has one
	Tags                 // a resource otherwise
)

// Step is something that a subject can do and that gives it more.
type Step struct {
	Kind    Kind
	Subject estate.Principal
	// What has to be allowed for it: an operation on a resource; "" where it takes none.
	Operation, Resource string
	As                  estate.Principal // who then does it: the subject, or somebody as whom it has signed in
	Entry               string           // the grant, group or delegation
	Approvers           estate.Subjects  // whom it asks
	Longest             time.Duration    // for how long it gets what it asks for; 0 if nothing is said
	Who                 estate.Principal // as whom it signs in
	Where               estate.Address   // the place
	Set                 estate.Tags      // the tags that the resource then has
}

// move is a step that several subjects can take, each at its cost and by what it can do.
type move struct {
	Step
	by     map[estate.Principal]taken
	takers []estate.Principal // in order, once all are known
}

// taken is what a step takes of a subject: an operation on a resource, or to be among some others.
type taken struct {
	cost      int
	operation *estate.Operation
	resource  *estate.Resource
	among     estate.Subjects
}

// first says whether what a step takes comes before something else that it may take, by name.
func (t taken) first(other taken) bool {
	if t.operation == nil || other.operation == nil {
		return t.operation == nil && other.operation != nil
	}
	if t.operation != other.operation {
		return t.operation.Name < other.operation.Name
	}
	return t.resource.Address.Compare(other.resource.Address) < 0
}

// impersonates says whether it is a step by which one can act as somebody else.
func (m *move) impersonates() bool { return m.Kind == SignsIn || m.Kind == Acts }

// reaches says whether one can act as somebody on a resource by it.
func (m *move) reaches(who estate.Principal, r *estate.Resource) bool {
	return r.Address.Inside(m.Where) && (m.Kind == Acts || m.Who == who)
}

// key is the same for steps that give the same.
func (s *Step) key() string {
	name := ""
	if s.Kind == SignsIn {
		name = s.Who.String()
	}
	return string(rune('a'+s.Kind)) + s.Entry + "\x00" + name + "\x00" + s.Where.String() + "\x00" + s.Set.Name(nil)
}
