package differing

import "slices"

// owned tells who may do an operation on the pile at hand by who could if nobody owned it.
func (t *OnPile) owned(operation uint32, others *Bands) (*Bands, error) {
	b := bander{OnPile: t, about: &t.asked, room: &t.room, at: map[Cell]int{}}
	for _, class := range t.asked.owners {
		n := t.standingOf(operation, class)
		if !t.said[n].asks {
			continue
		}
		is, err := b.whenAsked(n, class, true)
		if err != nil {
			return nil, err
		}
		was, err := b.whenAsked(n, class, false)
		if err != nil {
			return nil, err
		}
		if is == was {
			continue
		}
		if b.of == nil {
			b.of, b.mine = slices.Clone(others.List), make([]bool, len(others.List))
			for i, band := range b.of {
				b.at[band.Cell] = i
			}
		}
		if i, ok := b.at[Cell{was, was}]; ok {
			b.own(i).Drop(class)
		}
		b.one(Cell{is, is}, class)
	}
	if b.of == nil {
		return others, nil
	}
	b.of = slices.DeleteFunc(b.of, func(band Band) bool { return band.Classes.Len() == 0 })
	t.serial++
	return &Bands{List: b.of, Serial: t.serial}, nil
}

// standingOf gives how a class stands to an operation on the pile at hand.
func (t *OnPile) standingOf(operation, class uint32) uint32 {
	n := unsaid
	for standing, held := range t.ops[operation].by {
		if held.classes.Has(class) {
			n = standing
			break
		}
	}
	for _, block := range []bool{false, true} { // a block says nothing to whom nothing is given
		for _, held := range t.beside[operation] {
			if unit := &t.list[held.unit]; unit.block == block && held.has(class) && (n != unsaid || !block) {
				n = t.standings.with(n, unit.region, block)
			}
		}
	}
	return n
}

// has says whether a class has the unit.
func (u *heldUnit) has(class uint32) bool {
	if u.many != nil {
		return u.many.Has(class)
	}
	_, found := slices.BinarySearch(u.few, class)
	return found
}
