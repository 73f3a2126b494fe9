package lending

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/credential"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/signature"
)

// Book reads requests as the policy's files have it now.
type Book struct {
	Gate *gate.Gate
	// Signing decides who may ask for credentials, approve them, and set what others sign in with, where that is not Gate:
	// in Gate somebody may belong to a group for a certificate that they hold, which hangs on these decisions.
	Signing *gate.Gate
	// Ledgers are the ids of the ledgers for which statements count: the ledger's own, and those that it took over.
	Ledgers map[string]bool
	// About gives the events about a request, for what others follow or are for. Where it is nil nothing is renewed
	// without approvals, and no credential counts that is for a loan.
	About   func(request int64) ([]ledger.Event, error)
	anchors map[string][]credential.Anchor // by the authorities' ids, once they were read
	// Until leaves out what was said after it, so that requests stand as they did then; 0 for nothing left out.
	Until clock.Instant
}

func (b *Book) estate() *estate.Estate { return b.Gate.Estate() }

func (b *Book) signing() *gate.Gate {
	if b.Signing != nil {
		return b.Signing
	}
	return b.Gate
}

// Actor finds who made an event in the policy; ok is false if it is nobody there.
func (b *Book) Actor(e ledger.Event) (p estate.Principal, ok bool) {
	p, err := estate.ParsePrincipal(e.Actor)
	if err != nil || p.Kind != estate.IsPerson && p.Kind != estate.IsService {
		return p, false
	}
	return p, b.estate().Subject(p) != nil
}

// Signed tells by which of the actor's keys an event is signed. The error says why by none.
func (b *Book) Signed(e ledger.Event) (key string, err error) {
	p, ok := b.Actor(e)
	switch {
	case e.Signature == "":
		return "", fmt.Errorf("it is not signed")
	case !ok:
		return "", fmt.Errorf("the policy knows no %s", e.Actor)
	}
	text, err := e.Signed()
	if err != nil {
		return "", err
	}
	return signature.Check(b.estate().Subject(p).Keys, text, e.Signature)
}

// Counts says whether an event counts: always, unless the workspace requires signatures and it has none that counts.
// The error says why not.
func (b *Book) Counts(e ledger.Event) error {
	if !b.Ledgers[e.Ledger] {
		return fmt.Errorf("it was made for another ledger")
	}
	if !b.estate().SigningRequired || !e.Kind.NeedsSignature() {
		return nil
	}
	_, err := b.Signed(e)
	return err
}

// Read tells what became of the request that some events are about, by their order; the first is that by which it was
// made. It is nil if that one does not count.
func (b *Book) Read(events []ledger.Event) *Request {
	r := b.made(events)
	if r == nil {
		return nil
	}
	for _, e := range events[1:] {
		if r.Credential != nil && b.takeCredential(r, e) {
			continue
		}
		var body ledger.DecisionBody
		by, ok := b.Actor(e)
		if !ok || b.later(e) || json.Unmarshal(e.Body, &body) != nil || body.Request != r.ID || b.Counts(e) != nil {
			continue
		}
		b.take(r, e.Kind, Said{by, clock.Instant(e.Time), body.Why, e.Number})
	}
	return r
}

// later says whether an event is one that is left out.
func (b *Book) later(e ledger.Event) bool { return b.Until > 0 && clock.Instant(e.Time) > b.Until }

// made reads the event by which a request was made.
func (b *Book) made(events []ledger.Event) *Request {
	var body ledger.RequestBody
	if len(events) == 0 || !events[0].Kind.IsRequest() || b.later(events[0]) {
		return nil
	}
	e := events[0]
	if json.Unmarshal(e.Body, &body) != nil || body.Seconds <= 0 {
		return nil
	}
	if (body.Credential != nil) != (e.Kind == ledger.Wanted) {
		return nil
	}
	if body.Credential != nil {
		return b.madeCredential(e, &body, b.Counts(e) == nil)
	}
	who, ok := b.Actor(e)
	if !ok || b.Counts(e) != nil {
		return nil
	}
	r := &Request{
		Number: e.Number, ID: e.ID(), Asker: who, Subject: who, GrantID: body.Grant,
		Asked: time.Duration(body.Seconds) * time.Second,
		Made:  clock.Instant(e.Time), DecideBy: clock.Instant(body.DecideBy), Reason: body.Reason, Ticket: body.Ticket,
	}
	if body.Starts != nil {
		at := clock.Instant(*body.Starts)
		r.Wished = &at
	}
	if body.Within != "" {
		var err error
		if r.Within, err = estate.ParseAddress(body.Within); err != nil {
			return nil
		}
	}
	r.Lasts = r.Asked
	g := b.estate().Grants[body.Grant]
	if g == nil || g.OnRequest == nil {
		return r
	}
	r.Grant, r.Needed = g, g.OnRequest.Approvals
	r.Emergency = body.Emergency && g.OnRequest.Emergency
	r.Lasts = min(r.Asked, g.OnRequest.Longest)
	r.DecideBy = min(r.DecideBy, r.Made+clock.Instant(g.OnRequest.Patience().Microseconds()))
	if r.Needed == 0 || r.Emergency {
		r.begin(r.Made, b.estate().Zone, b.estate())
	}
	return r
}

// take takes what somebody said of a request, if it was theirs to say.
func (b *Book) take(r *Request, kind ledger.Kind, s Said) {
	if r.void() != "" {
		return
	}
	switch kind {
	case ledger.Approved:
		if b.MayApprove(r, s.By, s.At) == nil {
			if r.Approvals = append(r.Approvals, s); len(r.Approvals) == r.Needed && !r.Emergency {
				r.begin(max(s.At, r.Made), b.estate().Zone, b.estate())
			}
		}
	case ledger.Refused:
		if b.MayRefuse(r, s.By, s.At) == nil {
			r.Refused = &s
			r.end(s.At)
		}
	case ledger.Finished:
		if b.MayEnd(r, s.By, s.At) == nil {
			r.Ended = &s
			r.end(s.At)
		}
	}
}

// isApprover says whether somebody is an approver of a request, and was or will be there at an instant.
func (b *Book) isApprover(r *Request, p estate.Principal, at clock.Instant) bool {
	if r.Credential != nil {
		return b.MaySign(r.Credential.Profile, p, at)
	}
	return b.IsApprover(r.Grant, p, at)
}

// IsApprover says whether somebody is an approver of a grant, and was or will be there at an instant.
func (b *Book) IsApprover(g *estate.Grant, p estate.Principal, at clock.Instant) bool {
	s := b.estate().Subject(p)
	if s == nil || !b.Gate.Selects(g.OnRequest.Approvers, p) {
		return false
	}
	there := *s
	there.Status = "" // which has no dates: whoever was suspended since was active then
	return there.ActiveAt(b.estate().Zone, at)
}

// Approvers lists who may approve a request by somebody for a grant at an instant, people first, by id.
func (b *Book) Approvers(g *estate.Grant, asker estate.Principal, at clock.Instant) (out []estate.Principal) {
	for _, p := range b.Gate.Members(g.OnRequest.Approvers) {
		if s := b.estate().Subject(p); p != asker && s != nil && p.Kind != estate.IsAnonymous &&
			s.ActiveAt(b.estate().Zone, at) {
			out = append(out, p)
		}
	}
	return out
}

// MayApprove says why somebody may not approve a request at an instant, or sign it off; nil if they may.
func (b *Book) MayApprove(r *Request, by estate.Principal, at clock.Instant) error {
	switch said := func(s Said) bool { return s.By == by }; {
	case r.void() != "":
		return errors.New(r.void())
	case by == r.Asker:
		return fmt.Errorf("%s asked for it: somebody else has to approve", by)
	case by == r.Subject:
		return fmt.Errorf("it is for %s: somebody else has to approve", by)
	case !b.isApprover(r, by, at):
		return fmt.Errorf("%s is no approver of %s who is there at that time", by, r.What())
	case slices.ContainsFunc(r.Approvals, said):
		return fmt.Errorf("%s has approved it already", by)
	}
	if r.ToSignOff() {
		return nil
	}
	return b.undecided(r, at)
}

// MayRefuse says why somebody may not refuse a request at an instant; nil if they may.
func (b *Book) MayRefuse(r *Request, by estate.Principal, at clock.Instant) error {
	switch {
	case r.void() != "":
		return errors.New(r.void())
	case by == r.Asker:
		return fmt.Errorf("%s asked for it: to take it back, end it", by)
	case !b.isApprover(r, by, at):
		return fmt.Errorf("%s is no approver of %s who is there at that time", by, r.What())
	}
	if r.ToSignOff() {
		return nil
	}
	return b.undecided(r, at)
}

// MayEnd says why somebody may not end a request or what is lent by it at an instant; nil if they may: who asked, an
// approver, and the workspace's owner.
func (b *Book) MayEnd(r *Request, by estate.Principal, at clock.Instant) error {
	switch state := r.StateAt(at); {
	case r.void() != "":
		return errors.New(r.void())
	case r.Ended != nil || r.Refused != nil || state != Waiting && state != Coming && state != InForce:
		return fmt.Errorf("it is %s: there is nothing to end", state)
	case r.Credential != nil && r.Credential.Issued != nil:
		return fmt.Errorf("it is issued: revoke it (hgate credential revoke %d)", r.Number)
	case by != r.Asker && by != r.Subject && !b.isApprover(r, by, at) && !b.Owns(by):
		return fmt.Errorf("%s neither asked for it, nor is an approver or the workspace's owner", by)
	}
	return nil
}

// undecided says what was decided already; nil if the request waits.
func (b *Book) undecided(r *Request, at clock.Instant) error {
	switch {
	case r.Refused != nil:
		return fmt.Errorf("%s has refused it", r.Refused.By)
	case r.Ended != nil:
		return fmt.Errorf("%s has ended it", r.Ended.By)
	case r.decided():
		return fmt.Errorf("it has all the approvals that it needs")
	case at >= r.DecideBy:
		return fmt.Errorf("it has lapsed: nobody decided it in time")
	}
	return nil
}

// MayImport says whether the one who took another ledger over may: the workspace's owner; anybody, where it has none.
func (b *Book) MayImport(e ledger.Event) bool {
	p, ok := b.Actor(e)
	return ok && (b.estate().Owner == nil || b.Owns(p))
}

// Owns says whether somebody is the workspace's owner, or of the group that is.
func (b *Book) Owns(p estate.Principal) bool {
	owner := b.estate().Owner
	return owner != nil && (*owner == p || owner.Kind == estate.IsGroup && b.Gate.InGroup(p, owner.ID))
}

// Elevations gives what requests come to for decisions.
func Elevations(requests []*Request) (out []estate.Elevation) {
	for _, r := range requests {
		if r.Grant != nil && r.Begins < r.Over {
			out = append(out, estate.Elevation{Grant: r.GrantID, Subject: r.Subject, From: r.Begins, To: r.Over,
				Within: r.Within})
		}
	}
	return out
}
