// Package target says what a real system has to be told so that it allows what the policy allows, and holds the
// system's own answers against the policy's. It does no I/O: a driver reads a system, and tells it.
package target

import (
	"slices"

	"hiddengate/internal/estate"
)

// Native is a right that a kind of system has, and the operations that somebody can do by it.
type Native struct {
	Name  string   // what the system calls it
	Types []string // the types of resources on which it is had
	Gives []string // the operations; it is had where the policy allows all of them
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
	Natives []Native // 16 at most
	Notes   []Note
}

// on lists the natives that are had on a type, as a mask.
func (c *Carries) on(typ string) (out Mask) {
	for i := range c.Natives {
		if slices.Contains(c.Natives[i].Types, typ) {
			out |= 1 << i
		}
	}
	return out
}

// of lists the natives that give an operation on a type, as a mask.
func (c *Carries) of(operation, typ string) (out Mask) {
	for i := range c.Natives {
		if slices.Contains(c.Natives[i].Types, typ) && slices.Contains(c.Natives[i].Gives, operation) {
			out |= 1 << i
		}
	}
	return out
}

// note finds what is said of an operation on a type; nil if nothing.
func (c *Carries) note(operation, typ string) *Note {
	for i, n := range c.Notes {
		if n.Operation == operation && (len(n.Types) == 0 || slices.Contains(n.Types, typ)) {
			return &c.Notes[i]
		}
	}
	return nil
}

// everybody says whether the system gives an operation on a type to everybody with an account.
func (c *Carries) everybody(operation, typ string) bool {
	n := c.note(operation, typ)
	return n != nil && n.How == ToEverybody
}

// Mask is a set of natives, by their places in Carries.
type Mask uint16

// State is what a system has, as far as it matters to any driver.
type State struct {
	Places   []Place // what there is, in any order
	Accounts []Account
	Unnamed  []string // what there is that no address can name, in the system's own words
}

// Place is something there is in a system.
type Place struct {
	Path string // canonical, as in addresses; "" for the system itself
	Type string
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

// Address gives the address of a place of a state.
func (s *State) Address(system string, place int) estate.Address {
	return estate.Address{System: system, Path: s.Places[place].Path}
}
