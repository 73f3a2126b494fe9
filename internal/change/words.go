package change

import (
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// Who says whom a line is about: by name where they are few, by their group where it says it all, else by count and group.
func (e *Effect) Who(l *Line) string {
	if len(l.Subjects) <= 3 {
		var names []string
		for _, s := range l.Subjects {
			names = append(names, s.String())
		}
		return and(names)
	}
	g := e.Gates.New
	group, size := e.nearestGroup(l.Subjects)
	n := len(l.Subjects)
	people := "people"
	if l.Subjects[0].Kind != estate.IsPerson || l.Subjects[n-1].Kind != estate.IsPerson {
		people = "people and services"
	}
	switch {
	case n == len(g.Subjects()):
		return "everyone and anonymous"
	case n == len(g.Subjects())-1 && l.Subjects[n-1].Kind != estate.IsAnonymous:
		return "everyone"
	case group != "" && size == n:
		return fmt.Sprintf("all %d %s of group:%s", n, people, group)
	case group != "":
		return fmt.Sprintf("%d %s of group:%s", n, people, group)
	}
	return fmt.Sprintf("%d %s (%s, %s and others)", n, people, l.Subjects[0], l.Subjects[1])
}

// nearestGroup finds the smallest group that holds all the subjects, as it is afterwards or else before.
func (e *Effect) nearestGroup(subjects []estate.Principal) (string, int) {
	for _, g := range []*gate.Gate{e.Gates.New, e.Gates.Old} {
		best, size := "", 0
		for _, group := range estate.Sorted(g.Estate().Groups) {
			members := g.Members(estate.Subjects{{Principal: estate.Principal{Kind: estate.IsGroup, ID: group.ID}}})
			if len(members) < len(subjects) || best != "" && len(members) >= size {
				continue
			}
			if !slices.ContainsFunc(subjects, func(s estate.Principal) bool { return !g.InGroup(s, group.ID) }) {
				best, size = group.ID, len(members)
			}
		}
		if best != "" {
			return best, size
		}
	}
	return "", 0
}

// Direct counts the subjects of a line whom a grant of its operations names by themselves.
func (e *Effect) Direct(l *Line) int {
	of := e.After
	if l.Way == Loses {
		of = e.Before
	}
	g := e.Gates.New
	if of == e.Before {
		g = e.Gates.Old
	}
	n := 0
	k := 0
	if of == e.Before {
		k = 1
	}
	if e.direct[k] == nil {
		e.direct[k] = map[estate.Principal][]*estate.Grant{}
		for _, gr := range of.Grants {
			for _, t := range gr.To {
				if !t.Not && (t.Kind == estate.IsPerson || t.Kind == estate.IsService) {
					e.direct[k][t.Principal] = append(e.direct[k][t.Principal], gr)
				}
			}
		}
	}
	for _, s := range l.Subjects {
		if slices.ContainsFunc(e.direct[k][s], func(gr *estate.Grant) bool {
			return slices.ContainsFunc(gr.Roles, func(r estate.Ref) bool { return g.RoleHas(r.ID, l.Operations[0]) })
		}) {
			n++
		}
	}
	return n
}

func and(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}

// What names a line's operations: a level of which all are among them, of those that apply to the resources, by one word.
func (e *Effect) What(l *Line) string {
	of := e.After
	if l.Way == Loses {
		of = e.Before
	}
	applies := map[string]bool{}
	for _, p := range l.Piles {
		for _, o := range p.Operations() {
			applies[o] = true
		}
	}
	var in, all [4]int
	for name := range applies {
		if o := of.Operations[name]; o != nil {
			all[o.Level]++
		}
	}
	for _, name := range l.Operations {
		if o := of.Operations[name]; o != nil {
			in[o.Level]++
		}
	}
	var out []string
	for level := estate.View; level <= estate.Govern; level++ {
		if in[level] > 1 && in[level] == all[level] {
			out = append(out, "all "+level.String())
		}
	}
	for _, name := range l.Operations {
		if o := of.Operations[name]; o == nil || in[o.Level] <= 1 || in[o.Level] != all[o.Level] {
			out = append(out, name)
		}
	}
	const most = 6
	if len(out) > most+1 {
		out = append(out[:most:most], fmt.Sprintf("%d more", len(out)-most))
	}
	return and(out)
}

// Where names a line's resources: a place for all in it where one of its operations applies.
func (e *Effect) Where(l *Line) string {
	places := e.Places(l)
	const most = 4
	if len(places) > most+1 {
		places = append(places[:most:most], fmt.Sprintf("%d more places", len(places)-most))
	}
	return and(places)
}

// Places lists a line's resources, each place of which it has all in which its operations apply standing for what is in it.
func (e *Effect) Places(l *Line) []string {
	if l.where != nil {
		return l.where
	}
	of := e.After
	if l.Way == Loses {
		of = e.Before
	}
	applies := appliesTo(of, l.Operations)
	key := fmt.Sprint(l.OnRequest, l.Way == Loses, applies) // the piles of what can be lent are others
	for _, p := range l.Piles {
		key += p.Key()
	}
	out, known := e.places[key]
	if !known {
		out = fold(of, l, applies)
		if e.places == nil {
			e.places = map[string][]string{}
		}
		e.places[key] = out
	}
	return out
}

// appliesTo tells of each system and each type of resources, by number, whether some of the operations apply there.
func appliesTo(e *estate.Estate, operations []string) [][]bool {
	out := make([][]bool, len(e.Tree.Systems))
	for i, s := range e.Tree.Systems {
		offer := e.Offer(s.Kind.ID)
		for _, t := range e.Tree.Types {
			out[i] = append(out[i], slices.ContainsFunc(operations, func(o string) bool { return offer.Valid(o, t) != nil }))
		}
	}
	return out
}

func fold(of *estate.Estate, l *Line, applies [][]bool) []string {
	tree := of.Tree
	const (
		outside = iota
		inside
		neutral // nothing applies here
	)
	state := make([]byte, tree.Len())
	var out, unlisted []string
	touched := make([]bool, len(tree.Systems)) // systems of which something is inside
	some := false
	for _, p := range l.Piles {
		for row, address := range p.Rows(of) {
			if row < 0 {
				unlisted = append(unlisted, address())
				continue
			}
			state[row] = inside
			touched[tree.Rows[row].System] = true
			some = true
		}
	}
	if !some {
		return unlisted
	}
	// How much of what stands in a place, itself among it, is inside, and how much outside.
	in, left := make([]int32, tree.Len()), make([]int32, tree.Len())
	whole := true
	for i := tree.Len() - 1; i >= 0; i-- {
		row := tree.Rows[i]
		if state[i] != inside && !applies[row.System][row.Type] {
			state[i] = neutral
		}
		if !touched[row.System] {
			whole = whole && state[i] == neutral
			continue
		}
		switch state[i] {
		case inside:
			in[i]++
		case outside:
			left[i]++
		}
		if up := row.Parent; up > 0 {
			in[up-1] += in[i]
			left[up-1] += left[i]
		}
	}
	for i := 0; i < tree.Len(); {
		if !touched[tree.Rows[i].System] {
			i++
			continue
		}
		whole = whole && left[i] == 0
		end := i + 1
		for end < tree.Len() && tree.Rows[end].Parent > uint32(i) {
			end++
		}
		switch {
		case in[i] > 0 && left[i] == 0:
			out = append(out, tree.Address(narrowest(tree, i, in, state)))
			i = end
		case in[i] >= 3*left[i] && left[i] > 0 && left[i] <= 2:
			var but []string
			for k := i; k < end; k++ {
				if state[k] == outside {
					but = append(but, tree.Address(k))
				}
			}
			out = append(out, tree.Address(i)+" (but not "+strings.Join(but, ", ")+")")
			i = end
		case in[i] == 0:
			i = end
		default:
			if state[i] == inside {
				out = append(out, tree.Address(i)+" itself")
			}
			i++
		}
	}
	if whole && len(out) > 3 {
		out = []string{"everything"}
	}
	return append(out, unlisted...)
}

// narrowest goes down from a place in which nothing applies as long as all that does stands in one thing within it.
func narrowest(tree *estate.Tree, i int, in []int32, state []byte) int {
	const inside = 1
	for state[i] != inside {
		next, n := 0, 0
		for k := i + 1; k < tree.Len() && tree.Rows[k].Parent > uint32(i); k++ {
			if tree.Rows[k].Parent == uint32(i+1) && in[k] > 0 {
				next = k
				n++
			}
		}
		if n != 1 {
			return i
		}
		i = next
	}
	return i
}

// ByPlace brings lines that are about the same places together, whatever the operations.
func (e *Effect) ByPlace(lines []Line) []Line {
	var out []Line
	at := map[string]int{}
	for i := range lines {
		where := strings.Join(e.Places(&lines[i]), "\n")
		k, ok := at[where]
		if !ok {
			at[where] = len(out)
			out = append(out, lines[i])
			out[len(out)-1].where = strings.Split(where, "\n")
			continue
		}
		out[k].Operations = slices.Sorted(slices.Values(slices.Concat(out[k].Operations, lines[i].Operations)))
		out[k].Piles = slices.Concat(out[k].Piles, lines[i].Piles)
	}
	return out
}
