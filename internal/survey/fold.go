package survey

import (
	"maps"
	"slices"

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
	f := folder{gate: g, who: p, context: c, resources: g.Estate().Tree.Slice()}
	f.answers = make([]map[string]gate.Outcome, len(f.resources))
	f.children = make([][]int, len(f.resources))
	for i, r := range f.resources {
		f.answers[i] = map[string]gate.Outcome{}
		if r.Parent != nil {
			f.children[r.Parent.Index] = append(f.children[r.Parent.Index], i)
		}
	}
	err := g.Answers(p, c, slices.Values(f.resources), func(*estate.Operation) bool { return true }, func(a gate.Answer) bool {
		f.answers[a.Resource.Index][a.Operation.Name] = a.Outcome
		return true
	})
	if err != nil {
		return nil, err
	}
	f.alike = make([]map[string]gate.Outcome, len(f.resources))
	for i := len(f.resources) - 1; i >= 0; i-- { // what stands in a place comes after it
		f.alike[i] = f.join(i)
	}
	for i, r := range f.resources {
		if r.Parent == nil {
			f.walk(i)
		}
	}
	return f.rows, f.err
}

type folder struct {
	gate      *gate.Gate
	who       estate.Principal
	context   *gate.Context
	resources []*estate.Resource
	children  [][]int
	answers   []map[string]gate.Outcome // of each resource, by operation
	alike     []map[string]gate.Outcome // of each subtree; nil where an operation has two answers in it
	rows      []Row
	err       error
}

func (f *folder) join(i int) map[string]gate.Outcome {
	if len(f.children[i]) == 0 {
		return f.answers[i]
	}
	all := maps.Clone(f.answers[i])
	for _, c := range f.children[i] {
		if f.alike[c] == nil {
			return nil
		}
		for o, outcome := range f.alike[c] {
			if had, ok := all[o]; ok && had != outcome {
				return nil
			}
			all[o] = outcome
		}
	}
	return all
}

func (f *folder) walk(i int) {
	if f.alike[i] != nil {
		f.add(i, f.alike[i], len(f.children[i]) > 0)
		return
	}
	f.add(i, f.answers[i], false)
	for _, c := range f.children[i] {
		f.walk(c)
	}
}

// add adds a row for each outcome in a place.
func (f *folder) add(i int, answers map[string]gate.Outcome, inside bool) {
	e := f.gate.Estate()
	for _, outcome := range []gate.Outcome{gate.Allow, gate.Depends} {
		row := Row{Resource: f.resources[i], Inside: inside, Outcome: outcome}
		byGrant := map[string][]*estate.Operation{}
		for _, name := range slices.Sorted(maps.Keys(answers)) {
			if answers[name] != outcome {
				continue
			}
			row.Operations = append(row.Operations, e.Operations[name])
			for _, id := range f.grants(i, name, inside) {
				byGrant[id] = append(byGrant[id], e.Operations[name])
			}
		}
		for _, id := range slices.Sorted(maps.Keys(byGrant)) {
			row.Through = append(row.Through, Part{id, words(byGrant[id], answers, e)})
		}
		if len(row.Operations) > 0 {
			f.rows = append(f.rows, row)
		}
	}
}

// Alike counts how many of the rows, from the first on, say the same of places that stand beside one another.
func Alike(rows []Row) int {
	n := 1
	for n < len(rows) && rows[n].Resource.Parent != nil && rows[n].Resource.Parent == rows[0].Resource.Parent && rows[n].Inside == rows[0].Inside &&
		rows[n].Outcome == rows[0].Outcome && slices.EqualFunc(rows[n].Through, rows[0].Through, func(a, b Part) bool {
		return a.Grant == b.Grant && slices.Equal(a.Words, b.Words)
	}) {
		n++
	}
	return n
}

// grants names what gives an operation in a place: at the resource itself or the first inside it where it applies.
func (f *folder) grants(i int, operation string, inside bool) []string {
	for ; i < len(f.resources); i++ {
		if _, valid := f.answers[i][operation]; valid || !inside {
			break
		}
	}
	why, err := f.gate.Explain(gate.Request{Subject: f.who, Operation: operation, Resource: f.resources[i].Address.String(), Context: f.context})
	if err != nil {
		f.err = err
	}
	var ids []string
	for _, c := range why.Grants {
		if c.Met {
			ids = append(ids, c.Grant.ID)
		}
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
	seen := map[*estate.Resource]bool{}
	err := g.Answers(p, c, g.Estate().Tree.All(), func(o *estate.Operation) bool { return o.Level == estate.View }, func(a gate.Answer) bool {
		if a.Outcome != gate.Deny {
			for r := a.Resource; r != nil && !seen[r]; r = r.Parent {
				seen[r] = true
			}
		}
		return true
	})
	var out []*estate.Resource
	for r := range g.Estate().Tree.All() {
		if seen[r] {
			out = append(out, r)
		}
	}
	return out, err
}
