package simulated

import (
	"context"
	"slices"
	"strings"

	"hiddengate/internal/credential"
	"hiddengate/internal/standin"
	"hiddengate/internal/target"
)

// kind is how one kind of stand-in is spoken with.
type kind struct {
	name    string // of the stand-in
	about   string // what it reaches
	serves  string // the kind of system
	address string // how its address is written
	team    string // what it calls a group of accounts
	keys    bool   // whether its accounts have keys
	// certified says that people sign in with certificates.
	certified bool
	factors   bool   // whether it asks for second factors
	tokens    bool   // whether its accounts have tokens
	sessions  bool   // whether whoever is in came by signing in, and is out when the session is over
	alone     bool   // whether accounts have rights of their own; else they have them by a team of one
	ranks     string // the right to what one alone can have, by a rank; "" if it has none
	reach     func(ctx context.Context, to target.Connection) (client, error)
	// These are made of the commands and the operations that they stand for.
	natives  []target.Native
	commands map[string]*standin.Command // by operation
}

// pair is an operation with the words of the command that stands for it.
type pair struct{ operation, words string }

// newKind gives a kind its natives: a right for each operation, and one to manage accounts, which gives everything.
func newKind(k kind, commands []standin.Command, words []pair, managing []string) *kind {
	k.commands = map[string]*standin.Command{}
	of := func(words string) *standin.Command {
		return &commands[slices.IndexFunc(commands, func(c standin.Command) bool { return c.Words == words })]
	}
	for _, one := range words {
		c := of(one.words)
		k.commands[one.operation] = c
		k.natives = append(k.natives, target.Native{Name: c.Right, Types: c.On, Gives: []string{one.operation}})
	}
	manage := of("manage accounts")
	for _, operation := range managing {
		k.commands[operation] = manage
	}
	k.natives = append(k.natives, target.Native{Name: manage.Right, Types: manage.On, Gives: managing, Unlimited: true})
	return &k
}

// line writes what somebody says to do an operation at a place.
func (k *kind) line(operation, at string) string {
	c := k.commands[operation]
	if c.Takes() {
		return c.Line(at, "one")
	}
	return c.Line(at, "")
}

const (
	wholeSystem = "it is carried for the whole stand-in, and lets its holder do everything"
	noTags      = "the stand-in has no tags"
)

// driver makes the driver of a kind.
func (k *kind) driver() *target.Driver {
	var notes []target.Note
	for _, operation := range k.natives[len(k.natives)-1].Gives {
		notes = append(
			notes,
			target.Note{Operation: operation, Types: []string{"account", "accounts"}, How: target.NotCarried,
				Why: wholeSystem},
		)
	}
	notes = append(notes, target.Note{Operation: "tags.set", How: target.NotCarried, Why: noTags})
	d := &target.Driver{Name: "stand-in-" + k.name, About: k.about + " that `hgate stand-in " + k.name + "` starts",
		Kind: k.serves, Address: k.address, Verifiers: credential.Argon2id,
		Factors: k.factors, Tokens: k.tokens,
		Names: "What is in it is named as the stand-in has it, which `hgate stand-in " + k.name +
			" --like SYSTEM` takes from the policy.",
		Carries: target.Carries{Natives: k.natives, Notes: notes, Sessions: k.sessions},
		Connect: func(ctx context.Context, to target.Connection) (target.System, error) {
			c, err := k.reach(ctx, to)
			if err != nil {
				return nil, err
			}
			return &system{k, to.System, c}, nil
		},
		Blank: func(to target.Connection, s *target.State) target.Snapshot { return blank(k, to, s) }}
	if k.certified {
		d.SignIn = k.signIn
	}
	return d
}

var kinds = []*kind{cloudKind, clusterKind, networkKind, deviceKind, applicationKind}

// Drivers are those for the stand-ins.
var Drivers = driversOf(kinds)

func driversOf(kinds []*kind) (out []*target.Driver) {
	for _, k := range kinds {
		out = append(out, k.driver())
	}
	return out
}

// Named finds the driver for a stand-in by the stand-in's name; nil if there is none.
func Named(name string) *target.Driver {
	for _, d := range Drivers {
		if strings.TrimPrefix(d.Name, "stand-in-") == name {
			return d
		}
	}
	return nil
}
