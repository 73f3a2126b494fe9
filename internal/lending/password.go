package lending

import (
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/credential"
	"hiddengate/internal/estate"
	"hiddengate/internal/ledger"
)

// Password is one that somebody set for an account.
type Password struct {
	Said
	Account  estate.Address
	For      estate.Principal
	Verifier string
	First    bool          // somebody else set it
	Ends     clock.Instant // it does not let in from then on
}

const opSetPassword = "account.set-password"

// AccountOf finds whose an account is: of one that is listed, its owner; of another, whose id it is named after.
func (b *Book) AccountOf(account estate.Address) (holder estate.Principal, listed bool, err error) {
	e := b.estate()
	if e.Systems[account.System] == nil {
		return holder, false, fmt.Errorf("there is no system %q", account.System)
	}
	if r := e.Listed(account); r != nil {
		switch {
		case r.Type != "account":
			return holder, true, fmt.Errorf("%s is no account: it is of type %s", account, r.Type)
		case r.Owner == nil || r.Owner.Kind != estate.IsPerson && r.Owner.Kind != estate.IsService:
			return holder, true, fmt.Errorf("the account %s belongs to nobody", account)
		}
		return *r.Owner, true, nil
	}
	parent, ok := account.Parent()
	if holder.ID = account.Name(); !ok || parent.Name() != "accounts" || e.People[holder.ID] == nil {
		return holder, false, fmt.Errorf("%s is no account that the policy lists, nor named after a person", account)
	}
	return holder, false, nil
}

// MaySetPassword says why somebody may not set the password of an account at an instant; nil if they may: by a grant of
// account.set-password on it; where it is not listed, on its system, or if it is their own.
func (b *Book) MaySetPassword(account estate.Address, by estate.Principal, at clock.Instant) error {
	holder, listed, err := b.AccountOf(account)
	if err != nil {
		return err
	}
	on := account
	if !listed {
		on = estate.Address{System: account.System}
	}
	s := b.estate().Subject(by)
	if s == nil {
		return errors.New("the policy knows no " + by.String())
	}
	if there := *s; !listed && by == holder {
		there.Status = "" // whoever was suspended since was active then
		if there.ActiveAt(b.estate().Zone, at) {
			return nil
		}
	}
	if !b.allowed(by, opSetPassword, on, at) {
		return fmt.Errorf("%s may not do %s on %s", by, opSetPassword, on)
	}
	return nil
}

// Password reads the event by which a password was set; nil if it does not count. It ends when the rules say, though
// the event say later.
func (b *Book) Password(e ledger.Event) *Password {
	var body ledger.PasswordBody
	if e.Kind != ledger.PasswordSet || b.later(e) || json.Unmarshal(e.Body, &body) != nil || b.Counts(e) != nil {
		return nil
	}
	by, known := b.Actor(e)
	if !known {
		return nil
	}
	said := Said{By: by, At: clock.Instant(e.Time), Number: e.Number}
	return b.password(body, said, said)
}

// password reads a password that somebody set; nil if whoever answers for that might not.
func (b *Book) password(body ledger.PasswordBody, said, answers Said) *Password {
	account, err := estate.ParseAddress(body.Account)
	if err != nil || wrongVerifier(body.Verifier) || b.MaySetPassword(account, answers.By, answers.At) != nil {
		return nil
	}
	holder, _, err := b.AccountOf(account)
	if err != nil || holder.String() != body.For {
		return nil // it has become somebody else's
	}
	p := &Password{Said: said, Account: b.estate().Canonical(account), For: holder, Verifier: body.Verifier,
		First: said.By != holder}
	p.Ends = min(clock.Instant(body.Ends), said.At+clock.Instant(b.LastsPassword(p.First).Microseconds()))
	return p
}

func wrongVerifier(text string) bool {
	_, err := credential.FormOf(text)
	return err != nil
}

// LastsPassword is for how long a password lets in; first says that somebody else set it.
func (b *Book) LastsPassword(first bool) time.Duration {
	if rules := b.estate().Passwords; !first {
		return rules.Longest
	}
	return min(b.estate().Passwords.First, b.estate().Passwords.Longest)
}
