package lending

import (
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"golang.org/x/crypto/ssh"

	"hiddengate/internal/clock"
	"hiddengate/internal/credential"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/ledger"
)

// Credential is what a request for one asks for, and what came of it.
type Credential struct {
	ProfileID string
	Profile   *estate.Profile // nil where it is gone, or its authority is
	Barred    string          // why nothing comes of it, though the profile is there; "" for nothing
	Key       []byte          // the public key, as DER (RFC 5280, SubjectPublicKeyInfo)
	Renews    int64           // the request whose credential it follows; 0 for none
	Loan      int64           // the request for the loan that it is for; 0 for none
	LoanEnds  clock.Instant   // when that is over, as it is known now
	Issued    *Issued
	Revoked   *Revoked
}

// Issued is a credential that an authority signed. From is included, Until is not.
type Issued struct {
	Said
	Authority   string
	Serial      string
	From, Until clock.Instant
	Certificate string // as DER in base64, or one line of OpenSSH
}

// X509 reads the certificate, where it is none for SSH.
func (i *Issued) X509() (*x509.Certificate, error) {
	der, err := base64.StdEncoding.DecodeString(i.Certificate)
	if err != nil {
		return nil, err
	}
	return x509.ParseCertificate(der)
}

// Revoked is that a credential does not count any more.
type Revoked struct {
	Said
	Reason string // one of credential.Reasons
}

// Operations on an authority and its profiles, as the built-in catalog names them.
const (
	opRequest    = "credential.request"
	opRequestFor = "credential.request-for"
	opApprove    = "credential.approve"
	opIssue      = "credential.issue"
	opRenew      = "credential.renew"
	opRevoke     = "credential.revoke"
	opPublish    = "revocations.publish"
)

// What says in a sentence what a request is for.
func (r *Request) What() string {
	if r.Credential != nil {
		return "profile " + r.Credential.ProfileID
	}
	return "grant " + r.GrantID
}

// void says why nothing can come of a request; "" where something can.
func (r *Request) void() string {
	switch c := r.Credential; {
	case c == nil && r.Grant == nil:
		return fmt.Sprintf("grant %s is gone, or lends nothing any more", r.GrantID)
	case c == nil || c.Issued != nil:
		return ""
	case c.Profile == nil:
		return fmt.Sprintf("profile %s is gone", c.ProfileID)
	default:
		return c.Barred
	}
}

// may says whether somebody may do an operation on a profile at an instant, whatever else their request said or did
// not say.
func (b *Book) may(who estate.Principal, operation string, p *estate.Profile, at clock.Instant) bool {
	return b.allowed(who, operation, p.Address(), at)
}

func (b *Book) allowed(who estate.Principal, operation string, on estate.Address, at clock.Instant) bool {
	ctx := b.signing().NewContext()
	ctx.Time(at)
	out, err := b.signing().Decide(gate.Request{Subject: who, Operation: operation, Resource: on.String(), Context: ctx})
	return err == nil && out == gate.Allow
}

// MaySign says whether somebody may approve requests for a profile at an instant.
func (b *Book) MaySign(p *estate.Profile, who estate.Principal, at clock.Instant) bool {
	return (p.Approvers == nil || b.signing().Selects(p.Approvers, who)) && b.may(who, opApprove, p, at)
}

// Signers lists who may approve a request for a profile that some asked for or are named in, people first, by id.
func (b *Book) Signers(p *estate.Profile, at clock.Instant, not ...estate.Principal) (out []estate.Principal) {
	everyone := p.Approvers
	if everyone == nil {
		everyone = estate.Subjects{{Principal: estate.Principal{Kind: estate.IsEveryone}}}
	}
	barred := map[estate.Principal]bool{}
	for _, n := range not {
		barred[n] = true
	}
	for _, who := range b.signing().Members(everyone) {
		if !barred[who] && b.MaySign(p, who, at) {
			out = append(out, who)
		}
	}
	return out
}

// barred says why somebody may not ask for a credential in the name of another, or in their own; "" if they may.
func (b *Book) barred(p *estate.Profile, asker, holder estate.Principal, stranger bool, at clock.Instant) string {
	e := b.estate()
	zone := e.Zone
	operation := opRequest
	if asker != holder {
		operation = opRequestFor
	}
	switch {
	case e.Subject(holder) == nil || holder.Kind == estate.IsAnonymous:
		return fmt.Sprintf("the policy knows no %s", holder)
	case p.Holders != nil && !b.signing().Selects(p.Holders, holder):
		return fmt.Sprintf("profile %s names nobody like %s: its `holders` are %s", p.ID, holder, terms(p.Holders))
	case !estate.Within(p.Starts, p.Ends, zone, at):
		return fmt.Sprintf("profile %s signs nothing at that time", p.ID)
	case stranger && !p.Open:
		return fmt.Sprintf("profile %s is not open to strangers", p.ID)
	case !stranger && !b.may(asker, operation, p, at):
		return fmt.Sprintf("%s may not do %s on %s", asker, operation, p.Address())
	}
	return ""
}

// Drafted reads a request for a credential as it would be made, before anybody signs it; nil if it cannot be read.
func (b *Book) Drafted(e ledger.Event) *Request {
	var body ledger.RequestBody
	if json.Unmarshal(e.Body, &body) != nil || body.Credential == nil {
		return nil
	}
	return b.madeCredential(e, &body, true)
}

// madeCredential reads the event by which a credential was asked for; counts says whether it is signed as it has to be.
func (b *Book) madeCredential(e ledger.Event, body *ledger.RequestBody, counts bool) *Request {
	asks := body.Credential
	asker, known := b.Actor(e)
	holder, err := estate.ParsePrincipal(asks.For)
	key, wrong := base64.StdEncoding.DecodeString(asks.Key)
	switch {
	case err != nil || wrong != nil || !known && !asks.Stranger || !b.Ledgers[e.Ledger]:
		return nil
	case asks.Stranger:
		asker = estate.Principal{}
	case !counts:
		return nil
	}
	c := &Credential{ProfileID: asks.Profile, Key: key}
	r := &Request{Number: e.Number, ID: e.ID(), Asker: asker, Subject: holder, Credential: c,
		Asked: time.Duration(body.Seconds) * time.Second, Made: clock.Instant(e.Time),
		DecideBy: clock.Instant(body.DecideBy), Reason: body.Reason, Ticket: body.Ticket}
	if asks.Renews != nil {
		c.Renews = asks.Renews.Number
	}
	if asks.Loan != nil {
		c.Loan, c.LoanEnds = asks.Loan.Number, b.loanEnds(r, asks.Loan)
	}
	r.Lasts = r.Asked
	p := b.estate().Profiles[asks.Profile]
	if p == nil || b.estate().Systems[p.Authority.ID] == nil {
		return r
	}
	c.Profile, c.Barred = p, b.barred(p, asker, holder, asks.Stranger, r.Made)
	r.Needed, r.Lasts = p.Approvals, min(r.Asked, p.Longest)
	r.DecideBy = min(r.DecideBy, r.Made+clock.Instant(estate.DefaultDecideWithin.Microseconds()))
	if !asks.Stranger && (b.may(asker, opIssue, p, r.Made) ||
		asker == holder && b.may(asker, opRenew, p, r.Made) && b.renews(r, asks)) {
		r.Needed = 0
	}
	if r.Needed == 0 && c.Barred == "" {
		r.begin(r.Made, b.estate().Zone, b.estate())
	}
	return r
}

// renews says whether a request follows a credential of the same holder and profile that was signed, held when it was
// made, and is not revoked.
func (b *Book) renews(r *Request, asks *ledger.CredentialBody) bool {
	events := b.other(r, asks.Renews)
	if events == nil || events[0].Kind != ledger.Wanted {
		return false
	}
	var body ledger.RequestBody
	if json.Unmarshal(events[0].Body, &body) != nil || body.Credential == nil {
		return false
	}
	key, err := base64.StdEncoding.DecodeString(body.Credential.Key)
	if err != nil || body.Credential.Profile != r.Credential.ProfileID ||
		body.Credential.For != r.Subject.String() || !sameOther(body.Credential.Loan, asks.Loan) {
		return false
	}
	old := &Request{Number: asks.Renews.Number, ID: asks.Renews.ID, Credential: &Credential{Key: key}}
	for _, e := range events[1:] {
		b.takeCredential(old, e)
	}
	c := old.Credential
	return c.Issued != nil && c.Revoked == nil && c.Issued.From <= r.Made && r.Made < c.Issued.Until
}

// other gives the events about another request that one names; nil where there is none before it.
func (b *Book) other(r *Request, is *ledger.Other) []ledger.Event {
	if is == nil || b.About == nil || is.Number <= 0 || r.Number > 0 && is.Number >= r.Number {
		return nil
	}
	events, err := b.About(is.Number)
	if err != nil || len(events) == 0 || events[0].Number != is.Number || events[0].ID() != is.ID {
		return nil
	}
	return events
}

func sameOther(a, b *ledger.Other) bool { return a == b || a != nil && b != nil && *a == *b }

// loanEnds is when the loan is over that a credential is for, as far as it is known; at once, where there is none.
func (b *Book) loanEnds(r *Request, is *ledger.Other) clock.Instant {
	events := b.other(r, is)
	if events == nil {
		return r.Made
	}
	if loan := b.Read(events); loan != nil && loan.Credential == nil && loan.Subject == r.Subject && loan.Over > 0 {
		return loan.Over
	}
	return r.Made
}

// lastOfCredential is when the first of a subject and a profile ends.
func lastOfCredential(e *estate.Estate, p *estate.Profile, who estate.Principal) clock.Instant {
	last := min(endOf(e.Zone, p.Ends), clock.End)
	if s := e.Subject(who); s != nil {
		last = min(last, endOf(e.Zone, s.Ends))
	}
	return last
}

// takeCredential takes an event by which a credential was signed or revoked; false if it is of another kind. Whoever
// wrote that one is revoked, it is: what is in doubt counts for nothing.
func (b *Book) takeCredential(r *Request, e ledger.Event) bool {
	c := r.Credential
	by, _ := b.Actor(e)
	said := Said{By: by, At: clock.Instant(e.Time), Number: e.Number}
	switch e.Kind {
	case ledger.Issued:
		var body ledger.IssuedBody
		if b.later(e) || !b.Ledgers[e.Ledger] || json.Unmarshal(e.Body, &body) != nil || body.Request != r.ID ||
			c.Issued != nil {
			return true
		}
		if one, err := b.signed(r, body); err == nil {
			one.Said = said
			c.Issued = one
			r.Begins, r.Over = one.From, one.Until
			r.revoke()
		}
		return true
	case ledger.Revoked:
		var body ledger.RevokedBody
		if !b.later(e) && json.Unmarshal(e.Body, &body) == nil && body.Request == r.ID && c.Revoked == nil {
			said.Why = body.Why
			c.Revoked = &Revoked{said, body.Reason}
			r.revoke()
		}
		return true
	}
	return false
}

// revoke cuts a credential short that is revoked.
func (r *Request) revoke() {
	if c := r.Credential; c.Issued != nil && c.Revoked != nil {
		r.Ended = &c.Revoked.Said
		r.Over = max(r.Begins, min(r.Over, c.Revoked.At))
	}
}

// anchorsOf reads the anchors of an authority once.
func (b *Book) anchorsOf(s *estate.System) ([]credential.Anchor, error) {
	if out, known := b.anchors[s.ID]; known {
		return out, nil
	}
	out, err := credential.AnchorsOf(s)
	if err != nil {
		return nil, err
	}
	if b.anchors == nil {
		b.anchors = map[string][]credential.Anchor{}
	}
	b.anchors[s.ID] = out
	return out, nil
}

// signed reads what is said to be the credential of a request, and sees that its authority signed it for the key that
// was asked for.
func (b *Book) signed(r *Request, body ledger.IssuedBody) (*Issued, error) {
	s := b.estate().Systems[body.Authority]
	if s == nil {
		return nil, fmt.Errorf("there is no system %q", body.Authority)
	}
	anchors, err := b.anchorsOf(s)
	if err != nil {
		return nil, err
	}
	key, err := x509.ParsePKIXPublicKey(r.Credential.Key)
	if err != nil {
		return nil, err
	}
	out := &Issued{Authority: body.Authority, Certificate: body.Certificate}
	if s.Makes == estate.MakesSSH {
		c, err := credential.ParseSSHCertificate(anchors, body.Certificate)
		if err != nil {
			return nil, err
		}
		if k, ok := c.Key.(ssh.CryptoPublicKey); !ok || !credential.SameKey(k.CryptoPublicKey(), key) {
			return nil, errOtherKey
		}
		out.Serial = strconv.FormatUint(c.Serial, 10)
		out.From, out.Until = clock.Instant(c.ValidAfter)*clock.Second, clock.Instant(c.ValidBefore)*clock.Second
		return out, nil
	}
	c, err := out.X509()
	if err != nil {
		return nil, err
	}
	if _, err := credential.SignedBy(anchors, c); err != nil {
		return nil, err
	}
	if !credential.SameKey(c.PublicKey, key) {
		return nil, errOtherKey
	}
	out.Serial = c.SerialNumber.Text(16)
	out.From = clock.Instant(c.NotBefore.UnixMicro())
	out.Until = clock.Instant(c.NotAfter.UnixMicro()) + clock.Second
	return out, nil
}

var errOtherKey = fmt.Errorf("it is for another key than was asked for")

// MayRevoke says why somebody may not revoke the credential of a request at an instant; nil if they may: who holds it,
// who asked for it, and who may by a grant.
func (b *Book) MayRevoke(r *Request, by estate.Principal, at clock.Instant) error {
	c := r.Credential
	switch {
	case c == nil:
		return fmt.Errorf("it is for no credential: to end it, hgate finish %d", r.Number)
	case c.Issued == nil:
		return fmt.Errorf("it is not issued: to take it back, hgate finish %d", r.Number)
	case c.Revoked != nil:
		return fmt.Errorf("it was revoked already")
	case at >= c.Issued.Until:
		return fmt.Errorf("it has ended")
	case by != r.Subject && by != r.Asker && (c.Profile == nil || !b.may(by, opRevoke, c.Profile, at)):
		return fmt.Errorf("%s neither holds it, nor may do %s on %s", by, opRevoke, c.ProfileID)
	}
	return nil
}

// MayPublish says why somebody may not publish what an authority has revoked at an instant; nil if they may.
func (b *Book) MayPublish(s *estate.System, by estate.Principal, at clock.Instant) error {
	if !b.allowed(by, opPublish, estate.Address{System: s.ID}, at) {
		return fmt.Errorf("%s may not do %s on %s", by, opPublish, s.ID)
	}
	return nil
}

// Failing says why a credential that was issued does not count at an instant; "" if it does.
func (b *Book) Failing(r *Request, at clock.Instant) string {
	c, zone := r.Credential, b.estate().Zone
	switch {
	case c.Revoked != nil:
		return "it is revoked (" + c.Revoked.Reason + ")"
	case at >= c.Issued.Until:
		return "it ended at " + zone.Format(c.Issued.Until)
	case at < c.Issued.From:
		return "it holds from " + zone.Format(c.Issued.From)
	}
	_, why := b.Barring(r, at)
	return why
}

// Barring says why a credential does not count at an instant though it was issued, lasts, and nobody revoked it, with
// the reason for which an authority lists it; "" if it counts.
func (b *Book) Barring(r *Request, at clock.Instant) (reason, why string) {
	c, s := r.Credential, b.estate().Subject(r.Subject)
	switch {
	case c.Profile == nil:
		return "cessation-of-operation", "profile " + c.ProfileID + " is gone"
	case s == nil || s.Status == "left":
		return "affiliation-changed", r.Subject.String() + " has left"
	case s.Ends != nil && s.Ends.OverAt(b.estate().Zone, at):
		return "affiliation-changed", "the time of " + r.Subject.String() + " is over"
	case !s.ActiveAt(b.estate().Zone, at):
		return "certificate-hold", r.Subject.String() + " is not active"
	case c.Profile.Holders != nil && !b.signing().Selects(c.Profile.Holders, r.Subject):
		return "privilege-withdrawn", r.Subject.String() + " is no holder of profile " + c.ProfileID + " any more"
	case c.Loan > 0 && at >= c.LoanEnds:
		return "privilege-withdrawn", fmt.Sprintf("the loan of request %d, which it is for, is over", c.Loan)
	}
	return "", ""
}
