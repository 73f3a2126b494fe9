package change

import (
	"reflect"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// GateToKeep gives the gate of an estate after an edit as it is kept for the next command: the one before, where the
// edit says nothing otherwise that a gate asks about, and else one that takes over what that knows. The one before may
// be nil. The error is that of gate.Carried.
func GateToKeep(after *estate.Estate, before *gate.Gate) (*gate.Gate, error) {
	if before != nil && before.Complete() && AsksTheSame(before.Estate(), after) {
		return before.Retold(after), nil
	}
	return gate.Carried(after, before)
}

// describing are the sections of whose entries a gate asks about all but what each is called, whose it is and why.
var describing = []string{"people", "services", "groups", "roles", "scopes", "grants", "blocks", "separations"}

// AsksTheSame says that a gate asks about nothing in which two estates differ: there is another title, say, or a test.
func AsksTheSame(before, after *estate.Estate) bool {
	if before.Tree != after.Tree || before.Zone.Name() != after.Zone.Name() || before.Edition != after.Edition {
		return false
	}
	for section := range estate.Differing(before, after, saysTheSame) {
		if section != "tests" && section != "guarantees" && (!slices.Contains(describing, section) ||
			len(estate.Differing(before, after, describesTheSame)[section]) > 0) {
			return false
		}
	}
	return true
}

func saysTheSame(was, is estate.Head) bool { return same(was, is) }

// describesTheSame says that two entries are the same but for what each is called, whose it is and why.
func describesTheSame(was, is estate.Head) bool {
	one := reflect.New(reflect.TypeOf(was).Elem())
	one.Elem().Set(reflect.ValueOf(was).Elem())
	*one.Interface().(estate.Head).Head() = *is.Head()
	return same(one.Interface(), is)
}
