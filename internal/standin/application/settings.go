// Package application is a simulated application over HTTP: people sign in with a password, and a second factor where
// they have one, choose one of their roles, and work on content that is handed in, decided on and published.
package application

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"hiddengate/internal/standin"
)

// Settings are the access settings of an application: what somebody may do is said by their roles alone, of which they
// have one at a time.
type Settings struct {
	Accounts map[string]*Account `json:"accounts"`
	Roles    map[string]*Role    `json:"roles,omitempty"`
	// Everybody is what everybody with an account may do, whatever their role.
	Everybody standin.Permits `json:"everybody,omitempty"`
}

// Account is somebody who may sign in.
type Account struct {
	Note   string     `json:"note,omitempty"`
	Ends   *time.Time `json:"ends,omitempty"`
	Locked bool       `json:"locked,omitempty"`
	Keeper bool       `json:"keeper,omitempty"` // it has the role of the keeper, which may do everything
	Roles  []string   `json:"roles,omitempty"`
	// Factor says that signing in takes a second factor.
	Factor bool `json:"second-factor,omitempty"`
	standin.Limits
}

// Role is what somebody may do who has chosen it.
type Role struct {
	Note    string          `json:"note,omitempty"`
	Permits standin.Permits `json:"permits,omitempty"`
	standin.Limits
}

// The application's own roles: that of keepers, and that of whoever has none.
const (
	KeeperRole = "keeper"
	Visitor    = "visitor"
)

// Has says whether there is an account.
func (s *Settings) Has(account string) bool { return s.Accounts[account] != nil }

// Open says whether an account is one, and is not closed at a moment.
func (s *Settings) Open(account string, now time.Time) bool {
	a := s.Accounts[account]
	return a != nil && !a.Locked && (a.Ends == nil || now.Before(*a.Ends))
}

// Keepers lists the accounts that may do everything.
func (s *Settings) Keepers() (out []string) {
	for _, name := range slices.Sorted(maps.Keys(s.Accounts)) {
		if s.Accounts[name].Keeper {
			out = append(out, name)
		}
	}
	return out
}

// rolesOf lists the roles that an account can choose.
func (s *Settings) rolesOf(account string) []string {
	a := s.Accounts[account]
	out := slices.Clone(a.Roles)
	if a.Keeper {
		out = append(out, KeeperRole)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// May says whether an account that has chosen a role has a right at a place; with "" by any of its roles.
func (s *Settings) May(account, role, right, place string, now time.Time) bool {
	if !s.Open(account, now) {
		return false
	}
	if s.Everybody.Have(right, place) {
		return true
	}
	for _, has := range s.rolesOf(account) {
		if role != "" && role != has {
			continue
		}
		if has == KeeperRole && s.Accounts[account].Keeper || s.Roles[has] != nil && s.Roles[has].Permits.Have(right, place) {
			return true
		}
	}
	return false
}

// Limits are the least of those of an account and of the role that it has chosen.
func (s *Settings) Limits(account, role string) (out standin.Limits) {
	if a := s.Accounts[account]; a != nil {
		out = a.Limits
	}
	if r := s.Roles[role]; r != nil {
		out = out.Least(r.Limits)
	}
	return out
}

// Check says what is wrong with settings where there are some rights, and places of some types; nil for nothing.
func (s *Settings) Check(rights []string, types map[string]string) error {
	if s == nil {
		return standin.ErrNone
	}
	keepers := 0
	for _, name := range slices.Sorted(maps.Keys(s.Accounts)) {
		a := s.Accounts[name]
		if err := standin.CheckAccount(name); err != nil {
			return err
		}
		if a == nil {
			return fmt.Errorf("account %s is empty: write {}", name)
		}
		if err := a.Limits.Check("account " + name); err != nil {
			return err
		}
		for _, role := range a.Roles {
			if s.Roles[role] == nil {
				return fmt.Errorf("account %s: there is no role %.80q", name, role)
			}
		}
		if a.Keeper && !a.Locked && a.Ends == nil {
			keepers++
		}
	}
	if keepers == 0 {
		return fmt.Errorf("no keeper would be left")
	}
	for _, name := range slices.Sorted(maps.Keys(s.Roles)) {
		if err := standin.CheckTeam(name); err != nil {
			return err
		}
		if name == KeeperRole || name == Visitor {
			return fmt.Errorf("the role %s is the application's own", name)
		}
		if s.Roles[name] == nil {
			return fmt.Errorf("role %q is empty: write {}", name)
		}
		if err := s.Roles[name].Limits.Check(fmt.Sprintf("role %q", name)); err != nil {
			return err
		}
		if err := s.Roles[name].Permits.Check(fmt.Sprintf("role %q", name), rights, types); err != nil {
			return err
		}
	}
	return s.Everybody.Check("everybody", rights, types)
}

// Tell tells the roles, or the accounts with theirs.
func (s *Settings) Tell(right string) []string {
	switch right {
	case "see-roles":
		return append([]string{fmt.Sprintf("%d roles.", len(s.Roles))}, slices.Sorted(maps.Keys(s.Roles))...)
	case "see-accounts":
		var out []string
		for _, name := range slices.Sorted(maps.Keys(s.Accounts)) {
			out = append(out, name+": "+strings.Join(s.rolesOf(name), ", "))
		}
		return out
	}
	return nil
}
