package newplace

import (
	"iter"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/placemap"
)

// part is which addresses are meant among all that can be made up. The zero value means all of them.
type part struct {
	some    bool             // not all are
	numbers []int            // the numbers of the patterns of which one must cover an address, in order
	wanted  []estate.Pattern // those patterns
	outside bool             // but those that none of them covers
}

// partOf means the addresses that some terms can cover, or all others. The patterns are those of which the addresses
// are made up.
func partOf(terms []estate.ResourceTerm, patterns []estate.Pattern, outside bool) part {
	p := part{some: true, outside: outside}
	names := map[string]bool{}
	for _, t := range terms {
		if t.In == nil {
			return part{some: outside} // they can cover any
		}
		names[t.In.String()] = true
	}
	for i, pattern := range patterns {
		if names[pattern.String()] {
			p.numbers, p.wanted = append(p.numbers, i), append(p.wanted, pattern)
		}
	}
	return p
}

// meant says whether an address of a state is.
func (p *part) meant(a *placemap.Automaton, state uint32) bool {
	if !p.some {
		return true
	}
	return a.CoveredByAny(state, p.numbers) != p.outside
}

// leads says whether an address is meant of a state or of one further on.
func (p *part) leads(a *placemap.Automaton, state uint32) bool {
	return !p.some || p.outside || a.LeadsToAny(state, p.numbers)
}

// rows gives the listed resources below which something that is meant can be, in tree order, and what they stand in.
func (p *part) rows(e *estate.Estate) iter.Seq[int] {
	in := make([]bool, e.Tree.Len())
	take := func(from, to int) {
		for i := from; i < to; i++ {
			in[i] = true
		}
	}
	if !p.some || p.outside {
		take(0, len(in))
	}
	for _, w := range p.wanted {
		top, ok := w.Top()
		if !ok {
			take(0, len(in))
			break
		}
		address := e.Canonical(top)
		row := e.Tree.Find(address.String())
		if row >= 0 {
			take(row, e.Tree.End(row))
		}
		for ok := true; row < 0 && ok; {
			if address, ok = address.Parent(); ok {
				row = e.Tree.Find(address.String())
			}
		}
		for ; row >= 0; row = int(e.Tree.Rows[row].Parent) - 1 {
			in[row] = true
		}
	}
	return func(yield func(int) bool) {
		for i, is := range in {
			if is && !yield(i) {
				return
			}
		}
	}
}
