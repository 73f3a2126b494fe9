package differing

import (
	"encoding/binary"
	"slices"

	"hiddengate/internal/gate/opset"
	"hiddengate/internal/lookup"
	"hiddengate/internal/region"
)

// standing is when units give an operation to somebody, and when they deny it. It has a number; the first is that
// nothing is said, the second that it is always denied.
type standing struct {
	given, taken []region.Region // sorted, each once; Full stands alone
	asks         bool            // of subject or resource, so that it hangs on them when it is so
	when         region.Region   // where it does not ask
	worked       bool            // when is known
}

const (
	unsaid uint32 = iota
	barred
)

// standings numbers standings as they come up.
type standings struct {
	*differ
	said   []standing
	known  map[string]uint32
	more   map[furtherUnit]uint32
	only   opset.Set        // the operations that are looked at, of those that the pair looks at; nil: all
	ops    [][]uint32       // of each unit, the operations that are looked at; nil until they are asked for
	views  lookup.Sequences // what covers come to: operations with their standings
	viewOf []uint32         // of each cover of the pair, its view and one; 0: not known
}

// furtherUnit is a standing to which a unit is added.
type furtherUnit struct {
	standing uint32
	region   region.Region
	block    bool
}

func newStandings(d *differ) *standings {
	s := &standings{differ: d, known: map[string]uint32{}, more: map[furtherUnit]uint32{},
		ops: make([][]uint32, len(d.list)), views: *lookup.NewSequences()}
	s.number(standing{})
	s.number(standing{taken: []region.Region{region.Full}})
	return s
}

func (s *standings) number(one standing) uint32 {
	key := binary.AppendUvarint(nil, uint64(len(one.given)))
	for _, r := range one.given {
		key = binary.AppendUvarint(key, uint64(r))
	}
	for _, r := range one.taken {
		key = binary.AppendUvarint(key, uint64(r))
	}
	n, ok := s.known[string(key)]
	if !ok {
		n = uint32(len(s.said))
		s.known[string(key)] = n
		side := s.sides[New]
		for _, r := range slices.Concat(one.given, one.taken) {
			one.asks = one.asks || side.Space().AsksBelow(r, side.Facts.Fixed)
		}
		s.said = append(s.said, one)
	}
	return n
}

// with adds a unit.
func (s *standings) with(n uint32, r region.Region, block bool) uint32 {
	if n == barred || r == region.Empty {
		return n
	}
	key := furtherUnit{n, r, block}
	out, ok := s.more[key]
	if !ok {
		one := standing{given: s.said[n].given, taken: s.said[n].taken}
		if block {
			one.taken = added(one.taken, r)
		} else {
			one.given = added(one.given, r)
		}
		if out = barred; !slices.Contains(one.taken, region.Full) {
			out = s.number(one)
		}
		s.more[key] = out
	}
	return out
}

// added adds a region to some. What always is leaves no others.
func added(to []region.Region, r region.Region) []region.Region {
	if r == region.Full {
		return []region.Region{r}
	}
	i, found := slices.BinarySearch(to, r)
	if found || len(to) == 1 && to[0] == region.Full {
		return to
	}
	return slices.Insert(slices.Clone(to), i, r)
}

// when is the region of a standing that does not ask.
func (s *standings) when(n uint32) (region.Region, error) {
	one := &s.said[n]
	if !one.worked {
		var err error
		if one.when, err = s.come(one.given, one.taken); err != nil {
			return region.Empty, err
		}
		one.worked = true
	}
	return one.when, nil
}

// whenKnown is the region where something is known.
func (s *standings) whenKnown(n uint32, known *region.Context) (region.Region, error) {
	fixed := func(list []region.Region) (out []region.Region) {
		for _, r := range list {
			out = append(out, s.sides[New].Space().Fix(r, known))
		}
		return out
	}
	return s.come(fixed(s.said[n].given), fixed(s.said[n].taken))
}

func (s *standings) come(given, taken []region.Region) (region.Region, error) {
	side := s.sides[New]
	r, err := side.Space().Left(given, taken, region.Full)
	if err != nil {
		return region.Empty, err
	}
	return s.fromNow(side, r)
}

// held reads the standing of each operation that a cover gives or denies, by operation.
func (s *standings) held(units []uint32) (out []opStanding) {
	at := map[uint32]int{}
	for _, u := range units {
		one := &s.list[u]
		for _, o := range s.opsOf(u) {
			i, ok := at[o]
			if !ok {
				i = len(out)
				at[o] = i
				out = append(out, opStanding{operation: o})
			}
			out[i].standing = s.with(out[i].standing, one.region, one.block)
		}
	}
	out = slices.DeleteFunc(out, func(one opStanding) bool { return one.standing == unsaid })
	slices.SortFunc(out, func(a, b opStanding) int { return int(a.operation) - int(b.operation) })
	return out
}

// opStanding is the standing of an operation.
type opStanding struct{ operation, standing uint32 }

// opsOf lists the operations of a unit that are looked at.
func (s *standings) opsOf(unit uint32) []uint32 {
	if s.ops[unit] == nil {
		d, ops := s.differ, []uint32{}
		for o := range uint32(len(d.names)) {
			if (d.wanted == nil || d.wanted[o]) && (s.only == nil || s.only.Has(o)) && d.list[unit].has(o) {
				ops = append(ops, o)
			}
		}
		s.ops[unit] = ops
	}
	return s.ops[unit]
}

// view numbers what a cover of the pair comes to for the operations that are looked at.
func (s *standings) view(cover uint32) uint32 {
	if more := int(cover) + 1 - len(s.viewOf); more > 0 {
		s.viewOf = append(s.viewOf, make([]uint32, more)...)
	}
	if s.viewOf[cover] == 0 {
		var seq []uint32
		for _, one := range s.held(s.covers.Get(cover)) {
			seq = append(seq, one.operation, one.standing)
		}
		s.viewOf[cover] = s.views.Number(seq) + 1
	}
	return s.viewOf[cover] - 1
}
