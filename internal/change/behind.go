package change

import (
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
)

// Behind tells what is behind the cells of one line of an effect, as CausesOf does. Cells have the same behind them
// where the same of the entries that differ select the subject, have the operation and cover the place: it is worked
// out once for all of these.
type Behind struct {
	effect   *Effect
	line     *Line
	lists    [][]Cause       // what is behind some of the cells, by number
	known    map[cellKey]int // the number, by what cells are to the entries that differ
	sorts    map[string]int  // of what subjects, and places, are to them
	subjects map[estate.Principal]int
	places   map[int]int // of piles, by number
	one      bool        // one entry is behind all cells, or none
}

type cellKey struct {
	subject, place int
	operation      string
}

// Behind begins to tell what is behind the cells of one of the effect's lines.
func (e *Effect) Behind(l *Line) *Behind {
	b := &Behind{effect: e, line: l, known: map[cellKey]int{}, sorts: map[string]int{}, places: map[int]int{},
		subjects: map[estate.Principal]int{}}
	all := e.Causes(l)
	b.lists, b.one = [][]Cause{all}, len(all) < 2
	return b
}

// Of gives the number of what is behind the cells of a subject and an operation on a pile of the line; Causes lists it.
func (b *Behind) Of(p *differing.Pile, who estate.Principal, operation string) int {
	if b.one {
		return 0
	}
	key := cellKey{b.subject(who), b.place(p), operation}
	n, ok := b.known[key]
	if !ok {
		n = len(b.lists)
		b.known[key] = n
		b.lists = append(b.lists, b.effect.CausesOf(Row{b.line, who, operation, p.First()}))
	}
	return n
}

// Causes lists what is behind the cells of a number.
func (b *Behind) Causes(n int) []Cause { return b.lists[n] }

// sort numbers what subjects or places are to the entries that differ.
func (b *Behind) sort(key []byte) int {
	n, ok := b.sorts[string(key)]
	if !ok {
		n = len(b.sorts)
		b.sorts[string(key)] = n
	}
	return n
}

func yes(key []byte, is bool) []byte {
	if is {
		return append(key, 1)
	}
	return append(key, 0)
}

// subject numbers what a subject is to the entries that differ: whether they select it, whether it came into a group or
// left one, and which it is itself where its own entry differs.
func (b *Behind) subject(who estate.Principal) int {
	if n, ok := b.subjects[who]; ok {
		return n
	}
	e := b.effect
	var key []byte
	for _, g := range []*gate.Gate{e.Gates.Old, e.Gates.New} {
		part := e.partIn(g.Estate())
		for _, gr := range part.grants {
			key = yes(key, g.Selects(gr.To, who))
		}
		for _, block := range part.blocks {
			key = yes(key, g.Selects(block.To, who))
		}
		for _, id := range e.altered["groups"] {
			key = yes(key, g.Estate().Groups[id] != nil && g.InGroup(who, id))
		}
	}
	if slices.Contains(e.altered["people"], who.ID) || slices.Contains(e.altered["services"], who.ID) {
		key = append(key, who.String()...)
	}
	n := b.sort(key)
	b.subjects[who] = n
	return n
}

// place numbers what the resources of a pile are to the entries that differ: in which system they are, and whether the
// entries cover them.
func (b *Behind) place(p *differing.Pile) int {
	if n, ok := b.places[p.Number()]; ok {
		return n
	}
	var key []byte
	for _, g := range []*gate.Gate{b.effect.Gates.Old, b.effect.Gates.New} {
		there := Row{Resource: p.First()}.of(g).resources
		if there == nil {
			key = append(key, 2)
			continue
		}
		r, part := there[0], b.effect.partIn(g.Estate())
		for _, gr := range part.grants {
			key = yes(key, g.Covers(gr.On, r))
		}
		for _, block := range part.blocks {
			key = yes(key, g.Covers(block.On, r))
		}
		key = append(append(key, r.System.ID...), 3)
	}
	n := b.sort(key)
	b.places[p.Number()] = n
	return n
}
