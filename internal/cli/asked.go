package cli

import (
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// asked is a question as a command puts it to a gate: what is asked about, in which circumstances, and how both are
// written.
type asked struct {
	gate    *gate.Gate
	context *gate.Context
	about   string // a subject, or an operation and a place
	said    string // the circumstances
}

// wanted says which operations and places are meant; nil: all.
type wanted struct {
	operation func(*estate.Operation) bool
	place     func(*estate.Resource) bool
}

func (w wanted) fitsOperation(o *estate.Operation) bool { return w.operation == nil || w.operation(o) }

func (w wanted) fitsPlace(r *estate.Resource) bool { return w.place == nil || w.place(r) }
