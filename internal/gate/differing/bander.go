package differing

import (
	"slices"

	"hiddengate/internal/region"
)

// bander puts parts together to bands.
type bander struct {
	*OnPile
	about *asked
	room  *ClassRoom
	of    []Band
	at    map[Cell]int
	mine  []bool   // of each band, whether its set may be changed
	asks  bool     // something hangs on more than marks and lists
	all   ClassSet // of all bands, where people are counted
}

// add adds a part.
func (b *bander) add(n uint32, classes ClassSet) error {
	if !b.said[n].asks {
		when, err := b.standings.when(n)
		b.whole(when, classes, 0)
		return err
	}
	return b.addAsked(n, classes, 0)
}

// addAsked adds a part that hangs on subject or resource, with so many people.
func (b *bander) addAsked(n uint32, classes ClassSet, people int) error {
	b.asks = true
	single := classes // who are looked at one by one
	if kinds := b.kinds(b.about); kinds != nil {
		all := len(kinds) == 1 && len(b.about.owners) == 0
		for _, k := range kinds {
			set, number := classes, people
			if !all {
				if set = b.room.Any(); !set.SetTo(classes, k.classes) {
					continue
				}
			}
			when, err := b.whenAsked(n, k.one, false)
			if err != nil {
				return err
			}
			if b.all != nil && when != region.Empty {
				if b.all.AddAll(set); !all {
					number = b.weights.Sum(set)
				}
			}
			b.whole(when, set, number)
		}
		single = b.room.Empty()
		for _, class := range b.about.owners {
			if classes.Has(class) {
				single.Add(class)
			}
		}
	}
	for class := range single.All() {
		when, err := b.whenAsked(n, class, slices.Contains(b.about.owners, class))
		if err != nil {
			return err
		}
		b.one(Cell{when, when}, class)
	}
	return nil
}

// whole adds classes to whom the same applies.
func (b *bander) whole(when region.Region, classes ClassSet, people int) {
	if when == region.Empty {
		return
	}
	cell := Cell{when, when}
	if i, ok := b.at[cell]; ok {
		b.own(i).AddAll(classes)
		b.of[i].People += people
		return
	}
	b.begin(cell, classes, people, false)
}

func (b *bander) begin(cell Cell, classes ClassSet, people int, mine bool) {
	b.at[cell] = len(b.of)
	b.of, b.mine = append(b.of, Band{classes, cell, people}), append(b.mine, mine)
}

// own gives the set of a band, as one that may be changed.
func (b *bander) own(i int) ClassSet {
	if !b.mine[i] {
		set := b.room.Any()
		copy(set, b.of[i].Classes)
		b.of[i].Classes, b.mine[i] = set, true
	}
	return b.of[i].Classes
}

// one adds a class.
func (b *bander) one(cell Cell, class uint32) {
	if cell.Possible == region.Empty {
		return
	}
	i, ok := b.at[cell]
	if !ok {
		i = len(b.of)
		b.begin(cell, b.room.Empty(), 0, true)
	}
	b.own(i).Add(class)
	if b.all != nil {
		b.all.Add(class)
		b.of[i].People += b.people[class]
	}
}

// whenAsked is a standing of a class that hangs on subject or resource.
func (b *bander) whenAsked(n, class uint32, owns bool) (region.Region, error) {
	s, k := b.side, b.side.number()
	number := b.classes[class][0].numbers[k]
	key := fixedStanding{standing: n, tags: b.tags[class], facts: b.about.pile.looks[k].facts, owns: owns}
	if b.about.pile.may != nil {
		key.may = b.about.pile.number + 1
		key.untested = b.Pair.owners && b.ownsUntested(s, number)
	}
	r, ok := b.fixed[key]
	if !ok {
		known := s.Space().NewContext()
		b.fixFor(known, about{side: k, subject: number, pile: b.about.pile, owns: owns})
		var err error
		if r, err = b.standings.whenKnown(n, known); err != nil {
			return region.Empty, err
		}
		if len(b.fixed) >= mostFixed {
			clear(b.fixed)
		}
		b.fixed[key] = r
	}
	return r, nil
}

// mostFixed bounds what is remembered of them: some tens of megabytes.
const mostFixed = 1 << 20

// addSeveral adds those who can have several sessions.
func (b *bander) addSeveral(operation uint32) error {
	if b.OnPile.several == nil {
		for _, class := range b.sweep.several {
			k := b.side.number()
			a := about{side: k, subject: b.classes[class][0].numbers[k], pile: b.about.pile,
				owns: slices.Contains(b.about.owners, class)}
			c, err := b.sessions(a)
			if err != nil {
				return err
			}
			cells := map[uint32]Cell{}
			for i, o := range c.operations {
				cells[o] = c.when[i]
			}
			b.OnPile.several = append(b.OnPile.several, cells)
		}
	}
	for i, class := range b.sweep.several {
		if cell, ok := b.OnPile.several[i][operation]; ok {
			b.one(cell, class)
		}
	}
	return nil
}
