package differing

import (
	"encoding/binary"
	"maps"
	"slices"

	"hiddengate/internal/region"
)

// OnPile is what anybody may do on the pile at hand.
type OnPile struct {
	*sweep
	pile    *Pile
	beside  [][]*heldUnit // of each operation, units under lists that cover the pile
	filled  []uint32      // the operations that have some
	asked   asked
	serial  uint64
	scratch classRoom // for what is worked out
	key     []byte
	several []map[uint32]Cell // of each class that can have several sessions; nil until it is asked for
}

// asked is a pile about which conditions ask.
type asked struct {
	pile   *Pile
	owners []uint32    // the classes that own it
	kinds  []classKind // nil until they are asked for, and where there are too many
}

// onPile begins with a pile.
func (w *sweep) onPile(pile *Pile) *OnPile {
	t := &w.told
	for _, o := range t.filled {
		t.beside[o] = t.beside[o][:0]
	}
	t.pile, t.filled, t.several = pile, t.filled[:0], nil
	w.room.used = 0
	t.asked = w.askAbout(pile)
	for list := range w.sides[New].Places.Traits.Lists(pile.looks[New].at.Trait) {
		under := w.beneath[list]
		for i := range under {
			for _, o := range w.opsOf(under[i].unit) {
				if len(t.beside[o]) == 0 {
					t.filled = append(t.filled, o)
				}
				t.beside[o] = append(t.beside[o], &under[i])
			}
		}
	}
	return t
}

// askAbout begins with what conditions ask about a pile.
func (w *sweep) askAbout(pile *Pile) asked {
	a := asked{pile: pile}
	if w.Pair.owners {
		if o := pile.owner(int(New), 0); o != nil {
			a.owners = w.owning[*o]
		}
	}
	return a
}

// Where gives those of some classes for whom some context of a region can be on a pile, by its number, as far as the
// region asks about subject or resource. It stands until the next pile at hand.
func (t *OnPile) Where(pile uint32, r region.Region, classes ClassSet) (ClassSet, error) {
	about := &t.asked
	if t.pile.number != pile {
		other := t.askAbout(t.piles[pile])
		about = &other
	}
	b := bander{OnPile: t, about: about, room: &t.room, at: map[Cell]int{}}
	err := b.add(t.standings.with(unsaid, r, false), classes)
	out := t.room.empty()
	for _, band := range b.of {
		out.AddAll(band.Classes)
	}
	return out, err
}

// Bands is who may do an operation on a pile. No class is in two bands. It stands until the next pile.
type Bands struct {
	List []Band
	// Serial is the same as of other bands of the operation alone where they are the same.
	Serial uint64
}

// mostKept is how many bands of an operation are kept while rows say the same of it.
const mostKept = 16

// Of tells who may do an operation, by its place among Names, that is valid on the pile.
func (t *OnPile) Of(operation uint32) (*Bands, error) {
	o := &t.ops[operation]
	if o.toldOn == t.pile.number+1 {
		return o.told, nil
	}
	if o.since != o.version || len(o.kept) >= mostKept {
		o.kept, o.since, o.room.used = map[string]*Bands{}, o.version, 0
	}
	t.key = t.key[:0]
	for _, held := range t.beside[operation] {
		t.key = binary.LittleEndian.AppendUint32(t.key, held.number)
	}
	o.toldOn = t.pile.number + 1
	simple := len(t.key)
	if o.told = o.kept[string(t.key)]; o.told == nil {
		t.key = binary.LittleEndian.AppendUint32(append(t.key, 0), t.pile.looks[New].facts)
		if len(t.asked.owners) == 0 && t.pile.may == nil {
			o.told = o.kept[string(t.key)]
		}
	}
	if o.told != nil {
		return o.told, nil
	}
	t.serial++
	t.scratch.used = 0
	b := bander{OnPile: t, about: &t.asked, room: &t.scratch, at: map[Cell]int{}}
	for _, p := range t.parts(operation) {
		if err := b.add(p.standing, p.classes); err != nil {
			return nil, err
		}
	}
	if err := b.addSeveral(operation); err != nil {
		return nil, err
	}
	key, room := t.key, &o.room
	switch {
	case len(t.sweep.several) > 0 || b.asks && (len(t.asked.owners) > 0 || t.pile.may != nil):
		room = &t.room
	case !b.asks:
		key = key[:simple]
	}
	for i := range b.of {
		set := room.any()
		copy(set, b.of[i].Classes)
		b.of[i].Classes = set
	}
	o.told = &Bands{b.of, t.serial}
	if room == &o.room {
		o.kept[string(key)] = o.told
	}
	return o.told, nil
}

// part is classes that stand alike to an operation.
type part struct {
	standing uint32
	classes  ClassSet
	own      bool // its set may be changed
}

// parts puts together what rows say of an operation and what lists do that traits tell: first what they give, since a
// block says nothing of those to whom nothing is given.
func (t *OnPile) parts(operation uint32) []part {
	o := &t.ops[operation]
	room := &t.scratch
	var parts []part
	for _, n := range slices.Sorted(maps.Keys(o.by)) {
		parts = append(parts, part{n, o.by[n].classes, false})
	}
	said := room.empty()
	if o.all != nil {
		copy(said, o.all)
	}
	type unit struct {
		block  bool
		region region.Region
	}
	sets, order := map[unit]ClassSet{}, []unit(nil)
	for _, held := range t.beside[operation] {
		one := unit{t.list[held.unit].block, t.list[held.unit].region}
		to := sets[one]
		if to == nil {
			to = room.empty()
			sets[one] = to
			order = append(order, one)
		}
		if held.many != nil {
			to.AddAll(held.many)
		}
		for _, class := range held.few {
			to.Add(class)
		}
	}
	slices.SortFunc(order, func(a, b unit) int {
		switch {
		case a.block != b.block && b.block:
			return -1
		case a.block != b.block:
			return 1
		}
		return int(a.region) - int(b.region)
	})
	for _, one := range order {
		set := sets[one]
		into := func(n uint32, classes ClassSet) {
			i := slices.IndexFunc(parts, func(p part) bool { return p.standing == n })
			switch {
			case i < 0:
				parts = append(parts, part{n, classes, true})
				return
			case !parts[i].own:
				own := room.any()
				copy(own, parts[i].classes)
				parts[i].classes, parts[i].own = own, true
			}
			parts[i].classes.AddAll(classes)
		}
		for i := range len(parts) {
			n := t.standings.with(parts[i].standing, one.region, one.block)
			if n == parts[i].standing || !parts[i].classes.Meets(set) {
				continue
			}
			both := room.any()
			both.SetTo(parts[i].classes, set)
			if rest := parts[i].classes; parts[i].own {
				rest.DropAll(set)
			} else {
				parts[i].classes, parts[i].own = room.any(), true
				parts[i].classes.SetBut(rest, set)
			}
			into(n, both)
		}
		if fresh := room.any(); !one.block && fresh.SetBut(set, said) {
			said.AddAll(fresh)
			into(t.standings.with(unsaid, one.region, false), fresh)
		}
	}
	return parts
}

// bander puts parts together to bands.
type bander struct {
	*OnPile
	about *asked
	room  *classRoom
	of    []Band
	at    map[Cell]int
	mine  []bool // of each band, whether its set may be changed
	asks  bool   // something hangs on more than marks and lists
}

// add adds a part.
func (b *bander) add(n uint32, classes ClassSet) error {
	if !b.standings.list[n].asks {
		when, err := b.standings.when(n)
		b.whole(when, classes)
		return err
	}
	b.asks = true
	single := classes // who are looked at one by one
	if kinds := b.kinds(b.about); kinds != nil {
		for _, k := range kinds {
			set := b.room.any()
			if !set.SetTo(classes, k.classes) {
				continue
			}
			when, err := b.whenAsked(n, k.one, false)
			if err != nil {
				return err
			}
			b.whole(when, set)
		}
		single = b.room.empty()
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
func (b *bander) whole(when region.Region, classes ClassSet) {
	if when == region.Empty {
		return
	}
	cell := Cell{when, when}
	if i, ok := b.at[cell]; ok {
		b.own(i).AddAll(classes)
		return
	}
	b.begin(cell, classes, false)
}

func (b *bander) begin(cell Cell, classes ClassSet, mine bool) {
	b.at[cell] = len(b.of)
	b.of, b.mine = append(b.of, Band{classes, cell}), append(b.mine, mine)
}

// own gives the set of a band, as one that may be changed.
func (b *bander) own(i int) ClassSet {
	if !b.mine[i] {
		set := b.room.any()
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
		b.begin(cell, b.room.empty(), true)
	}
	b.own(i).Add(class)
}

// whenAsked is a standing of a class that hangs on subject or resource.
func (b *bander) whenAsked(n, class uint32, owns bool) (region.Region, error) {
	s, number := b.sides[New], b.classes[class][0].numbers[New]
	key := fixedStanding{standing: n, tags: b.tags[class], facts: b.about.pile.looks[New].facts, owns: owns}
	if b.about.pile.may != nil {
		key.may = b.about.pile.number + 1
		key.untested = b.Pair.owners && b.ownsUntested(s, number)
	}
	r, ok := b.fixed[key]
	if !ok {
		known := s.Space().NewContext()
		b.fixFor(known, about{side: int(New), subject: number, pile: b.about.pile, owns: owns})
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
			a := about{side: int(New), subject: b.classes[class][0].numbers[New], pile: b.about.pile,
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
