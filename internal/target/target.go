// Package target says what a real system has to be told so that it allows what the policy allows, and holds the
// system's own answers against the policy's. It does no I/O: a driver reads a system, and tells it.
package target

import (
	"slices"
	"strings"

	"hiddengate/internal/estate"
)

// Native is a right that a kind of system has, and the operations that somebody can do by it.
type Native struct {
	Name  string   // what the system calls it
	Types []string // the types of resources on which it is had
	Gives []string // the operations; it is had where the policy allows all of them
	// Unlimited says that by it somebody can do everything on the place and on whatever is inside; it is had where the
	// policy allows all of that, in everything that it lists.
	Unlimited bool
	// Inside are operations that it gives on whatever is inside the place; it is had where the policy allows them on
	// everything there on which a native gives them, and lists all of that.
	Inside []string
	// OnRows says that a system can be told of some rows of a table alone that it is had on them.
	OnRows bool
}

// Note says what becomes of an operation that no native gives, or that the system gives to everybody with an account.
type Note struct {
	Operation string
	Types     []string // empty: all to which it applies
	How       How
	Why       string
}

// Carries is what a driver carries, as data. An operation without native or note is not carried.
type Carries struct {
	Natives []Native // 64 at most; whoever has the first on the system itself gets in
	Notes   []Note
	// Sessions says that whoever has signed in stays so no longer than it is told.
	Sessions bool
}

// on lists the natives that are had on a place, as a mask.
func (c *Carries) on(p *Place) (out Mask) {
	for i := range c.Natives {
		if slices.Contains(c.Natives[i].Types, p.Type) {
			out |= 1 << i
		}
	}
	return out &^ p.Lacks
}

// Of lists the natives that give an operation on a place, as a mask.
func (c *Carries) Of(operation string, p *Place) (out Mask) {
	for i := range c.Natives {
		if slices.Contains(c.Natives[i].Types, p.Type) && slices.Contains(c.Natives[i].Gives, operation) {
			out |= 1 << i
		}
	}
	return out &^ p.Lacks
}

// within says whether others of some natives give all that one gives, and more.
func (c *Carries) within(native int, some Mask) bool {
	for k, other := range c.Natives {
		if some&(1<<k) != 0 && len(other.Gives) > len(c.Natives[native].Gives) &&
			!slices.ContainsFunc(c.Natives[native].Gives, func(o string) bool { return !slices.Contains(other.Gives, o) }) {
			return true
		}
	}
	return false
}

// note finds what is said of an operation on a place; nil if nothing. Where a native gives it, only what makes it
// narrower counts.
func (c *Carries) note(operation string, p *Place) *Note {
	given := c.Of(operation, p) != 0
	for i, n := range c.Notes {
		if n.Operation == operation && (len(n.Types) == 0 || slices.Contains(n.Types, p.Type)) &&
			(!given || n.How == Narrower) {
			return &c.Notes[i]
		}
	}
	return nil
}

// everybody says whether the system gives an operation on a place to everybody with an account.
func (c *Carries) everybody(operation string, p *Place) bool {
	n := c.note(operation, p)
	return n != nil && n.How == ToEverybody
}

// Mask is a set of natives, by their places in Carries.
type Mask uint64

// State is what a system has, as far as it matters to any driver.
type State struct {
	Places   []Place // what there is, in any order
	Accounts []Account
	Unnamed  []string // what there is that no address can name, in the system's own words
	Aside    []string // what the policy lists and is not looked at, each with the reason
}

// Place is something there is in a system.
type Place struct {
	Path string // canonical, as in addresses; "" for the system itself
	Type string
	// Lacks are natives that cannot be had on it.
	Lacks Mask
	// Rows are the columns by which the rows of a table can be told apart: of what the policy lists, as it says; of what a
	// system has, the same where it can be told of them. Else it is nil.
	Rows *estate.Rows
	// Class is set where the place is some rows of a table.
	Class *RowClass
}

// Account is somebody who can sign in to a system.
type Account struct {
	Name string
	// Made says that hgate made it.
	Made bool
	// Reserved says that it is never touched: it is hgate's own way in, or the system needs it.
	Reserved bool
}

// AccountsIn is the path in a system under which its accounts are listed.
const AccountsIn = "accounts"

// Right is a native on a place.
type Right struct {
	Native int // in Carries.Natives
	Place  int // in State.Places
}

// inside says whether one place of a state is inside another.
func (s *State) inside(place, other int) bool {
	above := s.Places[other].Path
	return place != other && (above == "" || strings.HasPrefix(s.Places[place].Path, above+"/"))
}

// Address gives the address of a place of a state.
func (s *State) Address(system string, place int) estate.Address {
	return estate.Address{System: system, Path: s.Places[place].Path}
}
