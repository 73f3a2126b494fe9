// Package lending says what requests for access come to: what is asked for, who may decide it, what is in force when.
// It works out everything from the events of a ledger and the policy's files as they are now, and does no I/O.
package lending

import (
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
)

// State is how far a request has come at an instant.
type State int

// The states.
const (
	Waiting   State = iota // for approvals
	Coming                 // approved, and begins later
	InForce                // lent now
	Over                   // it was lent
	Ended                  // it was lent, and somebody ended it before its time
	Withdrawn              // ended before it began
	Refused
	Lapsed // nobody decided it in time
	Void   // its grant is gone, or is none that is lent; its profile is gone, or is not for who asked
)

var stateNames = []string{"waiting", "coming", "in force", "over", "ended", "withdrawn", "refused", "lapsed", "void"}

func (s State) String() string { return stateNames[s] }

// Said is that somebody approved, refused or ended a request.
type Said struct {
	By     estate.Principal
	At     clock.Instant
	Why    string
	Number int64 // of the event
}

// Request is what somebody asked for, and what came of it.
type Request struct {
	Number  int64            // of the event by which it was made
	ID      string           // of that event's statement
	Asker   estate.Principal // who asked; zero for somebody whom the policy does not know
	Subject estate.Principal // for whom: of a loan, who asked
	// Credential is what is asked for, where it is one; Grant is nil then.
	Credential *Credential
	GrantID    string
	Grant      *estate.Grant  // nil where it is gone, or is none that is lent
	Within     estate.Address // zero: all of the grant's places
	Asked      time.Duration  // for how long
	Lasts      time.Duration  // the same, at most as long as the grant lends now
	Wished     *clock.Instant // it begins no earlier; nil: at once
	Made       clock.Instant
	// DecideBy is when it lapses, unless it is decided or needs no approval.
	DecideBy       clock.Instant
	Reason, Ticket string
	Emergency      bool // it is one, and the grant lends in emergencies
	Needed         int  // how many approvals it needs, as the files say now
	Approvals      []Said
	Refused, Ended *Said
	// Begins and Over are when it is in force, or will be; both are 0 where it is not, by now.
	Begins, Over clock.Instant
}

// StateAt tells how far the request has come at an instant.
func (r *Request) StateAt(at clock.Instant) State {
	switch {
	case r.void() != "":
		return Void
	case r.Refused != nil && r.Begins == 0:
		return Refused
	case r.Ended != nil && (r.Begins == 0 || r.Ended.At < r.Begins):
		return Withdrawn
	case r.Begins == 0 && at < r.DecideBy:
		return Waiting
	case r.Begins == 0:
		return Lapsed
	case at < r.Begins:
		return Coming
	case at < r.Over:
		return InForce
	case r.Ended != nil && r.Over == r.Ended.At, r.Refused != nil && r.Over == r.Refused.At:
		return Ended
	}
	return Over
}

// ToSignOff says whether it was lent in an emergency, and no approver has said yet whether that was right.
func (r *Request) ToSignOff() bool {
	return r.Emergency && r.Refused == nil && len(r.Approvals) == 0 && r.Begins > 0
}

// decided says whether it has all the approvals that it needs, or one says no.
func (r *Request) decided() bool { return r.Begins > 0 || r.Refused != nil || r.Ended != nil }

// begin puts the request in force.
func (r *Request) begin(at clock.Instant, zone *clock.Zone, e *estate.Estate) {
	r.Begins = at
	if r.Wished != nil {
		r.Begins = max(r.Begins, *r.Wished)
	}
	last := clock.End
	if r.Credential != nil {
		last = lastOfCredential(e, r.Credential.Profile, r.Subject)
	} else {
		last = lastOf(e, r.Grant, r.Subject)
	}
	r.Over = min(r.Begins+clock.Instant(r.Lasts.Microseconds()), last)
	r.Over = max(r.Over, r.Begins)
}

// end cuts the request short.
func (r *Request) end(at clock.Instant) {
	if r.Begins > 0 {
		r.Over = max(r.Begins, min(r.Over, at))
	}
}

// lastOf is when a subject, a grant and the last of its roles have ended.
func lastOf(e *estate.Estate, g *estate.Grant, who estate.Principal) clock.Instant {
	last := min(endOf(e.Zone, g.Ends), clock.End)
	if s := e.Subject(who); s != nil {
		last = min(last, endOf(e.Zone, s.Ends))
	}
	roles := clock.Beginning
	for _, ref := range g.Roles {
		roles = max(roles, endOf(e.Zone, e.Roles[ref.ID].Ends))
	}
	return min(last, roles)
}

// endOf is the first instant at which a moment is over; clock.End for none.
func endOf(zone *clock.Zone, m *estate.Moment) clock.Instant {
	if m == nil {
		return clock.End
	}
	return m.End(zone)
}
