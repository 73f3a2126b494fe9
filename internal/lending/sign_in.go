package lending

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/credential"
	"hiddengate/internal/estate"
	"hiddengate/internal/ledger"
)

// SignIns are what people and programs sign in with that was set here, beside certificates: what the events say, one
// after another.
type SignIns struct {
	book        *Book
	Passwords   map[estate.Address]*Password // the newest that counts of each account
	Factors     map[estate.Address]*Factor   // of the accounts that have a second factor
	Tokens      map[string]*Token            // by id
	Invitations map[string]*Invitation       // by the id of the statement
	// told are the passwords that systems were told, by the numbers of their events.
	told map[telling]bool
	// First are the accounts to which a push handed out a first password, and when.
	First map[estate.Address]clock.Instant
	// accounts are those of each subject that have a password, tokens those of each.
	accounts map[estate.Principal][]estate.Address
	tokens   map[estate.Principal][]*Token
}

// telling is that a system was told the passwords of an event, which may have some for other systems too.
type telling struct {
	system string
	number int64
}

// WasTold says whether the system of a password's account was told it.
func (s *SignIns) WasTold(p *Password) bool { return s.told[telling{p.Account.System, p.Number}] }

// Factor is the second factor of an account.
type Factor struct {
	Said
	Account estate.Address
	For     estate.Principal
}

// Token lets programs act as an account, with the roles that it names; with all that the account has where there are
// none.
type Token struct {
	Said
	ID, Hash string
	Account  estate.Address
	For      estate.Principal
	Roles    []string
	Replaces string
	Ends     clock.Instant // it does not let in from then on
}

// Invitation lets somebody join who is invited.
type Invitation struct {
	Said
	ID     string // of the statement
	Person estate.Principal
	Hash   string
	Ends   clock.Instant // nobody joins by it from then on
	Joined *Said
}

// SignInKinds are the kinds of the events that SignIns takes.
var SignInKinds = []string{string(ledger.PasswordSet), string(ledger.FactorSet), string(ledger.TokenMade),
	string(ledger.TokenEnded), string(ledger.Invited), string(ledger.Joined), string(ledger.Pushed)}

// SignIns begins with nothing.
func (b *Book) SignIns() *SignIns {
	return &SignIns{book: b, Passwords: map[estate.Address]*Password{}, Factors: map[estate.Address]*Factor{},
		Tokens: map[string]*Token{}, Invitations: map[string]*Invitation{}, told: map[telling]bool{},
		First: map[estate.Address]clock.Instant{}, accounts: map[estate.Principal][]estate.Address{},
		tokens: map[estate.Principal][]*Token{}}
}

// LastsPassword is that of the book.
func (s *SignIns) LastsPassword(first bool) time.Duration { return s.book.LastsPassword(first) }

// Take takes the next event. What was not its author's to say is passed over.
func (s *SignIns) Take(e ledger.Event) {
	b := s.book
	if b.later(e) || b.Counts(e) != nil {
		return
	}
	by, known := b.Actor(e)
	said := Said{By: by, At: clock.Instant(e.Time), Number: e.Number}
	switch e.Kind {
	case ledger.Pushed:
		s.pushed(e, said)
	case ledger.PasswordSet:
		if p := b.Password(e); p != nil {
			s.password(p)
		}
	case ledger.FactorSet:
		var body ledger.FactorBody
		if known && json.Unmarshal(e.Body, &body) == nil {
			s.factor(body, said, said)
		}
	case ledger.TokenMade:
		var body ledger.TokenBody
		if known && json.Unmarshal(e.Body, &body) == nil {
			s.token(body, said)
		}
	case ledger.TokenEnded: // whoever says that one is over, it is
		var body ledger.TokenEndedBody
		if json.Unmarshal(e.Body, &body) == nil && s.Tokens[body.Token] != nil {
			t := s.Tokens[body.Token]
			t.Ends = min(t.Ends, said.At)
		}
	case ledger.Invited:
		var body ledger.InvitationBody
		if known && json.Unmarshal(e.Body, &body) == nil {
			if person, err := estate.ParsePrincipal(body.Person); err == nil && person.Kind == estate.IsPerson {
				s.Invitations[e.ID()] = &Invitation{Said: said, ID: e.ID(), Person: person, Hash: body.Hash,
					Ends: min(clock.Instant(body.Ends), said.At+LongestInvitation)}
			}
		}
	case ledger.Joined:
		s.joined(e, said)
	}
}

// LongestInvitation is for how long an invitation is open at most.
const LongestInvitation = 30 * 24 * clock.Hour

func (s *SignIns) pushed(e ledger.Event, said Said) {
	var body ledger.PushedBody
	if json.Unmarshal(e.Body, &body) != nil {
		return
	}
	for _, n := range body.Passwords {
		s.told[telling{body.System, n}] = true
	}
	for _, text := range body.First {
		account, err := estate.ParseAddress(text)
		if err != nil || account.System != body.System {
			continue
		}
		if holder, _, err := s.book.AccountOf(account); err == nil {
			account = s.book.estate().Canonical(account)
			s.First[account] = said.At
			s.accounts[holder] = append(s.accounts[holder], account)
		}
	}
}

// MayEquip says why somebody may not give an account a second factor or a token at an instant; nil if they may: whoever
// holds the account, and who may set its password.
func (b *Book) MayEquip(account estate.Address, by estate.Principal, at clock.Instant) error {
	holder, _, err := b.AccountOf(account)
	if err != nil {
		return err
	}
	if s := b.estate().Subject(by); s != nil && by == holder {
		there := *s
		there.Status = "" // whoever was suspended since was active then
		if there.ActiveAt(b.estate().Zone, at) {
			return nil
		}
	}
	if err := b.MaySetPassword(account, by, at); err != nil {
		return fmt.Errorf("%w, nor is it theirs", err)
	}
	return nil
}

// factor takes a second factor that somebody set; for is who answers for it.
func (s *SignIns) factor(body ledger.FactorBody, said, by Said) {
	b := s.book
	account, err := estate.ParseAddress(body.Account)
	if err != nil || b.MayEquip(account, by.By, by.At) != nil {
		return
	}
	holder, _, err := b.AccountOf(account)
	if account = b.estate().Canonical(account); err != nil || holder.String() != body.For {
		return
	}
	if s.Factors[account] = (&Factor{said, account, holder}); body.Removed {
		delete(s.Factors, account)
	}
}

// What goes into the settings of a system as it stands is what is made here, and nothing else.
var (
	tokenID = regexp.MustCompile(`\A[A-Z0-9]{1,32}\z`)
	isHash  = regexp.MustCompile(`\A[0-9a-f]{64}\z`)
)

func (s *SignIns) token(body ledger.TokenBody, said Said) {
	b := s.book
	account, err := estate.ParseAddress(body.Account)
	if err != nil || !tokenID.MatchString(body.Token) || !isHash.MatchString(body.Hash) || s.Tokens[body.Token] != nil ||
		b.MayEquip(account, said.By, said.At) != nil {
		return
	}
	holder, _, err := b.AccountOf(account)
	if err != nil || holder.String() != body.For {
		return
	}
	t := &Token{Said: said, ID: body.Token, Hash: body.Hash, Account: b.estate().Canonical(account), For: holder,
		Roles: body.Roles, Replaces: body.Replaces}
	t.Ends = min(clock.Instant(body.Ends), said.At+clock.Instant(b.LastsPassword(false).Microseconds()))
	if old := s.Tokens[body.Replaces]; old != nil && old.Account == t.Account {
		old.Ends = min(old.Ends, said.At+clock.Instant(max(0, body.Overlap))*clock.Second)
	}
	s.Tokens[t.ID] = t
	s.tokens[holder] = append(s.tokens[holder], t)
}

func (s *SignIns) password(p *Password) {
	s.Passwords[p.Account] = p
	s.accounts[p.For] = append(s.accounts[p.For], p.Account)
}

// MayJoin finds the invitation that somebody proves to have, by the hash of its code. The error says why nobody joins
// by it at an instant.
func (s *SignIns) MayJoin(proof string, at clock.Instant) (*Invitation, error) {
	var i *Invitation
	for _, one := range s.Invitations {
		if one.Hash == credential.HashOf(proof) {
			i = one
		}
	}
	switch {
	case i == nil:
		return nil, refuse("", "there is no invitation with this code")
	case i.Joined != nil:
		return nil, refuse("ask for another invitation", "somebody has joined with this code already")
	case at >= i.Ends:
		return nil, refuse("ask for another one", "the invitation has lapsed")
	}
	if person := s.book.estate().Subject(i.Person); person == nil || person.Status != "invited" {
		return nil, refuse("", "%s is not invited any more", i.Person)
	}
	return i, nil
}

// joined takes that somebody joined: once, by the code of an invitation that was open, with what whoever invited them
// could have set.
func (s *SignIns) joined(e ledger.Event, said Said) {
	var body ledger.JoinedBody
	if json.Unmarshal(e.Body, &body) != nil {
		return
	}
	i := s.Invitations[body.Invitation.ID]
	if i == nil || i.Joined != nil || said.At >= i.Ends || e.Actor != i.Person.String() ||
		credential.HashOf(body.Proof) != i.Hash {
		return
	}
	i.Joined = &said
	for _, one := range body.Passwords {
		if p := s.book.password(one, said, i.Said); p != nil {
			s.password(p)
		}
	}
	for _, one := range body.Factors {
		s.factor(one, said, i.Said)
	}
}

// TokensOf lists the tokens of a system's accounts that let in at an instant, by id.
func (s *SignIns) TokensOf(system string, at clock.Instant) (out []*Token) {
	for _, t := range s.Tokens {
		if t.Account.System == system && s.lets(t, at) {
			out = append(out, t)
		}
	}
	slices.SortFunc(out, func(a, b *Token) int { return int(a.Number - b.Number) })
	return out
}

// lets says whether a token lets in at an instant.
func (s *SignIns) lets(t *Token, at clock.Instant) bool {
	return t.At <= at && at < t.Ends && s.book.knownRoles(t.Roles)
}

// knownRoles says whether there are roles: a token that names one which is gone gives nothing.
func (b *Book) knownRoles(ids []string) bool {
	return !slices.ContainsFunc(ids, func(id string) bool { return b.estate().Roles[id] == nil })
}

// HasPassword says whether somebody has an account in a system with a password that lets in at an instant: one that was
// set here, or a first one that a push handed out.
func (s *SignIns) HasPassword(system string, p estate.Principal, at clock.Instant) bool {
	if s == nil {
		return false
	}
	return slices.ContainsFunc(s.accounts[p], func(account estate.Address) bool {
		if account.System != system {
			return false
		}
		_, first := s.First[account]
		one := s.Passwords[account]
		return first || one != nil && at < one.Ends
	})
}

// HasToken says whether there is a token for an account of somebody in a system that lets in at an instant.
func (s *SignIns) HasToken(system string, p estate.Principal, at clock.Instant) bool {
	return s != nil && slices.ContainsFunc(s.tokens[p], func(t *Token) bool {
		return t.Account.System == system && s.lets(t, at)
	})
}

// WithPassword lists the accounts with a password that was set here and lets in at an instant, in order.
func (s *SignIns) WithPassword(at clock.Instant) (out []estate.Address) {
	for account, one := range s.Passwords {
		if at < one.Ends && s.book.estate().Systems[account.System] != nil {
			out = append(out, account)
		}
	}
	slices.SortFunc(out, func(a, b estate.Address) int { return strings.Compare(a.String(), b.String()) })
	return out
}

// InvitationOf finds the newest invitation of somebody by which nobody has joined; nil for none.
func (s *SignIns) InvitationOf(p estate.Principal) (out *Invitation) {
	for _, i := range s.Invitations {
		if i.Person == p && i.Joined == nil && (out == nil || out.Number < i.Number) {
			out = i
		}
	}
	return out
}
