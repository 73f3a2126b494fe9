package placemap

import (
	"cmp"
	"encoding/binary"
	"iter"
	"math"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/lookup"
)

// Automaton tells, one segment of a path after another, which patterns cover an address of one system and which
// match it to the end: a set of places within patterns is a state, and a state that has been met before is taken up
// again (subset construction as the input asks for it; M. O. Rabin and D. Scott, "Finite Automata and Their Decision
// Problems", 1959). What stays open for good, at `**` and right behind it, states have in common. Its sets are numbered
// for all systems alike.
type Automaton struct {
	Patterns []onePattern
	States   []state
	numbers  map[string]uint32 // of states, by what they are
	loops    []loop
	looped   map[string]uint32 // of loops, by their positions
	opened   map[string]uint32 // of what is open, by loop and positions
	sets     *lookup.Sequences
	buffer   []byte
	leading  leading
}

type onePattern struct {
	number   uint32 // among all patterns
	Segments []string
}

// position is a place before a segment of a pattern.
type position struct{ pattern, at uint32 }

// loop is a set of positions at `**`. They stay open whatever comes, and so do those right behind them.
type loop struct {
	at     []position // in order
	behind table
	ends   []uint32 // the numbers of the patterns that end there
}

// table finds positions by the segments that lead on from them.
type table struct {
	positions []position           // in order
	always    []uint32             // of those, which any segment leads on from
	literal   map[string][]int     // which one segment does
	prefix    map[string][]globbed // which stand at segments with a *, by what is before it
	lengths   []int                // of those
}

// globbed is positions that stand at the same segment.
type globbed struct {
	rest string // of the segment, from its first * on
	at   []int
}

type state struct {
	loop    uint32
	own     table    // what is open beside the loop
	open    uint32   // the same for states with the same open
	covered []uint32 // the numbers of patterns that have matched here or above, sorted
	set     uint32   // the sequence of those, and 1<<31 more of each that matches right here
	next    map[string]uint32
}

// maxStates bounds what an automaton keeps before it begins anew.
const maxStates = 1 << 16

// here marks a pattern that matches the address itself.
const here = 1 << 31

// NewAutomaton makes the automaton of some patterns for a system; fold says that its addresses ignore case.
func NewAutomaton(system *estate.System, fold bool, patterns []estate.Pattern, sets *lookup.Sequences) *Automaton {
	a := &Automaton{sets: sets}
	for i, p := range patterns {
		if estate.Glob(p.System, system.ID) {
			a.Patterns = append(a.Patterns, onePattern{uint32(i), p.Path(fold)})
		}
	}
	a.reset()
	return a
}

func (a *Automaton) reset() {
	a.States, a.numbers = []state{{}}, map[string]uint32{} // state 0 is none
	a.loops, a.looped, a.opened = []loop{{}}, map[string]uint32{"": 0}, map[string]uint32{}
	a.leading = leading{}
	var first []position
	for i := range a.Patterns {
		first = append(first, position{uint32(i), 0})
	}
	a.enter(first, 0, nil)
}

// Root is the state at the system itself.
func (a *Automaton) Root() uint32 { return 1 }

// enter gives the number of the state at these positions beside a loop, and those that `**` leads on to, below what is
// covered.
func (a *Automaton) enter(at []position, loop uint32, covered []uint32) uint32 {
	loops, own, ends := a.behind(at)
	if len(loops) > 0 {
		loop = a.loopOf(sortedUnion(a.loops[loop].at, loops))
	}
	l := &a.loops[loop]
	own = slices.DeleteFunc(own, func(p position) bool {
		_, open := slices.BinarySearchFunc(l.behind.positions, p, position.compare)
		return open
	})
	ends = slices.Concat(ends, l.ends)
	slices.Sort(ends)
	ends = slices.Compact(ends)
	set := make([]uint32, 0, len(covered)+2*len(ends))
	set = append(append(set, covered...), ends...)
	slices.Sort(set)
	if set = slices.Compact(set); len(set) > len(covered) {
		covered = slices.Clone(set)
	}
	for _, n := range ends {
		set = append(set, n|here)
	}
	number := a.sets.Number(set)
	open := keyOf(binary.LittleEndian.AppendUint32(nil, loop), own)
	key := string(binary.LittleEndian.AppendUint32(open, number))
	if n, ok := a.numbers[key]; ok {
		return n
	}
	n := uint32(len(a.States))
	a.States = append(a.States, state{loop: loop, own: a.tableOf(own), open: numberIn(a.opened, string(open)),
		covered: covered, set: number, next: map[string]uint32{}})
	a.numbers[key] = n
	return n
}

// behind parts positions, with all that `**` leads on to: those at `**`, all others, and the patterns that end there.
// They come in order.
func (a *Automaton) behind(at []position) (loops, others []position, ends []uint32) {
	for _, p := range at {
		for pattern := a.Patterns[p.pattern]; ; p.at++ {
			if int(p.at) == len(pattern.Segments) {
				ends = append(ends, pattern.number)
				break
			}
			if pattern.Segments[p.at] != "**" {
				others = append(others, p)
				break
			}
			loops = append(loops, p)
		}
	}
	slices.SortFunc(loops, position.compare)
	slices.SortFunc(others, position.compare)
	return slices.Compact(loops), slices.Compact(others), ends
}

func (p position) compare(other position) int {
	return cmp.Or(cmp.Compare(p.pattern, other.pattern), cmp.Compare(p.at, other.at))
}

// sortedUnion gives what is in either of two lists, in order.
func sortedUnion(one, other []position) []position {
	all := slices.Concat(one, other)
	slices.SortFunc(all, position.compare)
	return slices.Compact(all)
}

// keyOf adds positions to a key.
func keyOf(key []byte, at []position) []byte {
	for _, p := range at {
		key = binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(key, p.pattern), p.at)
	}
	return key
}

// numberIn gives a name its number.
func numberIn(numbers map[string]uint32, name string) uint32 {
	n, ok := numbers[name]
	if !ok {
		n = uint32(len(numbers))
		numbers[name] = n
	}
	return n
}

// loopOf gives the number of the loop of some positions at `**`.
func (a *Automaton) loopOf(at []position) uint32 {
	n := numberIn(a.looped, string(keyOf(nil, at)))
	if int(n) == len(a.loops) {
		following := make([]position, len(at))
		for i, p := range at {
			following[i] = position{p.pattern, p.at + 1}
		}
		_, others, ends := a.behind(following)
		a.loops = append(a.loops, loop{at, a.tableOf(others), ends})
	}
	return n
}

func (a *Automaton) tableOf(at []position) table {
	t := table{positions: at}
	known := map[string]int{}
	for i, p := range at {
		segment := a.Patterns[p.pattern].Segments[p.at]
		star := strings.IndexByte(segment, '*')
		switch {
		case segment == "*":
			t.always = append(t.always, uint32(i))
		case len(at) <= fewPositions: // each is looked at
		case star < 0:
			t.literal = entered(t.literal, segment, i)
		default:
			t.enter(known, segment, star, i)
		}
	}
	slices.Sort(t.lengths)
	t.lengths = slices.Compact(t.lengths)
	return t
}

// enter enters a position at a segment with a *; known gives where others are that stand at the same segment.
func (t *table) enter(known map[string]int, segment string, star, i int) {
	if t.prefix == nil {
		t.prefix = map[string][]globbed{}
	}
	of := t.prefix[segment[:star]]
	n, ok := known[segment]
	if !ok {
		n = len(of)
		known[segment] = n
		of = append(of, globbed{rest: segment[star:]})
		t.prefix[segment[:star]] = of
		t.lengths = append(t.lengths, star)
	}
	of[n].at = append(of[n].at, i)
}

// fewPositions are looked at one by one.
const fewPositions = 4

func entered(in map[string][]int, name string, i int) map[string][]int {
	if in == nil {
		in = map[string][]int{}
	}
	in[name] = append(in[name], i)
	return in
}

// matching adds which positions of a table a segment leads on from, but for those that any does, to a key.
func (a *Automaton) matching(key []byte, t *table, segment string) []byte {
	if len(t.positions) <= fewPositions {
		for i, p := range t.positions {
			if glob := a.Patterns[p.pattern].Segments[p.at]; glob != "*" && estate.Glob(glob, segment) {
				key = binary.LittleEndian.AppendUint32(key, uint32(i))
			}
		}
		return key
	}
	for _, i := range t.literal[segment] {
		key = binary.LittleEndian.AppendUint32(key, uint32(i))
	}
	for _, n := range t.lengths {
		if n > len(segment) {
			break
		}
		for _, one := range t.prefix[segment[:n]] {
			if estate.Glob(one.rest, segment[n:]) {
				for _, i := range one.at {
					key = binary.LittleEndian.AppendUint32(key, uint32(i))
				}
			}
		}
	}
	return key
}

// Step goes on by one segment.
func (a *Automaton) Step(from uint32, segment string) uint32 {
	s := &a.States[from]
	l := &a.loops[s.loop]
	key := a.matching(a.buffer[:0], &l.behind, segment)
	split := len(key)
	key = binary.LittleEndian.AppendUint32(key, math.MaxUint32) // no position
	key = a.matching(key, &s.own, segment)
	a.buffer = key
	if n, ok := s.next[string(key)]; ok {
		return n
	}
	var to []position
	on := func(t *table, matched []byte) {
		for _, i := range t.always {
			to = append(to, position{t.positions[i].pattern, t.positions[i].at + 1})
		}
		for ; len(matched) > 0; matched = matched[4:] {
			p := t.positions[binary.LittleEndian.Uint32(matched)]
			to = append(to, position{p.pattern, p.at + 1})
		}
	}
	on(&l.behind, key[:split])
	on(&s.own, key[split+4:])
	name := string(key)
	n := a.enter(to, s.loop, s.covered)
	a.States[from].next[name] = n // the states may have moved
	return n
}

// Open gives a number that is the same for states from which the same segments lead on, and those segments, as patterns
// have them. Some of them may come twice.
func (a *Automaton) Open(state uint32) (number uint32, segments iter.Seq[string]) {
	s := &a.States[state]
	return s.open, func(yield func(string) bool) {
		for _, at := range [][]position{a.loops[s.loop].at, a.loops[s.loop].behind.positions, s.own.positions} {
			for _, p := range at {
				if !yield(a.Patterns[p.pattern].Segments[p.at]) {
					return
				}
			}
		}
	}
}

// CoveredByAny says whether any of some patterns covers the addresses of a state. The patterns are given by number, in
// order.
func (a *Automaton) CoveredByAny(state uint32, patterns []int) bool {
	return slices.ContainsFunc(a.States[state].covered, func(n uint32) bool {
		_, found := slices.BinarySearch(patterns, int(n))
		return found
	})
}

// LeadsToAny says whether any of some patterns, by number and in order, covers the addresses of a state, or such as are
// further down.
func (a *Automaton) LeadsToAny(state uint32, patterns []int) bool {
	if len(patterns) == 0 {
		return false
	}
	if a.leading.patterns != &patterns[0] || a.leading.count != len(patterns) {
		a.leading = leading{&patterns[0], len(patterns), map[uint32]bool{}}
	}
	s := &a.States[state]
	leads, known := a.leading.loops[s.loop]
	if !known {
		leads = a.openAmong(a.loops[s.loop].at, patterns)
		a.leading.loops[s.loop] = leads
	}
	return leads || a.CoveredByAny(state, patterns) || a.openAmong(s.own.positions, patterns)
}

// leading is which loops lead to any of some patterns, which are the last that somebody asked for.
type leading struct {
	patterns *int
	count    int
	loops    map[uint32]bool
}

func (a *Automaton) openAmong(at []position, patterns []int) bool {
	return slices.ContainsFunc(at, func(p position) bool {
		_, found := slices.BinarySearch(patterns, int(a.Patterns[p.pattern].number))
		return found
	})
}

// Covered gives the numbers of the patterns that cover the addresses of a state, in order.
func (a *Automaton) Covered(state uint32) []uint32 { return a.States[state].covered }

// walk gives the set of an address's patterns; rest is its path.
func (a *Automaton) walk(rest string) uint32 {
	if len(a.States) > maxStates {
		a.reset()
	}
	s := a.Root()
	for rest != "" {
		segment := rest
		if i := strings.IndexByte(rest, '/'); i >= 0 {
			segment, rest = rest[:i], rest[i+1:]
		} else {
			rest = ""
		}
		s = a.Step(s, segment)
	}
	return a.States[s].set
}
