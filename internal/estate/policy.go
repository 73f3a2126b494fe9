package estate

import (
	"slices"
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
	Keys     []string // public SSH keys with which the subject signs, as OpenSSH writes them (RFC 4253, section 6.6)
	Away     []Absence
	// Groups are those that an inventory's column names; files list members at the group.
	Groups []Ref `snapshot:"-"` // which have become members of the groups
}

// Principal names the subject.
func (s *Subject) Principal() Principal {
	if s.Service {
		return Principal{IsService, s.ID}
	}
	return Principal{IsPerson, s.ID}
}

// Absence is a time in which a subject is not active.
type Absence struct {
	Starts, Ends *Moment
	Why          string
}

// IsTemporary says whether a subject does not stay, by its tags.
func (e *Estate) IsTemporary(s *Subject) bool {
	for _, m := range e.Temporary {
		if v := s.Tags.Get(m.Key); v == "" || !slices.Contains(m.Values, v) {
			return false
		}
	}
	return len(e.Temporary) > 0
}

// Says says whether two subjects of an inventory's lines say the same, wherever they stand.
func (s *Subject) Says(o *Subject) bool {
	text := func(m *Moment) string {
		if m == nil {
			return ""
		}
		return m.Text
	}
	owner := func(p *Principal) Principal {
		if p == nil {
			return Principal{Kind: -1}
		}
		return *p
	}
	return s.ID == o.ID && s.Name == o.Name && s.Email == o.Email && s.Status == o.Status && s.Reserve == o.Reserve &&
		s.Title == o.Title && s.About == o.About && s.Why == o.Why &&
		s.Protected == o.Protected && owner(s.Owner) == owner(o.Owner) && len(s.Accept)+len(o.Accept) == 0 &&
		slices.Equal(s.Tags, o.Tags) && slices.Equal(s.Keys, o.Keys) &&
		slices.EqualFunc(s.Away, o.Away, func(a, b Absence) bool {
			return text(a.Starts) == text(b.Starts) && text(a.Ends) == text(b.Ends) && a.Why == b.Why
		}) &&
		text(s.Starts) == text(o.Starts) && text(s.Ends) == text(o.Ends) && text(s.LastSeen) == text(o.LastSeen)
}

// AnonymousSubject stands for whoever has not signed in.
var AnonymousSubject = &Subject{Object: Object{ID: "anonymous"}, Status: "active"}

// Group gathers subjects.
type Group struct {
	Object
	Members Subjects
	Match   []Match // Certificate included, as CertificateMatch gives it
	// Certificate is what a certificate that somebody holds has to say: keys of CertificateParts; none for nothing.
	Certificate []Match
	Stewards    Subjects
	Tags        Tags
}

// Role is a named set of operations.
type Role struct {
	Object
	Include []Ref
	Allow   Operations
	Starts  *Moment
	Ends    *Moment
	// AtMost is how many people and services may hold the role, AtMostPerSystem how many in one system; 0: any number.
	AtMost          int
	AtMostPerSystem int
	// AtLeast is how many have to hold it, AtLeastPerSystem how many in each system in which it is granted; 0: any number.
	AtLeast          int
	AtLeastPerSystem int
	// Session is for how long whoever signed in with the role stays so, Idle for how long without doing anything; 0: the
	// system's own.
	Session, Idle time.Duration
	// SignedIn are the values of the fact signed-in-within in which alone the role gives anything; none for any.
	SignedIn []string
	// Acknowledge is what whoever grants the role has to accept; "": nothing.
	Acknowledge string
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
	// Acknowledged says who accepted what the roles ask to be acknowledged.
	Acknowledged []Acknowledgement
}

// Acknowledgement says that somebody accepted what a role asks to be acknowledged, and why.
type Acknowledgement struct {
	Role Ref
	By   string
	Why  string
	Date *Moment
}

// OnRequest makes a grant one that is lent for a limited time.
type OnRequest struct {
	Longest   time.Duration
	Approvers Subjects
	Approvals int
	Reason    bool
	Ticket    bool
	// Emergency says that it may be had at once in an emergency, and approved afterwards.
	Emergency bool
	// DecideWithin is how long a request may wait for its approvals; then it lapses. 0: DefaultDecideWithin.
	DecideWithin time.Duration
}

// DefaultDecideWithin is how long a request may wait where its grant does not say.
const DefaultDecideWithin = 24 * time.Hour

// Patience is how long a request for the grant may wait for its approvals.
func (o *OnRequest) Patience() time.Duration {
	if o.DecideWithin > 0 {
		return o.DecideWithin
	}
	return DefaultDecideWithin
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
	Within   Address // the place to which it is confined, and all inside it; zero: all of the grant's `on`
}

// Given is what a request says. What it leaves out is open; of a test, the time that is left out is now.
type Given struct {
	Time    *Moment
	Facts   FactsSaid
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

// GuaranteeKind is the statement a guarantee makes: the key that says it. Package verify has the kinds.
type GuaranteeKind string

// Guarantee is a statement that must hold of all decisions.
type Guarantee struct {
	Object
	Kind         GuaranteeKind
	Subjects     Subjects   // of a kind that takes subjects
	Count        int        // of one that takes a number
	Both         Operations // of one that takes two operations
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

// Within says whether an instant lies within dates, either of which may be nil.
func Within(starts, ends *Moment, zone *clock.Zone, at clock.Instant) bool {
	return (starts == nil || starts.BegunAt(zone, at)) && (ends == nil || !ends.OverAt(zone, at))
}

// ActiveAt says whether a subject is active at an instant.
func (s *Subject) ActiveAt(zone *clock.Zone, at clock.Instant) bool {
	return (s.Status == "" || s.Status == Statuses[0]) && Within(s.Starts, s.Ends, zone, at) &&
		!slices.ContainsFunc(s.Away, func(a Absence) bool { return Within(a.Starts, a.Ends, zone, at) })
}

// BegunAt says whether the moment, a date as a whole day, has begun at the instant.
func (m *Moment) BegunAt(zone *clock.Zone, at clock.Instant) bool {
	if m.IsDate {
		return zone.DateOf(at).String() >= m.Date.String()
	}
	return at >= m.Instant
}

// Begin gives the first instant of the moment, a date being a whole day.
func (m *Moment) Begin(zone *clock.Zone) clock.Instant {
	if m.IsDate {
		return endOf(zone, m.Date.Before())
	}
	return m.Instant
}

// End gives the first instant at which all of the moment is over, a date being a whole day.
func (m *Moment) End(zone *clock.Zone) clock.Instant {
	if m.IsDate {
		return endOf(zone, m.Date)
	}
	return m.Instant
}

// endOf gives the first instant at which a day is over for good, though the clock be set back over its midnight.
func endOf(zone *clock.Zone, day clock.Date) clock.Instant {
	last := clock.Beginning
	for _, part := range zone.Until(day) {
		last = max(last, part.To)
	}
	return last
}

// OverAt says whether all of the moment, a date as a whole day, is over at the instant.
func (m *Moment) OverAt(zone *clock.Zone, at clock.Instant) bool {
	if m.IsDate {
		return zone.DateOf(at).String() > m.Date.String()
	}
	return at >= m.Instant
}
