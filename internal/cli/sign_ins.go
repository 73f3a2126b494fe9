package cli

import (
	"hiddengate/internal/clock"
	"hiddengate/internal/credential"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/lending"
	"hiddengate/internal/target"
)

// signIns reads from the log what people and programs sign in with that was set here; nothing where there is no log.
func (a *app) signIns(g *gate.Gate) (out *lending.SignIns, err error) {
	out = (&lending.Book{Gate: g}).SignIns()
	err = a.reading(g, func(b *book, in *store.Reader) (err error) {
		out, err = b.signIns(in)
		return err
	})
	return out, err
}

func (b *book) signIns(in *store.Reader) (*lending.SignIns, error) {
	out := b.SignIns()
	err := in.Events(store.Filter{Kinds: lending.SignInKinds}, func(_ int64, e ledger.Event, wrong error) bool {
		if wrong == nil {
			out.Take(e)
		}
		return true
	})
	return out, err
}

// signInsOf gathers the passwords that count for the accounts of a system, by their names there, with their verifiers
// those that it was not told yet; and the tokens that let in.
func (a *app) signInsOf(c *carrying) error {
	s, err := a.signIns(c.plain)
	if err != nil {
		return err
	}
	c.passwords, c.tokens = map[string]target.Password{}, map[string][]target.Token{}
	for _, p := range s.Passwords {
		form, _ := credential.FormOf(p.Verifier)
		if p.Account.System != c.id || form != c.driver.Verifiers {
			continue
		}
		one := target.Password{Number: p.Number, Ends: p.Ends, First: p.First, Lasts: s.LastsPassword(false)}
		if !s.WasTold(p) {
			one.Verifier = p.Verifier
		}
		c.passwords[target.Unescaped(p.Account.Name())] = one
	}
	if !c.driver.Tokens {
		return nil
	}
	for _, t := range s.TokensOf(c.id, c.at) {
		name := target.Unescaped(t.Account.Name())
		c.tokens[name] = append(c.tokens[name], target.Token{ID: t.ID, Hash: t.Hash, Roles: t.Roles, Ends: t.Ends})
	}
	return nil
}

// mayEquip sees that somebody may give an account a second factor or a token.
func (a *app) mayEquip(b *book, account estate.Address, who actor) func(*store.Reader) error {
	return func(*store.Reader) error {
		if err := b.MayEquip(account, who.who, a.present()); err != nil {
			return &draft.Error{Message: err.Error()}
		}
		return nil
	}
}

// entering gathers what was lent and signed and may matter at an instant, and what people sign in with that was set
// here.
func (a *app) entering(g *gate.Gate, at clock.Instant) ([]*lending.Request, *lending.SignIns) {
	set, err := a.signIns(g)
	if err != nil {
		a.page(a.Err).Line("hgate: the ledger cannot be read, so nothing that was set counts here: %s", err)
		set = nil
	}
	return a.askedFor(g, at), set
}
