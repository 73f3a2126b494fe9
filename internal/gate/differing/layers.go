package differing

import (
	"slices"

	"hiddengate/internal/lookup"
	"hiddengate/internal/region"
)

// layers numbers what classes can have of an operation: the standing that their rows come to, and over it what they
// hold under lists. The first number is nothing at all.
type layers struct {
	*standings
	sorts map[unitSort]uint32
	sort  []unitSort
	known *lookup.Sequences // the standing of rows, and then sorts of units in order, each with how many there are
	means []layersMean      // of each
	next  [2]map[uint64]uint32
}

// layersMean is what layers come to.
type layersMean struct {
	standing uint32
	known    bool
	sure     bool // it lets somebody do something at some time, whoever that is and wherever
}

// unitSort is all that a unit is for the standing to an operation that it has.
type unitSort struct {
	block  bool
	region region.Region
}

// more and less say that one unit comes or goes.
const (
	more = iota
	less
)

func newLayers(s *standings) *layers {
	l := &layers{standings: s, sorts: map[unitSort]uint32{}}
	l.forget()
	return l
}

// forget forgets the numbers, but not those of sorts.
func (l *layers) forget() {
	l.known, l.means = lookup.NewSequences(), []layersMean{{standing: unsaid, known: true}}
	for i := range l.next {
		l.next[i] = map[uint64]uint32{}
	}
}

// mostLayers bounds what is remembered, in words: some tens of megabytes with what is beside them.
const mostLayers = 1 << 21

// full says that what is remembered has to be forgotten.
func (l *layers) full() bool {
	return len(l.known.Items)+len(l.next[more])+len(l.next[less]) > mostLayers
}

// sortOf numbers the sort of a unit.
func (l *layers) sortOf(unit uint32) uint32 {
	one := unitSort{l.list[unit].block, l.list[unit].region}
	n, ok := l.sorts[one]
	if !ok {
		n = uint32(len(l.sort))
		l.sorts[one], l.sort = n, append(l.sort, one)
	}
	return n
}

// onRows gives the number of what there is with a standing of rows and with some sorts.
func (l *layers) onRows(rows uint32, sorts []uint32) uint32 {
	if rows == unsaid && len(sorts) == 0 {
		return 0
	}
	n := l.known.Number(append([]uint32{rows}, sorts...))
	if more := int(n) + 1 - len(l.means); more > 0 {
		l.means = append(l.means, make([]layersMean, more)...)
	}
	return n
}

// apart gives what a number stands for.
func (l *layers) apart(n uint32) (rows uint32, sorts []uint32) {
	if seq := l.known.Get(n); len(seq) > 0 {
		return seq[0], seq[1:]
	}
	return unsaid, nil
}

// step gives what there is once there is one unit of a sort more or less.
func (l *layers) step(from, sort uint32, by int) uint32 {
	key := uint64(from)<<32 | uint64(sort)
	to, ok := l.next[by][key]
	if !ok {
		rows, sorts := l.apart(from)
		sorts = slices.Clone(sorts)
		i := 0
		for i < len(sorts) && sorts[i] < sort {
			i += 2
		}
		there := i < len(sorts) && sorts[i] == sort
		switch {
		case there && by == more:
			sorts[i+1]++
		case there && sorts[i+1] > 1:
			sorts[i+1]--
		case there:
			sorts = slices.Delete(sorts, i, i+2)
		case by == more:
			sorts = slices.Insert(sorts, i, sort, 1)
		}
		to = l.onRows(rows, sorts)
		l.next[by][key] = to
	}
	return to
}

// mean gives what a number comes to. A block says nothing of those to whom nothing is given.
func (l *layers) mean(n uint32) layersMean {
	if !l.means[n].known {
		out, sorts := l.apart(n)
		for _, block := range []bool{false, true} {
			for i := 0; i < len(sorts); i += 2 {
				if one := l.sort[sorts[i]]; one.block == block && (out != unsaid || !block) {
					out = l.with(out, one.region, block)
				}
			}
		}
		l.means[n] = layersMean{out, true, l.surely(out)}
	}
	return l.means[n]
}

// surely says whether a standing lets somebody do something at some time, whoever that is and wherever.
func (s *standings) surely(n uint32) bool {
	if s.said[n].asks {
		return false
	}
	when, err := s.when(n) // whoever puts bands together is told of the error
	return err == nil && when != region.Empty
}
