package lending

import (
	"errors"
	"net/url"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/credential"
	"hiddengate/internal/estate"
)

// Accounts lists the names of somebody's accounts in a system, in the order of their addresses: the resources of that
// type which they own there.
func (b *Book) Accounts(system string, who estate.Principal) (out []string) {
	tree := b.estate().Tree
	first := tree.Find(system)
	if first < 0 {
		return nil
	}
	for i := first; i < tree.End(first); i++ {
		owner := tree.Owners[tree.Rows[i].Owner]
		if owner == nil || *owner != who {
			continue
		}
		if r := tree.At(i); r.Type == "account" {
			name, err := url.PathUnescape(r.Address.Name())
			if err != nil {
				name = r.Address.Name()
			}
			out = append(out, name)
		}
	}
	return out
}

// Named says what a credential of a profile says of somebody. The error says what it cannot say.
func (b *Book) Named(p *estate.Profile, who estate.Principal) (credential.Name, error) {
	s := b.estate().Subject(who)
	if s == nil {
		return credential.Name{}, errors.New("the policy knows no " + who.String())
	}
	return credential.NameOf(p, b.estate().Title, s, b.Accounts(p.System.ID, who))
}

// Last is when the first of somebody and a profile ends; no credential lasts longer.
func (b *Book) Last(p *estate.Profile, who estate.Principal) clock.Instant {
	return lastOfCredential(b.estate(), p, who)
}

// MayAsk says why a request for a credential is not to be made at an instant, as a Refusal; nil if it is.
func (b *Book) MayAsk(r *Request, at clock.Instant) error {
	c := r.Credential
	if c.Profile == nil {
		return refuse("", "there is no profile %s", c.ProfileID)
	}
	if c.Barred != "" {
		help, operation := "", opRequest
		if r.Asker != r.Subject {
			operation = opRequestFor
		}
		if r.Asker != (estate.Principal{}) {
			help = "hgate try " + r.Asker.String() + " " + operation + " " + c.Profile.Address().String()
		}
		return refuse(help, "%s", c.Barred)
	}
	if s := b.estate().Subject(r.Subject); s.Status == "left" || s.Status == "suspended" {
		return refuse("", "%s is not active", r.Subject)
	}
	if n := len(b.Signers(c.Profile, at, r.Asker, r.Subject)); r.Needed > n {
		return refuse("hgate holders "+opApprove+" "+c.Profile.Address().String(),
			"profile %s asks for %d approvals, and %d could approve: nobody could have it signed", c.ProfileID, r.Needed, n)
	}
	if _, err := b.Named(c.Profile, r.Subject); err != nil {
		return refuse("", "profile %s cannot name %s: %s", c.ProfileID, r.Subject, err)
	}
	return nil
}

// MayIssue says why the credential of a request is not to be signed at an instant; nil if it is.
func (b *Book) MayIssue(r *Request, at clock.Instant) error {
	c := r.Credential
	if c == nil {
		return errors.New("it is for no credential")
	}
	if why := r.void(); why != "" {
		return errors.New(why)
	}
	switch state := r.StateAt(at); {
	case c.Issued != nil:
		return errors.New("it is issued already")
	case state == Waiting:
		return errors.New("it waits for approvals")
	case state != InForce:
		return errors.New("it is " + state.String())
	}
	if s := b.estate().Subject(r.Subject); !s.ActiveAt(b.estate().Zone, at) && s.Status != "invited" {
		return errors.New(r.Subject.String() + " is not active")
	}
	return nil
}

// SpanOf gives the time for which the credential of a request is signed at an instant: what is left of what was
// approved.
func (r *Request) SpanOf(at clock.Instant) credential.Span {
	return credential.Span{From: time.UnixMicro(int64(max(r.Begins, at))), Until: time.UnixMicro(int64(r.Over))}
}
