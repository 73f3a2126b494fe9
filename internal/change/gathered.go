package change

import (
	"encoding/binary"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/differing"
	"slices"
	"strings"
)

// gatherer brings differences together that say the same.
type gatherer struct {
	pair  *differing.Pair
	lent  bool
	who   []estate.Principal // of the differences that are at hand
	open  map[string]*Line   // of those subjects, by way and place
	parts map[**differing.Pile]parts
	lines map[string]*Line // by all but the subjects
	order []*Line
	key   []byte
}

// parts are those piles of a difference that are there, and those that may come, with what tells them from others.
type parts struct {
	all   int // of how many they are
	piles [2][]*differing.Pile
	keys  [2]string
}

func (g *gatherer) take(d differing.Difference) bool {
	if len(g.who) == 0 || len(d.Subjects) == 0 || &g.who[0] != &d.Subjects[0] {
		g.close()
		g.who = d.Subjects
	}
	p := g.partsOf(d.Piles)
	for i, piles := range p.piles {
		if len(piles) == 0 {
			continue
		}
		g.key = g.key[:0]
		for _, c := range []differing.Cell{d.Old, d.New} {
			g.key = binary.LittleEndian.AppendUint32(g.key, uint32(c.Sure))
			g.key = binary.LittleEndian.AppendUint32(g.key, uint32(c.Possible))
		}
		g.key = append(g.key, p.keys[i]...)
		line := g.open[string(g.key)]
		if line == nil {
			line = &Line{Way: g.way(d.Old, d.New), OnRequest: g.lent, Subjects: slices.Clip(d.Subjects), Piles: piles,
				Old: d.Old, New: d.New, pair: g.pair}
			g.open[string(g.key)] = line
		}
		line.Operations = append(line.Operations, d.Operation)
	}
	return true
}

// partsOf parts piles, once for all operations of which they are told.
func (g *gatherer) partsOf(piles []*differing.Pile) parts {
	p, ok := g.parts[&piles[0]]
	if ok && p.all == len(piles) {
		return p
	}
	p = parts{all: len(piles)}
	may := func(p *differing.Pile) bool { return p.May() != nil }
	if p.piles[0] = piles; slices.ContainsFunc(piles, may) {
		p.piles[0] = nil
		for _, pile := range piles {
			i := 0
			if may(pile) {
				i = 1
			}
			p.piles[i] = append(p.piles[i], pile)
		}
	}
	for i, some := range p.piles {
		var key []byte
		for _, pile := range some {
			key = append(append(key, pile.Key()...), 0)
		}
		p.keys[i] = string(key)
	}
	g.parts[&piles[0]] = p
	return p
}

// close brings the lines of the subjects at hand among those of others.
func (g *gatherer) close() {
	keys := make([]string, 0, len(g.open))
	for key := range g.open {
		keys = append(keys, key)
	}
	slices.Sort(keys)
	for _, key := range keys {
		line := g.open[key]
		slices.Sort(line.Operations)
		full := key + "\x01" + strings.Join(line.Operations, " ")
		if same := g.lines[full]; same != nil {
			same.Subjects = append(same.Subjects, line.Subjects...)
			continue
		}
		g.lines[full] = line
		g.order = append(g.order, line)
	}
	g.open, g.parts = map[string]*Line{}, map[**differing.Pile]parts{}
}

// finish gives the lines about what is there, and those about what may come.
func (g *gatherer) finish() (there, coming []Line) {
	g.close()
	for _, l := range g.order {
		slices.SortFunc(l.Subjects, estate.Principal.Compare)
		if l.coming() {
			coming = append(coming, *l)
		} else {
			there = append(there, *l)
		}
	}
	return sorted(there), sorted(coming)
}
