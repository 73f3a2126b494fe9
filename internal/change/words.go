package change

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
)

// Who says whom a line is about: by name where they are few, by their group where it says it all, else by count and
// group.
func (e *Effect) Who(l *Line) string {
	if len(l.Subjects) <= 3 {
		var names []string
		for _, s := range l.Subjects {
			names = append(names, s.String())
		}
		return and(names)
	}
	everyone := len(e.After.People) + len(e.After.Services)
	group, size := e.nearestGroup(l.Subjects)
	n := len(l.Subjects)
	people := "people"
	if l.Subjects[0].Kind != estate.IsPerson || l.Subjects[n-1].Kind != estate.IsPerson {
		people = "people and services"
	}
	switch {
	case n == everyone+1:
		return "everyone and anonymous"
	case n == everyone && l.Subjects[n-1].Kind != estate.IsAnonymous:
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
			if !g.InGroup(subjects[0], group.ID) {
				continue // most groups of a large estate
			}
			members := g.CountMembers(estate.InGroup(group.ID))
			if members < len(subjects) || best != "" && members >= size {
				continue
			}
			if !slices.ContainsFunc(subjects, func(s estate.Principal) bool { return !g.InGroup(s, group.ID) }) {
				best, size = group.ID, members
			}
		}
		if best != "" {
			return best, size
		}
	}
	return "", 0
}

func and(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}

// EverythingListed stands for all resources that inventories list, to which the operations apply.
const EverythingListed = "everything listed"

// Where names a line's resources: a place for all in it where one of its operations applies.
func (e *Effect) Where(l *Line) string {
	places, under := e.Places(l), ""
	if prefix := AddedUnder(""); !slices.ContainsFunc(places,
		func(p string) bool { return !strings.HasPrefix(p, prefix) || strings.Contains(p, ",") }) {
		under = prefix
	}
	const most = 4
	var out []string
	for i, p := range places {
		if i == most && len(places) > most+1 {
			out = append(out, fmt.Sprintf("%d more places", len(places)-most))
			break
		}
		out = append(out, strings.TrimPrefix(p, under))
	}
	return under + and(out)
}

// namedPlaces is what a line's places hang on.
type namedPlaces struct {
	piles   *differing.Piles
	before  bool   // it is about the old estate
	applies string // where its operations do
}

// Places lists a line's resources, each place of which it has all in which its operations apply standing for what is in
// it.
func (e *Effect) Places(l *Line) []string {
	if l.where != nil {
		return l.where
	}
	if l.coming() {
		l.where = e.comingPlaces(l)
		return l.where
	}
	of := e.After
	if l.Way == Loses {
		of = e.Before
	}
	applies := appliesTo(of, l.Operations)
	key := namedPlaces{l.Piles, l.Way == Loses, fmt.Sprint(applies)}
	out, known := e.places[key]
	if !known {
		out = fold(of, l, applies)
		if e.places == nil {
			e.places = map[namedPlaces][]string{}
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
	f := folder{tree: of.Tree, applies: applies, inside: make([]bool, of.Tree.Len())}
	var out, unlisted []string
	var rows []int
	for p := range l.Piles.All() {
		for row, address := range p.Rows(of) {
			if row < 0 {
				unlisted = append(unlisted, address())
			} else if !f.inside[row] {
				f.inside[row] = true
				rows = append(rows, row)
			}
		}
	}
	slices.Sort(rows)
	for len(rows) > 0 {
		rows = f.fold(f.under(rows[0], 0), rows)
	}
	if out = f.out; len(out) > 3 && f.outside(0, len(f.inside), 1) == nil {
		out = []string{EverythingListed}
	}
	return append(out, unlisted...)
}

// folder brings resources together into places. It looks at little more than the resources themselves.
type folder struct {
	tree    *estate.Tree
	applies [][]bool
	inside  []bool
	out     []string
}

// fold tells those of the rows, in tree order, that stand in a place, the first of them among them, and gives the
// others.
func (f *folder) fold(place int, rows []int) []int {
	end := f.end(place)
	n, _ := slices.BinarySearch(rows, end)
	rows, others := rows[:n], rows[n:]
	const mostLeft = 2
	left := f.outside(place, end, mostLeft+1)
	switch {
	case len(left) == 0: // where nothing applies to the place itself, what all stands in says more
		first, last := rows[0], rows[len(rows)-1]
		for last < first || last >= f.end(first) {
			first = int(f.tree.Rows[first].Parent) - 1
		}
		f.out = append(f.out, f.tree.Address(first))
	case len(left) <= mostLeft && len(rows) >= 3*len(left):
		text := f.tree.Address(place)
		if left[0] == text { // in tree order, it comes first
			text, left = "what is inside "+text, left[1:]
		}
		if len(left) > 0 {
			text += " (but not " + strings.Join(left, ", ") + ")"
		}
		f.out = append(f.out, text)
	default:
		if rows[0] == place {
			f.out = append(f.out, f.tree.Address(place)+" itself")
			rows = rows[1:]
		}
		for len(rows) > 0 {
			rows = f.fold(f.under(rows[0], place+1), rows)
		}
	}
	return others
}

// under gives what stands above a row, or is it, right in a place: one more than whose row is given, 0 for that of all
// systems.
func (f *folder) under(row, parent int) int {
	for int(f.tree.Rows[row].Parent) != parent {
		row = int(f.tree.Rows[row].Parent) - 1
	}
	return row
}

// end gives the row after all that stand in a place.
func (f *folder) end(place int) int {
	rows := f.tree.Rows
	return place + 1 + sort.Search(len(rows)-place-1, func(i int) bool {
		row := place + 1 + i
		for row > place {
			row = int(rows[row].Parent) - 1
		}
		return row < place
	})
}

// outside names those from one row until another on which the operations apply and which are not inside, up to so many.
func (f *folder) outside(from, to, most int) (out []string) {
	for i := from; i < to && len(out) < most; i++ {
		if row := f.tree.Rows[i]; !f.inside[i] && f.applies[row.System][row.Type] {
			out = append(out, f.tree.Address(i))
		}
	}
	return out
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
		out[k].Piles = out[k].Piles.With(lines[i].Piles)
	}
	return out
}
