package survey

import (
	"encoding/binary"

	"hiddengate/internal/gate/placemap"
)

// gridLines numbers what the columns of a grid say of a place, one after another; places that say the same share a
// line. The first says nothing at all.
type gridLines struct {
	list   [][]mask
	known  map[string]uint32
	joined map[[2]uint32]uint32
	cells  map[uint32][]Reached
}

func newGridLines(columns int) *gridLines {
	l := &gridLines{known: map[string]uint32{}, joined: map[[2]uint32]uint32{}, cells: map[uint32][]Reached{}}
	l.number(make([]mask, columns))
	return l
}

func (l *gridLines) number(line []mask) uint32 {
	key := make([]byte, 0, 4*len(line))
	for _, m := range line {
		key = binary.LittleEndian.AppendUint32(key, uint32(m))
	}
	n, ok := l.known[string(key)]
	if !ok {
		n = uint32(len(l.list))
		l.known[string(key)] = n
		l.list = append(l.list, line)
	}
	return n
}

// join gives the line of two places together.
func (l *gridLines) join(a, b uint32) uint32 {
	if a == b || b == 0 {
		return a
	}
	key := [2]uint32{min(a, b), max(a, b)}
	n, ok := l.joined[key]
	if !ok {
		both := make([]mask, len(l.list[a]))
		for c := range both {
			both[c] = l.list[a][c] | l.list[b][c]
		}
		n = l.number(both)
		l.joined[key] = n
	}
	return n
}

// reached reads a line, which must not be changed.
func (l *gridLines) reached(n uint32) []Reached {
	out, ok := l.cells[n]
	if !ok {
		out = make([]Reached, len(l.list[n]))
		for c, m := range l.list[n] {
			out[c] = m.reached()
		}
		l.cells[n] = out
	}
	return out
}

// gridPlaces is the rows of a grid in sorts: nothing tells those of one sort apart, in any variant.
type gridPlaces struct {
	of    []uint32 // of each row that is looked at, its sort
	first []int    // of each sort, the first row of the tree
}

// places puts the rows that are looked at together.
func (g *Grid) places() (out gridPlaces) {
	type sort struct {
		spots       [3]placemap.Spot
		tags, owner uint32
	}
	tree, facts := g.estate.Tree, &g.gates[asTheyAre].Facts
	tags := facts.Numbers(tree.Tags, map[string]uint32{})
	known := map[sort]uint32{}
	var last sort
	var n uint32
	for i, row := range g.rows {
		var key sort
		for k, compiled := range g.gates {
			if compiled != nil {
				key.spots[k] = compiled.Places.Spots[row]
			}
		}
		if facts.Fixed > 1 {
			key.tags = tags[tree.Rows[row].Tags]
		}
		if facts.Owner {
			key.owner = tree.Rows[row].Owner
		}
		if i == 0 || key != last {
			var ok bool
			if n, ok = known[key]; !ok {
				n = uint32(len(out.first))
				known[key] = n
				out.first = append(out.first, row)
			}
			last = key
		}
		out.of = append(out.of, n)
	}
	return out
}
