package survey

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// Row is what a subject may do in one place: on a resource, or on it and everything inside it.
type Row struct {
	Resource   *estate.Resource
	Inside     bool
	Outcome    gate.Outcome // Allow or Depends
	Operations []*estate.Operation
	Through    []Part // by grant
}

// Part is what one grant gives of a row: a level of which it gives everything that applies there by one word, other
// operations by name.
type Part struct {
	Grant string
	Words []string
}

// Reach tells what a subject may do, folded: where every operation has the same answer everywhere in a subtree
// in which it applies, the subtree is one row for each outcome. Rows come in tree order.
func Reach(g *gate.Gate, p estate.Principal, c *gate.Context) ([]Row, error) {
	asker, err := g.Asker(p, c)
	if err != nil {
		return nil, err
	}
	tree := g.Estate().Tree
	f := folder{
		gate: g, giver: g.Giver(p, c), tree: tree, answers: make([]*answers, tree.Len()), alike: make([]*answers, tree.Len()),
		folded: map[*gate.OperationOutcomes]*answers{}, joined: map[[2]*answers]*answers{},
	}
	for i := range tree.Len() {
		given, err := asker.On(i)
		if err != nil {
			return nil, err
		}
		if f.folded[given] == nil {
			f.folded[given] = &answers{outcomes: map[string]gate.Outcome{}}
			for k, o := range given.Operations {
				f.folded[given].outcomes[o.Name] = given.Outcomes[k]
			}
		}
		f.answers[i] = f.folded[given]
		f.alike[i] = f.answers[i]
	}
	for i := tree.Len() - 1; i >= 0; i-- { // what stands in a place comes after it
		if up := tree.Rows[i].Parent; up > 0 {
			f.alike[up-1] = f.join(f.alike[up-1], f.alike[i])
		}
	}
	for i := 0; i < tree.Len(); {
		i = f.walk(i)
	}
	return f.rows, f.err
}

type folder struct {
	gate    *gate.Gate
	giver   *gate.Giver
	tree    *estate.Tree
	answers []*answers // of each resource
	alike   []*answers // of each subtree; mixed where an operation has two answers in it
	folded  map[*gate.OperationOutcomes]*answers
	joined  map[[2]*answers]*answers
	rows    []Row
	err     error
}

// answers is what a subject may do, by operation. The same answers are mostly the same pointer.
type answers struct {
	outcomes map[string]gate.Outcome
	names    []string // of the operations, in order; nil until they are asked for
}

func (a *answers) sorted() []string {
	if a.names == nil {
		a.names = slices.Sorted(maps.Keys(a.outcomes))
	}
	return a.names
}

// mixed stands for a subtree in which an operation has two answers.
var mixed = &answers{}

// join gives the answers of two places together.
func (f *folder) join(a, b *answers) *answers {
	if a == b || a == mixed {
		return a
	}
	if b == mixed {
		return b
	}
	if j := f.joined[[2]*answers{a, b}]; j != nil {
		return j
	}
	all := &answers{outcomes: maps.Clone(a.outcomes)}
	grown := false
	for o, outcome := range b.outcomes {
		had, ok := all.outcomes[o]
		if ok && had != outcome {
			all = mixed
			break
		}
		all.outcomes[o] = outcome
		grown = grown || !ok
	}
	if all != mixed && !grown {
		all = a
	}
	f.joined[[2]*answers{a, b}] = all
	return all
}

// walk adds the rows of a subtree and gives where the next begins.
func (f *folder) walk(i int) int {
	end := i + 1 // where the subtree ends
	if f.alike[i] != mixed {
		for end < f.tree.Len() && f.within(end, i) {
			end++
		}
		f.add(i, f.alike[i], end)
		return end
	}
	f.add(i, f.answers[i], end)
	for end < f.tree.Len() && f.within(end, i) {
		end = f.walk(end)
	}
	return end
}

// within says whether a row stands in a place, all rows between them standing in it.
func (f *folder) within(row, place int) bool {
	up := f.tree.Rows[row].Parent
	return up > 0 && int(up-1) >= place
}

// add adds a row for each outcome in a place and what is inside it up to a row.
func (f *folder) add(i int, given *answers, end int) {
	e := f.gate.Estate()
	for _, outcome := range []gate.Outcome{gate.Allow, gate.Depends} {
		row := Row{Inside: end > i+1, Outcome: outcome}
		byGrant := map[string][]*estate.Operation{}
		for _, name := range given.sorted() {
			if given.outcomes[name] != outcome {
				continue
			}
			row.Operations = append(row.Operations, e.Operations[name])
			for _, id := range f.grants(i, end, name) {
				byGrant[id] = append(byGrant[id], e.Operations[name])
			}
		}
		for _, id := range slices.Sorted(maps.Keys(byGrant)) {
			row.Through = append(row.Through, Part{id, words(byGrant[id], given.outcomes, e)})
		}
		if len(row.Operations) > 0 {
			row.Resource = f.tree.At(i)
			f.rows = append(f.rows, row)
		}
	}
}

// Grouped brings rows together that say the same of places of one system, in the order of the first of each.
func Grouped(rows []Row) (out [][]Row) {
	at := map[string]int{}
	for _, r := range rows {
		var key strings.Builder
		fmt.Fprint(&key, r.Resource.System.ID, r.Inside, r.Outcome)
		for _, part := range r.Through {
			fmt.Fprintf(&key, "\x00%s\x01%s", part.Grant, strings.Join(part.Words, "\x02"))
		}
		i, known := at[key.String()]
		if !known {
			i = len(out)
			at[key.String()] = i
			out = append(out, nil)
		}
		out[i] = append(out[i], r)
	}
	return out
}

// grants names what gives an operation in a place: at the resource itself or the first inside it where it applies.
func (f *folder) grants(i, end int, operation string) []string {
	for ; i+1 < end; i++ {
		if _, valid := f.answers[i].outcomes[operation]; valid {
			break
		}
	}
	ids, err := f.giver.On(i, operation)
	if err != nil {
		f.err = err
	}
	return ids
}

// words names operations, a level of which all that apply in the place are among them by one word.
func words(list []*estate.Operation, applies map[string]gate.Outcome, e *estate.Estate) []string {
	var in, all [4]int
	for _, o := range list {
		in[o.Level]++
	}
	for name := range applies {
		all[e.Operations[name].Level]++
	}
	var out []string
	for level := estate.View; level <= estate.Govern; level++ {
		if in[level] > 1 && in[level] == all[level] {
			out = append(out, "all "+level.String())
		}
	}
	for _, o := range list {
		if in[o.Level] <= 1 || in[o.Level] != all[o.Level] {
			out = append(out, o.Name)
		}
	}
	return out
}

// Visible lists the resources that the subject sees: some view operation is allowed or depends on them or on
// anything inside them.
func Visible(g *gate.Gate, p estate.Principal, c *gate.Context) ([]*estate.Resource, error) {
	asker, err := g.Asker(p, c)
	if err != nil {
		return nil, err
	}
	tree := g.Estate().Tree
	seen := make([]bool, tree.Len())
	for i := range tree.Len() {
		given, err := asker.On(i)
		if err != nil {
			return nil, err
		}
		for k, o := range given.Operations {
			if o.Level == estate.View && given.Outcomes[k] != gate.Deny {
				seen[i] = true
				break
			}
		}
	}
	var out []*estate.Resource
	for i := tree.Len() - 1; i >= 0; i-- { // what stands in a place comes after it
		if seen[i] {
			if up := tree.Rows[i].Parent; up > 0 {
				seen[up-1] = true
			}
			out = append(out, tree.At(i))
		}
	}
	slices.Reverse(out)
	return out, nil
}
