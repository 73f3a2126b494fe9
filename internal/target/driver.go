package target

import (
	"context"
	"errors"
	"iter"

	"hiddengate/internal/credential"
)

// A Driver knows one kind of real system.
type Driver struct {
	Name    string
	About   string // what it reaches, in a sentence
	Kind    string // the kind of system that it serves
	Address string // how the address of one is written, with an example
	Names   string // what the addresses inside it stand for, in a sentence
	Carries Carries
	// Verifiers is the form in which it takes the verifiers of passwords; "" if it takes none.
	Verifiers credential.Form
	// Factors says that it asks for second factors, and can be told of them: its systems are of Equipping.
	Factors bool
	// Tokens says that it takes tokens for programs.
	Tokens bool
	// Connect reaches a system.
	Connect func(ctx context.Context, to Connection) (System, error)
	// SignIn signs in as somebody, with what they have for it; nil where the driver cannot.
	SignIn func(ctx context.Context, to Connection, who Identity) (Person, error)
	// Blank is a system that has the places of a state and gives nothing to anybody. Its address may be "".
	Blank func(to Connection, s *State) Snapshot
}

// Connection says how a system is reached.
type Connection struct {
	System string
	At     string
	Secret string
	// Listed are the places that the policy lists, for systems that have more than can be listed.
	Listed []Place
}

// System is a real system that has been reached.
type System interface {
	// Read reads what there is, and who may do what.
	Read(ctx context.Context) (Snapshot, error)
	// Write carries a plan out. It gives ErrChanged, and does nothing, if the system is no more as it was when the plan
	// was made. check sees what has come of it. A system that can undo does all of it or nothing, and nothing on an error
	// of check; another gives an error that is ErrPartly where some of it may have been done.
	Write(ctx context.Context, was Snapshot, p *Plan, check func(Snapshot) error) error
	// Ask puts questions to it, which come account by account, and tells each answer in turn; it changes nothing. It stops
	// when tell returns false.
	Ask(ctx context.Context, was Snapshot, questions iter.Seq[Question], tell func(Answer) bool) error
	Close()
}

// Equipping is a system that asks for second factors.
type Equipping interface {
	// Equip gives an account a second factor: what makes its codes, in base32, and the hashes of codes that count once
	// each, as credential.HashOf gives them. With none it takes away what there was.
	Equip(ctx context.Context, account, secret string, recovery []string) error
}

// ErrChanged says that somebody else has changed a system.
var ErrChanged = errors.New("the system has changed meanwhile")

// ErrPartly says that a part of a plan may have been carried out. What is left is in the next plan.
var ErrPartly = errors.New("some of it may have been done")

// Snapshot is what a system had at a moment.
type Snapshot interface {
	State() *State
	// Plan says what has to be told to the system so that it gives what is arranged. It does no I/O.
	Plan(a *Arrangement) *Plan
	// Found tells what the system gives as it stands. It does no I/O.
	Found() *Found
}

// Plan is what a system has to be told.
type Plan struct {
	Statements []Statement
	Left       []string // what differs and stays as it is, each with the reason
	Script     string   // what carries it out, where the texts of the statements do not
	First      []string // accounts that get a first password, which they have to change
	// Passwords are those first passwords, by account, which whoever carries the plan out draws. They are never printed.
	Passwords map[string]string
	// Verifiers are those of passwords that were set here, by account. They are never printed.
	Verifiers map[string]Password
}

// Statement is one thing that a system is told.
type Statement struct {
	Do     Doing
	Text   string   // in the system's own language
	Secret string   // what is told instead, where the text leaves out a secret; never printed
	Grants []string // that caused it, by id
	Why    string   // of what is taken away: what it is
}

// Told is the text that the system is told.
func (s Statement) Told() string {
	if s.Secret != "" {
		return s.Secret
	}
	return s.Text
}

// Doing is what a statement does to what is there.
type Doing string

// What statements do.
const (
	Add    Doing = "add"
	Remove Doing = "remove"
	Alter  Doing = "alter"
)

// Identity is what somebody signs in with: a private key in PEM, with a certificate in PEM or as one line of OpenSSH.
type Identity struct {
	Account          string
	Key, Certificate []byte
}

// Person is somebody who has signed in to a real system.
type Person interface {
	// Try says whether they may do an operation at a place, by the system's own answer, and changes nothing.
	Try(ctx context.Context, operation string, at Place) (Tried, error)
	Close()
}

// Tried is what came of a try.
type Tried int

// What can come of a try.
const (
	NotTried Tried = iota // it cannot be tried without doing it
	Refused
	Allowed
)
