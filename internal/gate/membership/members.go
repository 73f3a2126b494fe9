package membership

import (
	"iter"
	"slices"
	"strings"

	"hiddengate/internal/estate"
)

// Lists works out who is in groups and in lists of subjects, as sorted numbers of subjects.
type Lists struct {
	estate *estate.Estate
	people []*estate.Subject // by number; anonymous is the last
	number func(estate.Principal) int
	groups map[string][]uint32
	tagged map[estate.Tag][]uint32    // whom a tag describes, of the keys that some group matches
	lists  map[string][]uint32        // of lists that have been gathered, by what they say
	marks  []bool                     // of each subject, while a list is gathered
	in     map[uint32]map[string]bool // of each of a few subjects, whether some groups have it that are not gathered
}

// NewLists makes the lists of an estate whose subjects, in the order of their numbers, are people. Nothing is
// worked out before it is asked for.
func NewLists(e *estate.Estate, people []*estate.Subject, number func(estate.Principal) int) *Lists {
	m := &Lists{estate: e, people: people, number: number, groups: map[string][]uint32{}, lists: map[string][]uint32{},
		in: map[uint32]map[string]bool{}, tagged: map[estate.Tag][]uint32{}, marks: make([]bool, len(people))}
	keys := map[string]bool{}
	for _, g := range e.Groups {
		for _, match := range g.Match {
			keys[match.Key] = true
		}
	}
	for i, s := range people[:len(people)-1] {
		if len(keys) == 0 {
			break
		}
		for _, t := range s.Tags {
			if keys[t.Key] {
				m.tagged[t] = append(m.tagged[t], uint32(i))
			}
		}
	}
	return m
}

// Fork gives members that another goroutine may ask. What groups hold is worked out first, and shared.
func (m *Lists) Fork() *Lists {
	for id := range m.estate.Groups {
		m.Group(id)
	}
	f := *m
	f.marks, f.lists, f.in = make([]bool, len(m.marks)), map[string][]uint32{}, map[uint32]map[string]bool{}
	return &f
}

// takeOver takes over who is in those groups, of another estate with the same subjects, that are the same with all they
// are made of. Who is in the others' groups is worked out for good, however many estates take it over.
func (m *Lists) takeOver(known *Lists) {
	for id := range known.estate.Groups {
		known.Group(id)
	}
	same := map[string]bool{}
	var is func(id string) bool
	is = func(id string) bool {
		if alike, ok := same[id]; ok {
			return alike
		}
		same[id] = false // should a circle lead back here
		group := m.estate.Groups[id]
		same[id] = group != nil && group == known.estate.Groups[id] &&
			!slices.ContainsFunc(group.Members, func(t estate.SubjectTerm) bool { return t.Kind == estate.IsGroup && !is(t.ID) })
		return same[id]
	}
	for id, members := range known.groups {
		if is(id) {
			m.groups[id] = members
		}
	}
}

// Group gives a group's members: those listed (of a group, those left after its own `not` entries) and all whom
// `match` fits, less its own `not` entries.
func (m *Lists) Group(id string) []uint32 {
	if s, ok := m.groups[id]; ok {
		return s
	}
	group := m.estate.Groups[id]
	var in []uint32
	if group.Match != nil {
		for _, v := range group.Match[0].Values {
			for _, i := range m.tagged[estate.Tag{Key: group.Match[0].Key, Value: v}] {
				if estate.Fits(group.Match, m.people[i].Tags) {
					in = append(in, i)
				}
			}
		}
	}
	s := m.gather(in, group.Members)
	m.groups[id] = s
	return s
}

// Selected gives the subjects that a list selects. The slice may be shared.
func (m *Lists) Selected(list estate.Subjects) []uint32 {
	if len(list) == 1 && list[0].Kind == estate.IsGroup && !list[0].Not {
		return m.Group(list[0].ID)
	}
	key := SubjectsKey(list)
	out, ok := m.lists[key]
	if !ok {
		if len(m.lists) >= maxLists {
			clear(m.lists)
		}
		out = m.gather(nil, list)
		m.lists[key] = out
	}
	return out
}

// maxLists is how many lists of subjects are kept.
const maxLists = 1 << 10

// gather adds what the list gathers to in, and then takes away what its `not` entries say.
func (m *Lists) gather(in []uint32, list estate.Subjects) []uint32 {
	for _, t := range list {
		if t.Kind == estate.IsGroup {
			m.Group(t.ID) // before the marks are set, since it may have to be gathered itself
		}
	}
	count, last, sorted := 0, uint32(0), true
	mark := func(i uint32) {
		if !m.marks[i] {
			m.marks[i] = true
			count, last, sorted = count+1, i, sorted && (count == 0 || last < i)
		}
	}
	for _, i := range in {
		mark(i)
	}
	m.each(list, false, mark)
	m.each(list, true, func(i uint32) {
		if m.marks[i] {
			m.marks[i] = false
			count--
		}
	})
	left := make([]uint32, 0, count)
	take := func(i uint32) {
		if m.marks[i] {
			m.marks[i] = false // named twice, it is there once
			left = append(left, i)
		}
	}
	for _, i := range in {
		take(i)
	}
	m.each(list, false, take)
	if !sorted {
		slices.Sort(left)
	}
	return left
}

// each tells whom the entries of a list are about that have a `not`, or that have none.
func (m *Lists) each(list estate.Subjects, not bool, tell func(uint32)) {
	for _, t := range list {
		switch {
		case t.Not != not:
		case t.Kind == estate.IsGroup:
			for _, i := range m.Group(t.ID) {
				tell(i)
			}
		case t.Kind == estate.IsEveryone:
			for i := range len(m.people) - 1 { // anonymous is the last
				tell(uint32(i))
			}
		default:
			tell(uint32(m.number(t.Principal)))
		}
	}
}

// SubjectsKey is the same for lists that say the same.
func SubjectsKey(list estate.Subjects) string {
	if len(list) == 1 {
		return list[0].String()
	}
	var b strings.Builder
	for _, t := range list {
		b.WriteString(t.String())
		b.WriteByte(' ')
	}
	return b.String()
}

// Has says whether a sorted list of numbers has one.
func Has(sorted []uint32, n int) bool {
	_, found := slices.BinarySearch(sorted, uint32(n))
	return found
}

// Selects says whether a list selects a subject.
func (m *Lists) Selects(list estate.Subjects, n int) bool { return m.selects(list, n, false) }

// selects is Selects, where the subject may be selected beside the list; `not` entries take it away then, too.
func (m *Lists) selects(list estate.Subjects, n int, in bool) bool {
	for i := range list {
		t := &list[i]
		if in && !t.Not || !m.meets(t, n) {
			continue
		}
		if t.Not {
			return false
		}
		in = true
	}
	return in
}

// meets says whether a term is about a subject, whatever its `not`.
func (m *Lists) meets(t *estate.SubjectTerm, n int) bool {
	switch t.Kind {
	case estate.IsGroup:
		return m.isIn(t.ID, n)
	case estate.IsEveryone:
		return n < len(m.people)-1 // anonymous is the last
	case estate.IsAnonymous:
		return n == len(m.people)-1
	}
	return n < len(m.people)-1 && m.people[n].ID == t.ID && m.people[n].Service == (t.Kind == estate.IsService)
}

// mostApart is of how many subjects it is told by themselves whether groups have them.
const mostApart = 8

// isIn says whether a group has a subject. As long as few are asked about, the group is not gathered for that: to find
// everybody's number takes a hundred times what comparing a name does.
func (m *Lists) isIn(group string, n int) bool {
	if members, ok := m.groups[group]; ok {
		return Has(members, n)
	}
	known := m.in[uint32(n)]
	if known == nil {
		if len(m.in) >= mostApart {
			return Has(m.Group(group), n)
		}
		known = map[string]bool{}
		m.in[uint32(n)] = known
	}
	is, ok := known[group]
	if !ok {
		g := m.estate.Groups[group]
		matches := g.Match != nil && n < len(m.people)-1 && estate.Fits(g.Match, m.people[n].Tags)
		is = m.selects(g.Members, n, matches)
		known[group] = is
	}
	return is
}

// Meet says whether two sorted lists have a number in common.
func Meet(a, b []uint32) bool {
	for range common(a, b) {
		return true
	}
	return false
}

// Common gives the numbers that two sorted lists have in common.
func Common(a, b []uint32) []uint32 { return slices.Collect(common(a, b)) }

func common(a, b []uint32) iter.Seq[uint32] {
	if len(a) > len(b) {
		a, b = b, a
	}
	return func(yield func(uint32) bool) {
		rest := b
		for _, n := range a {
			if len(a) > len(b)/8 { // side by side
				for len(rest) > 0 && rest[0] < n {
					rest = rest[1:]
				}
			} else {
				i, _ := slices.BinarySearch(rest, n)
				rest = rest[i:]
			}
			if len(rest) == 0 || rest[0] == n && !yield(n) {
				return
			}
		}
	}
}
