package placemap

import (
	"iter"

	"hiddengate/internal/estate"
	"hiddengate/internal/lookup"
)

// Selected gives those of some rows of the tree, from one until another, that a list covers. Whatever is alike by its
// system, type, tags, owner and the patterns that cover it is judged once.
func Selected(e *estate.Estate, list estate.Resources, from, to int) iter.Seq[int] {
	return func(yield func(int) bool) {
		s := selection{estate: e, from: from, states: make([]uint32, to-from), known: map[selectionKey]bool{},
			machines: make([]*Automaton, len(e.Tree.Systems)), sets: lookup.NewSequences()}
		s.gather(list)
		for i := from; i < to; i++ {
			row := &e.Tree.Rows[i]
			key := selectionKey{system: row.System, typ: uint32(row.Type), tags: row.Tags, owner: row.Owner}
			if len(s.patterns) > 0 {
				key.patterns = s.machine(row.System).States[s.state(i)].set
			}
			covers, ok := s.known[key]
			if !ok {
				covers = Covers(e, list, e.Tree.At(i))
				s.known[key] = covers
			}
			if covers && !yield(i) {
				return
			}
		}
	}
}

type selection struct {
	estate   *estate.Estate
	from     int
	patterns []estate.Pattern
	machines []*Automaton // of each system; nil until it is needed
	states   []uint32     // of each row from the first on; 0 until it is known
	known    map[selectionKey]bool
	sets     *lookup.Sequences
}

type selectionKey struct{ system, typ, tags, owner, patterns uint32 }

// gather gathers the patterns that a list asks about.
func (s *selection) gather(list estate.Resources) {
	for _, t := range list {
		if t.Scope != "" {
			s.gather(s.estate.Scopes[t.Scope].Resources)
		}
		if t.In != nil {
			s.patterns = append(s.patterns, *t.In)
		}
	}
}

func (s *selection) machine(system uint32) *Automaton {
	if s.machines[system] == nil {
		sys := s.estate.Tree.Systems[system]
		s.machines[system] = NewAutomaton(sys, s.estate.Folds(sys), s.patterns, s.sets)
	}
	return s.machines[system]
}

// state gives the state of a row.
func (s *selection) state(i int) uint32 {
	if i >= s.from && s.states[i-s.from] != 0 {
		return s.states[i-s.from]
	}
	tree := s.estate.Tree
	a, row := s.machine(tree.Rows[i].System), &tree.Rows[i]
	state := a.Root()
	if row.Parent > 0 {
		above := int(row.Parent - 1)
		state = a.Step(s.state(above), tree.Address(i)[len(tree.Address(above))+1:])
	}
	if i >= s.from {
		s.states[i-s.from] = state
	}
	return state
}
