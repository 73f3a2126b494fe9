package placemap

import (
	"cmp"
	"encoding/binary"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/lookup"
)

// Automaton tells, one segment of a path after another, which patterns cover an address of one system and which
// match it to the end: a set of places within patterns is a state, and a state that has been met before is taken up
// again (subset construction as the input asks for it; M. O. Rabin and D. Scott, "Finite Automata and Their Decision
// Problems", 1959). Its sets are numbered for all systems alike.
type Automaton struct {
	Patterns []onePattern
	States   []state
	numbers  map[string]uint32
	sets     *lookup.Sequences
	buffer   []byte
}

type onePattern struct {
	number   uint32 // among all patterns
	Segments []string
}

// position is a place before a segment of a pattern.
type position struct{ Pattern, At uint32 }

type state struct {
	Positions []position
	covered   []uint32 // the numbers of patterns that have matched here or above, sorted
	set       uint32   // the sequence of those, and 1<<31 more of each that matches right here
	always    []uint32 // positions at segments that any text matches, by their places
	literal   map[string][]int
	prefix    map[string][]int // positions at segments with a *, by what stands before it
	lengths   []int            // of those
	next      map[string]uint32
	after     uint32 // the state once no position is left, 0 until it is known
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
	var first []position
	for i := range a.Patterns {
		first = append(first, position{uint32(i), 0})
	}
	a.enter(first, nil)
}

// Root is the state at the system itself.
func (a *Automaton) Root() uint32 { return 1 }

// enter gives the number of the state at these positions and those that ** leads on to, below what is covered.
func (a *Automaton) enter(at []position, covered []uint32) uint32 {
	var set []uint32
	covered = slices.Clone(covered)
	var open []position
	for i := 0; i < len(at); i++ {
		p := at[i]
		pattern := a.Patterns[p.Pattern]
		if int(p.At) == len(pattern.Segments) {
			set = append(set, pattern.number|here)
			covered = append(covered, pattern.number)
			continue
		}
		open = append(open, p)
		if pattern.Segments[p.At] == "**" {
			at = append(at, position{p.Pattern, p.At + 1})
		}
	}
	slices.Sort(covered)
	covered = slices.Compact(covered)
	slices.SortFunc(open,
		func(a, b position) int {
			return cmp.Or(cmp.Compare(a.Pattern, b.Pattern), cmp.Compare(a.At, b.At))
		})
	open = slices.Compact(open)
	slices.Sort(set)
	set = append(slices.Clone(covered), slices.Compact(set)...)
	number := a.sets.Number(set)
	key := binary.LittleEndian.AppendUint32(nil, number)
	for _, p := range open {
		key = binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(key, p.Pattern), p.At)
	}
	if n, ok := a.numbers[string(key)]; ok {
		return n
	}
	s := state{Positions: open, covered: covered, set: number, literal: map[string][]int{}, prefix: map[string][]int{},
		next: map[string]uint32{}}
	for i, p := range open {
		segment := a.Patterns[p.Pattern].Segments[p.At]
		if segment == "**" || segment == "*" {
			s.always = append(s.always, uint32(i))
		} else if star := strings.IndexByte(segment, '*'); star >= 0 {
			s.prefix[segment[:star]] = append(s.prefix[segment[:star]], i)
			s.lengths = append(s.lengths, star)
		} else {
			s.literal[segment] = append(s.literal[segment], i)
		}
	}
	slices.Sort(s.lengths)
	s.lengths = slices.Compact(s.lengths)
	n := uint32(len(a.States))
	a.States = append(a.States, s)
	a.numbers[string(key)] = n
	return n
}

// Step goes on by one segment.
func (a *Automaton) Step(from uint32, segment string) uint32 {
	s := &a.States[from]
	if len(s.Positions) == 0 {
		if s.after == 0 {
			after := a.enter(nil, s.covered)
			s = &a.States[from] // the states may have moved
			s.after = after
		}
		return s.after
	}
	key := a.buffer[:0]
	for _, i := range s.literal[segment] {
		key = binary.LittleEndian.AppendUint32(key, uint32(i))
	}
	for _, n := range s.lengths {
		if n > len(segment) {
			break
		}
		for _, i := range s.prefix[segment[:n]] {
			p := s.Positions[i]
			if estate.Glob(a.Patterns[p.Pattern].Segments[p.At][n:], segment[n:]) {
				key = binary.LittleEndian.AppendUint32(key, uint32(i))
			}
		}
	}
	a.buffer = key
	if n, ok := s.next[string(key)]; ok {
		return n
	}
	var to []position
	at := slices.Clone(s.always)
	for k := 0; k < len(key); k += 4 {
		at = append(at, binary.LittleEndian.Uint32(key[k:]))
	}
	for _, i := range at {
		p := s.Positions[i]
		if a.Patterns[p.Pattern].Segments[p.At] == "**" {
			to = append(to, p)
		} else {
			to = append(to, position{p.Pattern, p.At + 1})
		}
	}
	name := string(key)
	n := a.enter(to, s.covered)
	a.States[from].next[name] = n
	return n
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
	return a.CoveredByAny(state, patterns) || slices.ContainsFunc(a.States[state].Positions, func(p position) bool {
		_, found := slices.BinarySearch(patterns, int(a.Patterns[p.Pattern].number))
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
