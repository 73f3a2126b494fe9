package survey

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// Column is one subject of a grid: a person, a service or anonymous; a group, and then it is what a new member gets who
// is in nothing else; or a role, and then it is what somebody gets who has it everywhere.
type Column struct {
	Name    string
	Subject estate.Principal // unless it is a role
	Role    string
	Invited bool // they have not come yet, and so may do nothing
	Asked   bool // it was asked for by name
}

// Question is what a grid shows.
type Question struct {
	Columns []Column
	What    func(*estate.Operation) bool // nil: every operation
	// Within says which resources are looked at; nil: all.
	Within func(*estate.Resource) bool
	Ask    func(*gate.Gate) (*gate.Context, error) // makes the context of the requests
	// Lent is what is lent to whom
	Lent []estate.Elevation
	// Gate is one of the estate that is there already; nil: there is none.
	Gate *gate.Gate
}

// Grid answers for some subjects over all places.
type Grid struct {
	Columns []Column
	estate  *estate.Estate
	who     []estate.Principal // of each column, the subject that is asked about
	all     []uint32           // of each row, with all that is inside, its line
	lines   *gridLines
	alike   gridPlaces
	gates   [3]*gate.Gate // by variant; nil where it is as the first
	named   []bool        // of each column, whether a grant names its subject
	// Of the sorts of places: what concerns somebody there, by variant; the answers where nothing does; and what
	// concerned a subject last, of whom each has a turn.
	index     [3]*gate.RowIndex
	idle      []*gate.OperationOutcomes
	concerned []concern
	turn      int
	like      []int // of each column, the first of which all answers are the same
	ask       Question
	rows      []int   // those that are looked at
	looked    []int32 // of each row, how many resources of it and what is inside are looked at
	size      []int32 // and how many there are
}

// The variants of the grants that a grid compares.
const (
	asTheyAre = iota
	allLent
	withoutDirect
)

// NewGrid works a grid out: it costs columns times what tells resources apart, and the resources.
func NewGrid(ctx context.Context, e *estate.Estate, q Question) (*Grid, error) {
	g := &Grid{Columns: q.Columns, estate: e, ask: q, named: make([]bool, len(q.Columns)),
		looked: make([]int32, e.Tree.Len()), size: make([]int32, e.Tree.Len())}
	for i := range e.Tree.Len() {
		g.size[i] = 1
		if q.Within == nil || q.Within(e.Tree.At(i)) {
			g.rows = append(g.rows, i)
			g.looked[i] = 1
		}
	}
	upwards(e.Tree, func(up, row int) {
		g.looked[up] += g.looked[row]
		g.size[up] += g.size[row]
	})
	base, who := withColumns(e, q.Columns)
	g.who = who
	var contexts [3]*gate.Context
	only := map[estate.Principal]bool{}
	for _, p := range who {
		only[p] = true
	}
	for k, variant := range [3]*estate.Estate{base, standing(base), indirect(base, who, g.named)} {
		if variant == nil {
			continue
		}
		compiled, err := gate.CarriedFor(variant, q.Gate, q.Lent, only)
		if err != nil {
			return nil, err
		}
		g.gates[k] = compiled
		if contexts[k], err = q.Ask(compiled); err != nil {
			return nil, err
		}
	}
	g.alike = g.places()
	g.indexed()
	g.lines = newGridLines(len(q.Columns))
	own := make([][]mask, len(g.alike.first)) // of each sort of places, by column
	g.like = g.columnsAlike()
	for c := range q.Columns {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		if g.like[c] != c {
			continue
		}
		if err := g.column(c, contexts, own); err != nil {
			return nil, fmt.Errorf("%s: %w", q.Columns[c].Name, err)
		}
	}
	g.all = make([]uint32, e.Tree.Len())
	numbers := make([]uint32, len(own))
	for n, line := range own {
		for c, first := range g.like {
			line[c] = line[first]
		}
		numbers[n] = g.lines.number(line)
	}
	for i, row := range g.rows {
		g.all[row] = numbers[g.alike.of[i]]
	}
	upwards(e.Tree, func(up, row int) { g.all[up] = g.lines.join(g.all[up], g.all[row]) })
	return g, nil
}

// upwards puts together what is inside each place, from the innermost on.
func upwards(tree *estate.Tree, join func(up, row int)) {
	for row := tree.Len() - 1; row >= 0; row-- { // what stands in a place comes after it
		if up := tree.Rows[row].Parent; up > 0 {
			join(int(up-1), row)
		}
	}
}

// askers gives those of a column, by variant; nil where the answers are as the first's.
func (g *Grid) askers(c int, contexts [3]*gate.Context) (out [3]*gate.Asker, err error) {
	for k, compiled := range g.gates {
		if compiled == nil || k == withoutDirect && !g.named[c] {
			continue
		}
		if out[k], err = compiled.Asker(g.who[c], contexts[k]); err != nil {
			return out, err
		}
	}
	return out, nil
}

// indexed finds out what concerns somebody where: most subjects have nothing in most places.
func (g *Grid) indexed() {
	for k, compiled := range g.gates {
		if compiled != nil {
			g.index[k] = compiled.NewRowIndex(g.alike.first)
		}
	}
	compiled, first := g.gates[asTheyAre], g.alike.first
	known := map[uint32]*gate.OperationOutcomes{} // by class
	g.concerned = make([]concern, len(first))
	for _, row := range first {
		class := compiled.Places.Spots[row].Class
		if known[class] == nil {
			known[class] = compiled.Nothing(row)
		}
		g.idle = append(g.idle, known[class])
	}
}

// each tells what a column's subject may do on each sort of places that are looked at.
func (g *Grid) each(c int, contexts [3]*gate.Context, tell func(sort int, v variants)) error {
	askers, err := g.askers(c, contexts)
	if err != nil {
		return err
	}
	g.turn++
	known := true // where something concerns the subject
	for k, asker := range askers {
		if asker != nil && known {
			known = g.index[k].Concerned(g.who[c], func(sort uint32, how gate.Concern) {
				if one := &g.concerned[sort]; one.turn != g.turn || one.how < how {
					*one = concern{g.turn, how}
				}
			})
		}
	}
	for sort, row := range g.alike.first {
		how := gate.ByTraits
		if known {
			how = g.concerned[sort].in(g.turn)
		}
		var v variants
		for k, asker := range askers {
			switch {
			case asker == nil:
			case how == gate.Unconcerned:
				v[k] = g.idle[sort]
			default:
				if v[k], err = asker.OnAs(row, how); err != nil {
					return err
				}
			}
		}
		tell(sort, v)
	}
	return nil
}

// columnsAlike gives of each column the first whose subject gets the same answers everywhere, which may be itself.
func (g *Grid) columnsAlike() []int {
	out, known := make([]int, len(g.who)), map[[3]string]int{}
	for c, who := range g.who {
		var key [3]string
		ok := true
		for k, index := range g.index {
			if index != nil && (k != withoutDirect || g.named[c]) && ok {
				key[k], ok = index.Likeness(who)
			}
		}
		first, is := known[key]
		if out[c] = c; ok && is {
			out[c] = first
		} else if ok {
			known[key] = c
		}
	}
	return out
}

// concern is how something concerns the subject of a turn.
type concern struct {
	turn int
	how  gate.Concern
}

func (c concern) in(turn int) gate.Concern {
	if c.turn != turn {
		return gate.Unconcerned
	}
	return c.how
}

// column takes down the masks of the sorts of places themselves for one column.
func (g *Grid) column(c int, contexts [3]*gate.Context, own [][]mask) error {
	known := map[variants]mask{}
	var last variants
	var m mask
	return g.each(c, contexts, func(sort int, v variants) {
		if v != last {
			var ok bool
			if m, ok = known[v]; !ok {
				m = g.ask.mask(v)
				known[v] = m
			}
			last = v
		}
		if own[sort] == nil {
			own[sort] = make([]mask, len(g.Columns))
		}
		own[sort][c] = m
	})
}

// At is how far a column's subject gets in a place and all inside it that is looked at.
func (g *Grid) At(column, row int) Reached { return g.lines.list[g.all[row]][column].reached() }

// Find gives a listed resource's row; -1 if there is none.
func (g *Grid) Find(address string) int { return g.estate.Tree.Find(address) }

// Answer is what a column's subject may do of one operation, in all places that are looked at.
type Answer struct {
	Outcome   gate.Outcome
	Partly    bool // not everywhere where it could be
	OnRequest bool // it can be lent
	Direct    bool // somewhere only by a grant that names the subject itself
}

// Operations answers operation by operation: those that apply to something looked at, in the order of their names, with
// a cell for each column. An operation of several kinds of system has one row, as the first of the resources has it.
func (g *Grid) Operations() ([]*estate.Operation, [][]Answer, error) {
	var contexts [3]*gate.Context
	var err error
	for k, compiled := range g.gates {
		if compiled == nil {
			continue
		}
		if contexts[k], err = g.ask.Ask(compiled); err != nil {
			return nil, nil, err
		}
	}
	first, cells := map[string]*estate.Operation{}, map[string][]mask{}
	for c := range g.Columns {
		if g.like[c] != c {
			continue
		}
		known := map[variants]bool{}
		if err := g.each(c, contexts, func(_ int, v variants) {
			if known[v] {
				return
			}
			known[v] = true
			for i, o := range v[asTheyAre].Operations {
				if g.ask.What != nil && !g.ask.What(o) {
					continue
				}
				if first[o.Name] == nil {
					first[o.Name], cells[o.Name] = o, make([]mask, len(g.Columns))
				}
				cells[o.Name][c] |= v.of(i)
			}
		}); err != nil {
			return nil, nil, err
		}
	}
	var ops []*estate.Operation
	for _, name := range slices.Sorted(maps.Keys(first)) {
		ops = append(ops, first[name])
	}
	out := make([][]Answer, len(ops))
	for n, o := range ops {
		for _, first := range g.like {
			out[n] = append(out[n], cells[o.Name][first].answer())
		}
	}
	return ops, out, nil
}
