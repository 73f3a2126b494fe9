// Package logbook reads the events of a ledger as a log: what each is about, what it says in a sentence, and what it
// did to whose access.
package logbook

import (
	"encoding/json"
	"strings"

	"hiddengate/internal/ledger"
)

// Entry is an event with what it is about.
type Entry struct {
	ledger.Event
	Request  *ledger.RequestBody  // that it is, or is about; nil for none
	Asker    string               // who made that request
	Policy   *ledger.PolicyBody   // of a change of the files; nil for none
	Pushed   *ledger.PushedBody   // of a push
	Password *ledger.PasswordBody // of a password that was set
	Factor   *ledger.FactorBody   // of a second factor
	Token    *ledger.TokenBody    // of a token
	// Published is of a list of what is revoked.
	Published *ledger.PublishedBody
}

// Reader finds out what events are about.
type Reader struct {
	// Find gives the event of a number; ok is false if there is none.
	Find  func(number int64) (e ledger.Event, ok bool, err error)
	known map[int64]*Entry // the requests that were read
}

// Read finds out what an event is about. What cannot be read is left out.
func (r *Reader) Read(e ledger.Event) (*Entry, error) {
	t := &Entry{Event: e}
	switch e.Kind {
	case ledger.Requested, ledger.Wanted:
		t.Request, t.Asker = new(ledger.RequestBody), e.Actor
		if e.Actor == "" {
			t.Asker = "a stranger"
		}
		if json.Unmarshal(e.Body, t.Request) != nil {
			t.Request = nil
		}
		if r.known == nil {
			r.known = map[int64]*Entry{}
		}
		r.known[e.Number] = t
	case ledger.Approved, ledger.Refused, ledger.Finished, ledger.Issued, ledger.Revoked:
		of := r.known[e.About]
		if of == nil {
			made, ok, err := r.Find(e.About)
			if err != nil {
				return nil, err
			}
			if !ok || !made.Kind.IsRequest() {
				return t, nil
			}
			if of, err = r.Read(made); err != nil {
				return nil, err
			}
		}
		t.Request, t.Asker = of.Request, of.Asker
	case ledger.PolicyChanged, ledger.PolicyFound:
		t.Policy = new(ledger.PolicyBody)
		if json.Unmarshal(e.Body, t.Policy) != nil {
			t.Policy = nil
		}
	case ledger.PasswordSet:
		t.Password = new(ledger.PasswordBody)
		if json.Unmarshal(e.Body, t.Password) != nil {
			t.Password = nil
		}
	case ledger.FactorSet:
		t.Factor = new(ledger.FactorBody)
		if json.Unmarshal(e.Body, t.Factor) != nil {
			t.Factor = nil
		}
	case ledger.TokenMade:
		t.Token = new(ledger.TokenBody)
		if json.Unmarshal(e.Body, t.Token) != nil {
			t.Token = nil
		}
	case ledger.Published:
		t.Published = new(ledger.PublishedBody)
		if json.Unmarshal(e.Body, t.Published) != nil {
			t.Published = nil
		}
	case ledger.Pushed:
		t.Pushed = new(ledger.PushedBody)
		if json.Unmarshal(e.Body, t.Pushed) != nil {
			t.Pushed = nil
		}
	}
	return t, nil
}

// Shown is the event as it is shown and sent: without by what a password, a token or a code is checked, which stays in
// the ledger.
func (t *Entry) Shown() ledger.Event {
	e := t.Event
	switch t.Kind {
	case ledger.PasswordSet:
		e.Body = without(e.Body, func(b *ledger.PasswordBody) { b.Verifier = "" })
	case ledger.TokenMade:
		e.Body = without(e.Body, func(b *ledger.TokenBody) { b.Hash = "" })
	case ledger.Invited:
		e.Body = without(e.Body, func(b *ledger.InvitationBody) { b.Hash = "" })
	case ledger.Joined:
		e.Body = without(e.Body, func(b *ledger.JoinedBody) {
			b.Proof = ""
			for i := range b.Passwords {
				b.Passwords[i].Verifier = ""
			}
		})
	}
	return e
}

// without gives a body from which something is taken; of what cannot be read nothing is shown.
func without[T any](body json.RawMessage, take func(*T)) json.RawMessage {
	var b T
	if json.Unmarshal(body, &b) == nil {
		take(&b)
		if text, err := json.Marshal(b); err == nil {
			return text
		}
	}
	return json.RawMessage("{}")
}

// account is the address of the account that the event is about; "" for none.
func (t *Entry) account() string {
	switch {
	case t.Password != nil:
		return t.Password.Account
	case t.Factor != nil:
		return t.Factor.Account
	case t.Token != nil:
		return t.Token.Account
	}
	return ""
}

// ByService says whether a service did it, and not a person by hand.
func (t *Entry) ByService() bool { return strings.HasPrefix(t.Actor, "service:") }

// Who names who did it: somebody of the policy, or the user of the operating system.
func (t *Entry) Who() string {
	if t.Actor == "" {
		return "user " + t.User
	}
	return t.Actor
}
