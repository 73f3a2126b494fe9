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

// Shown is the event as it is shown and sent: without by what a password is checked, which stays in the ledger.
func (t *Entry) Shown() ledger.Event {
	e := t.Event
	if t.Kind != ledger.PasswordSet {
		return e
	}
	var body ledger.PasswordBody
	e.Body = json.RawMessage("{}") // of what cannot be read nothing is shown
	if json.Unmarshal(t.Body, &body) == nil {
		body.Verifier = ""
		if text, err := json.Marshal(body); err == nil {
			e.Body = text
		}
	}
	return e
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
