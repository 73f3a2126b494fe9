package newplace

import (
	"encoding/binary"
	"slices"
	"strings"

	"hiddengate/internal/gate/placemap"
)

// machine is an automaton with the names that lead on from its states.
type machine struct {
	*placemap.Automaton
	known  map[uint32][]string // by state
	alike  map[uint32][]string // by what is open at states
	sparse bool                // some names were not looked for
}

func newMachine(a *placemap.Automaton) *machine {
	return &machine{Automaton: a, known: map[uint32][]string{}, alike: map[uint32][]string{}}
}

// segments makes up names that lead from a state to every state that some name leads to: those that patterns spell out,
// and the shortest for each set of wildcards that can match together.
func (m *machine) segments(state uint32) []string {
	if names, ok := m.known[state]; ok {
		return names
	}
	open, segments := m.Open(state)
	names, ok := m.alike[open]
	if !ok {
		var globs, spelt []string
		for segment := range segments {
			switch {
			case segment == "**" || segment == "*":
			case strings.Contains(segment, "*"):
				globs = append(globs, segment)
			default:
				spelt = append(spelt, segment)
			}
		}
		slices.Sort(globs)
		slices.Sort(spelt)
		spelt = slices.Compact(spelt)
		more, whole := forms(slices.Compact(globs), spelt)
		m.sparse = m.sparse || !whole
		names = append(slices.Clip(spelt), more...)
		m.alike[open] = names
	}
	m.known[state] = names
	return names
}

// maxForms bounds how many ways of a name are looked at, and maxSteps how many positions in globs on the way; patterns
// that differ in more are beyond what anybody writes.
const (
	maxForms = 1 << 14
	maxSteps = 1 << 22
)

// spot is a position in a glob.
type spot struct{ glob, at int }

// forms gives the shortest text for each set of globs that some text matches, and no others; none of the texts is one
// of those taken, which are sorted. It goes through the product of the globs' automata, breadth first, and keeps of it
// the positions alone from which something can still match. It is not whole where there are too many.
func forms(globs, taken []string) (out []string, whole bool) {
	p := product{globs: globs}
	symbols := append([]string{"new"}, symbolsOf(globs)...)
	isTaken := func(text string) bool {
		_, found := slices.BinarySearch(taken, text)
		return found
	}
	type form struct {
		text string
		at   []spot
	}
	var start []spot
	for i := range globs {
		start = p.open(start, spot{i, 0})
	}
	seen, told := map[string]bool{spotsName(start): true}, map[string]bool{}
	for queue := []form{{"", start}}; len(queue) > 0; queue = queue[1:] {
		if len(seen) >= maxForms || p.steps > maxSteps {
			return out, false
		}
		f := queue[0]
		for _, symbol := range symbols {
			next := p.after(f.at, symbol)
			text := f.text + symbol
			if matched := p.accepted(next); !told[matched] && !isTaken(text) && sound("a:"+text) {
				told[matched] = true
				found := text
				// frame-new is easier to read than frame-
				if more := text + "new"; text != "new" && p.accepted(p.after(next, "new")) == matched && !isTaken(more) {
					found = more
				}
				out = append(out, found)
			}
			if key := spotsName(next); !seen[key] {
				seen[key] = true
				queue = append(queue, form{text, next})
			}
		}
	}
	return out, true
}

// symbolsOf lists the characters that occur in globs, percent-escapes as one, and one that does not.
func symbolsOf(globs []string) []string {
	var out []string
	all := strings.ReplaceAll(strings.Join(globs, ""), "*", "")
	for rest := all; rest != ""; {
		size := len(string([]rune(rest)[:1]))
		if rest[0] == '%' && len(rest) >= 3 {
			size = 3
		}
		out = append(out, rest[:size])
		rest = rest[size:]
	}
	for fresh := 'α'; ; fresh++ {
		if !strings.ContainsRune(all, fresh) {
			out = append(out, string(fresh))
			break
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// product goes through several globs at once.
type product struct {
	globs []string
	steps int // how many positions have been looked at
}

// open adds a position in a glob, and those behind the stars at it.
func (p *product) open(to []spot, at spot) []spot {
	glob := p.globs[at.glob]
	for {
		if len(to) == 0 || to[len(to)-1] != at {
			to = append(to, at)
		}
		if at.at >= len(glob) || glob[at.at] != '*' {
			return to
		}
		at.at++
	}
}

// after gives the positions behind a text.
func (p *product) after(at []spot, text string) []spot {
	for _, b := range []byte(text) {
		p.steps += len(at) + 1
		var next []spot
		for _, s := range at {
			glob := p.globs[s.glob]
			switch {
			case s.at < len(glob) && glob[s.at] == '*':
				next = p.open(next, s)
			case s.at < len(glob) && glob[s.at] == b:
				next = p.open(next, spot{s.glob, s.at + 1})
			}
		}
		slices.SortFunc(next, func(a, b spot) int {
			if a.glob != b.glob {
				return a.glob - b.glob
			}
			return a.at - b.at
		})
		at = slices.Compact(next)
	}
	return at
}

// accepted tells which of the globs match.
func (p *product) accepted(at []spot) string {
	var out []byte
	for _, s := range at {
		if s.at == len(p.globs[s.glob]) {
			out = binary.AppendUvarint(out, uint64(s.glob))
		}
	}
	return string(out)
}

// spotsName is positions as a key.
func spotsName(at []spot) string {
	out := make([]byte, 0, 4*len(at))
	for _, s := range at {
		out = binary.AppendUvarint(binary.AppendUvarint(out, uint64(s.glob)), uint64(s.at))
	}
	return string(out)
}
