package standin

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// Access is who may do what in a stand-in: the access settings of most.
type Access struct {
	Accounts map[string]*Account `json:"accounts"`
	Teams    map[string]*Team    `json:"teams,omitempty"`
	// Everybody is what everybody with an account may do.
	Everybody Permits `json:"everybody,omitempty"`
}

// ErrNone says that there are no settings at all.
var ErrNone = errors.New("there are none")

// NewAccess has a keeper and nothing else.
func NewAccess() *Access {
	return &Access{Accounts: map[string]*Account{Keeper: {Keeper: true, Note: "made at the start"}}}
}

// Account is somebody who may sign in.
type Account struct {
	Note    string     `json:"note,omitempty"`
	Keys    []string   `json:"keys,omitempty"`   // as in authorized_keys, without options
	Ends    *time.Time `json:"ends,omitempty"`   // from then on it is closed
	Locked  bool       `json:"locked,omitempty"` // it is closed
	Keeper  bool       `json:"keeper,omitempty"` // it may do everything
	Permits Permits    `json:"permits,omitempty"`
	// Ranks are, by place, which comes first where one alone can have something: 1 before 2, and whoever has none last.
	// Stand-ins without such things take none.
	Ranks map[string]int `json:"ranks,omitempty"`
	// Tokens let programs act as the account, by their ids. Stand-ins without such things take them and ask for none.
	Tokens map[string]*Token `json:"tokens,omitempty"`
	Limits
}

// Team is accounts that may do the same.
type Team struct {
	Note    string   `json:"note,omitempty"`
	Members []string `json:"members,omitempty"`
	Permits Permits  `json:"permits,omitempty"`
	Limits
}

// Open says whether an account is one, and is not closed at a moment.
func (x *Access) Open(account string, now time.Time) bool {
	a := x.Accounts[account]
	return a != nil && !a.Locked && (a.Ends == nil || now.Before(*a.Ends))
}

// May says whether an account has a right at a place at a moment. There are no roles to choose; a program that came
// with a token may what that gives.
func (x *Access) May(account, role, right, place string, now time.Time) bool {
	if !x.Open(account, now) {
		return false
	}
	a := x.Accounts[account]
	if id, is := strings.CutPrefix(role, byToken); is {
		t := a.Tokens[id]
		switch {
		case !t.lets(now):
			return false
		case len(t.Teams) > 0:
			return x.Everybody.Have(right, place) || slices.ContainsFunc(t.Teams, func(name string) bool {
				team := x.Teams[name]
				return team != nil && slices.Contains(team.Members, account) && team.Permits.Have(right, place)
			})
		}
	}
	if a.Keeper || x.Everybody.Have(right, place) || a.Permits.Have(right, place) {
		return true
	}
	for _, t := range x.Teams {
		if slices.Contains(t.Members, account) && t.Permits.Have(right, place) {
			return true
		}
	}
	return false
}

// TeamsOf lists the teams of an account.
func (x *Access) TeamsOf(account string) (out []string) {
	for _, name := range slices.Sorted(maps.Keys(x.Teams)) {
		if slices.Contains(x.Teams[name].Members, account) {
			out = append(out, name)
		}
	}
	return out
}

// Has says whether there is an account.
func (x *Access) Has(account string) bool { return x.Accounts[account] != nil }

// Keepers lists the accounts that may do everything.
func (x *Access) Keepers() (out []string) {
	for _, name := range slices.Sorted(maps.Keys(x.Accounts)) {
		if x.Accounts[name].Keeper {
			out = append(out, name)
		}
	}
	return out
}

// Check says what is wrong with them where there are some rights, and places of some types; nil for nothing.
func (x *Access) Check(rights []string, types map[string]string) error {
	if x == nil {
		return ErrNone
	}
	if len(x.Accounts) > 100_000 || len(x.Teams) > 100_000 {
		return fmt.Errorf("there are 100000 accounts and teams at most")
	}
	keepers := 0
	for _, name := range slices.Sorted(maps.Keys(x.Accounts)) {
		a := x.Accounts[name]
		if err := CheckAccount(name); err != nil {
			return err
		}
		if a == nil {
			return fmt.Errorf("account %s is empty: write {}", name)
		}
		for _, key := range a.Keys {
			if _, _, options, _, err := ssh.ParseAuthorizedKey([]byte(key)); err != nil || len(options) > 0 {
				return fmt.Errorf("account %s: %.40q is no public key", name, key)
			}
		}
		if err := a.Permits.Check("account "+name, rights, types); err != nil {
			return err
		}
		for at, rank := range a.Ranks {
			if types[at] == "" || rank < 1 {
				return fmt.Errorf("account %s: there is no place %.80q, or its rank is less than 1", name, at)
			}
		}
		if err := a.Limits.Check("account " + name); err != nil {
			return err
		}
		for id, t := range a.Tokens {
			if err := t.check(x, id); err != nil {
				return fmt.Errorf("account %s: %w", name, err)
			}
		}
		if a.Keeper && !a.Locked && a.Ends == nil {
			keepers++
		}
	}
	if keepers == 0 {
		return fmt.Errorf("no keeper would be left")
	}
	for _, name := range slices.Sorted(maps.Keys(x.Teams)) {
		t := x.Teams[name]
		if err := CheckTeam(name); err != nil {
			return err
		}
		if t == nil {
			return fmt.Errorf("team %q is empty: write {}", name)
		}
		if err := t.Limits.Check(fmt.Sprintf("team %q", name)); err != nil {
			return err
		}
		for _, m := range t.Members {
			if x.Accounts[m] == nil {
				return fmt.Errorf("team %q has a member %.80q, which is no account", name, m)
			}
		}
		if err := t.Permits.Check(fmt.Sprintf("team %q", name), rights, types); err != nil {
			return err
		}
	}
	return x.Everybody.Check("everybody", rights, types)
}

// Clone gives a copy that shares nothing that is changed.
func (x *Access) Clone() *Access {
	out := &Access{Accounts: map[string]*Account{}, Teams: map[string]*Team{}, Everybody: x.Everybody.clone()}
	for name, a := range x.Accounts {
		one := *a
		one.Permits, one.Ranks, one.Tokens = a.Permits.clone(), maps.Clone(a.Ranks), maps.Clone(a.Tokens)
		out.Accounts[name] = &one
	}
	for name, t := range x.Teams {
		out.Teams[name] = &Team{t.Note, slices.Clone(t.Members), t.Permits.clone(), t.Limits}
	}
	return out
}

func (p Permits) clone() Permits {
	if len(p) == 0 {
		return nil
	}
	out := Permits{}
	for at, rights := range p {
		out[at] = slices.Clone(rights)
	}
	return out
}

// Tell tells the teams with their members, or the accounts.
func (x *Access) Tell(right string) []string {
	switch right {
	case "see-teams":
		out := []string{fmt.Sprintf("%d teams.", len(x.Teams))}
		for _, name := range slices.Sorted(maps.Keys(x.Teams)) {
			out = append(out, name+": "+strings.Join(x.Teams[name].Members, ", "))
		}
		return out
	case "see-accounts":
		return slices.Sorted(maps.Keys(x.Accounts))
	}
	return nil
}
