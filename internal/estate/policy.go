package estate

import (
	"net/netip"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
)

// Statuses are what a subject's status may be; all but the first decide as inactive.
var Statuses = []string{"active", "invited", "suspended", "left"}

// Subject is a person or a service account.
type Subject struct {
	Object
	Service  bool
	Name     string
	Email    string
	Status   string
	Starts   *Moment
	Ends     *Moment
	LastSeen *Moment
	Tags     Tags
	Reserve  bool
	// Groups are those that an inventory's column names; files list members at the group.
	Groups []Ref `image:"-"` // which have become members of the groups
}

// Principal names the subject.
func (s *Subject) Principal() Principal {
	if s.Service {
		return Principal{IsService, s.ID}
	}
	return Principal{IsPerson, s.ID}
}

// AnonymousSubject stands for whoever has not signed in.
var AnonymousSubject = &Subject{Object: Object{ID: "anonymous"}, Status: "active"}

// Group gathers subjects.
type Group struct {
	Object
	Members  Subjects
	Match    []Match
	Stewards Subjects
	Tags     Tags
}

// Role is a named set of operations.
type Role struct {
	Object
	Include []Ref
	Allow   Operations
	Starts  *Moment
	Ends    *Moment
}

// Scope is a named set of resources.
type Scope struct {
	Object
	Resources Resources
}

// Grant says who gets which roles, where, when and under which condition.
type Grant struct {
	Object
	To        Subjects
	Roles     []Ref
	On        Resources
	When      *Condition
	Starts    *Moment
	Ends      *Moment
	OnRequest *OnRequest
}

// OnRequest makes a grant one that is lent for a limited time.
type OnRequest struct {
	Longest   time.Duration
	Approvers Subjects
	Approvals int
	Reason    bool
}

// Block is a prohibition.
type Block struct {
	Object
	To     Subjects
	Deny   Operations
	On     Resources
	When   *Condition
	Starts *Moment
	Ends   *Moment
}

// Separation names roles that one subject must not combine.
type Separation struct {
	Object
	Roles   []Ref
	AtMost  int
	Session bool // within a session; else within a person
}

// Delegation says who may hand out what, where, to whom.
type Delegation struct {
	Object
	To          Subjects
	MayGrant    []Ref
	Within      Operations
	On          Resources
	ToMembersOf Subjects
	Longest     time.Duration
	MayEdit     Subjects
	ToSelf      bool
}

// Elevation is an on-request grant in force for a subject for a limited time, To excluded.
type Elevation struct {
	Grant    string
	Subject  Principal
	From, To clock.Instant
}

// Given is what a test says of its requests; what it leaves out is open, the time apart, which is then now.
type Given struct {
	Time    *Moment
	Network *netip.Addr
	MFA     *bool
	SignIn  string
	Reason  *bool
	Ticket  *bool
	Context Tags
	Roles   []Ref
}

// Selection is operations on resources: `table.read on obsdb:sky`.
type Selection struct {
	Operation OperationTerm
	Place     ResourceTerm
	Text      string
	Position  diagnostic.Position
}

// LevelRule is what `levels` expects of a subject at a place and all inside it.
type LevelRule struct {
	Subject  Principal
	Place    ResourceTerm
	None     bool
	All      bool
	Level    Level
	Position diagnostic.Position
}

// Test is an example of an expected decision.
type Test struct {
	Object
	Who     Subjects
	Given   Given
	Allowed []Selection
	Denied  []Selection
	Levels  []LevelRule
}

// GuaranteeKind is the statement a guarantee makes.
type GuaranteeKind string

// The statements a guarantee can make; each but Requires is also the key that says so.
const (
	OnlyMay   GuaranteeKind = "only"
	NeverMay  GuaranteeKind = "never"
	AtLeast   GuaranteeKind = "at-least"
	AtMost    GuaranteeKind = "at-most"
	NeverBoth GuaranteeKind = "never-both"
	Apart     GuaranteeKind = "apart"
	Requires  GuaranteeKind = "requires"
)

// Guarantee is a statement that must hold of all decisions.
type Guarantee struct {
	Object
	Kind         GuaranteeKind
	Subjects     Subjects // only, never; the groups of apart
	Count        int      // at-least, at-most
	Both         Operations
	May          Operations
	On           Resources
	Requires     *Condition
	For          time.Duration
	SameResource bool
}

// ParseMoment reads a date, or a time as clock.Zone.ParseTime does.
func ParseMoment(zone *clock.Zone, text string) (*Moment, error) {
	if len(text) == len("2031-06-30") {
		d, err := clock.ParseDate(text)
		return &Moment{IsDate: true, Date: d, Text: text}, err
	}
	at, err := zone.ParseTime(text)
	return &Moment{Instant: at, Text: text}, err
}

// OverAt says whether all of the moment, a date as a whole day, is over at the instant.
func (m *Moment) OverAt(zone *clock.Zone, at clock.Instant) bool {
	if m.IsDate {
		return zone.DateOf(at).String() > m.Date.String()
	}
	return at >= m.Instant
}
