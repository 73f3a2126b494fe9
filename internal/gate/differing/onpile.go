package differing

import (
	"encoding/binary"

	"hiddengate/internal/region"
)

// OnPile is what anybody may do on the pile at hand.
type OnPile struct {
	*sweep
	pile    *Pile
	beside  [][]*heldUnit // of each operation, units under lists that cover the pile
	filled  []uint32      // the operations that have some
	numbers ClassSet      // of those of one operation
	come    ClassSet      // of these, which it did not have where it was followed to
	gone    ClassSet      // which it had there, and has not
	asked   asked
	unowned asked // the same as if nobody owned it
	serial  uint64
	scratch ClassRoom // for what is worked out
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
	w.room.Free()
	t.asked, t.unowned = w.askAbout(pile), asked{pile: pile}
	for list := range w.side.Places.Traits.Lists(pile.looks[w.side.number()].at.Trait) {
		under := w.beneath[list]
		for i := range under {
			for _, o := range w.standings.opsOf(under[i].unit) {
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
		if o := pile.owner(w.side.number(), 0); o != nil {
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
	out := t.room.Empty()
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
	All    ClassSet // the classes of all bands, if their people are counted
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
		o.kept, o.since = map[string]*Bands{}, o.version
		o.room.Free()
	}
	// whoever owns it has what others have, but for what is asked of owners
	apart := len(t.asked.owners) > 0 && t.pile.may == nil && len(t.sweep.several) == 0
	about := &t.asked
	if apart {
		about = &t.unowned
	}
	told, err := t.of(operation, about)
	if err == nil && apart {
		told, err = t.owned(operation, told)
	}
	if err == nil {
		o.told, o.toldOn = told, t.pile.number+1
	}
	return told, err
}

// of tells it of a pile as conditions ask about it.
func (t *OnPile) of(operation uint32, about *asked) (*Bands, error) {
	o := &t.ops[operation]
	t.key = t.key[:0]
	for _, held := range t.beside[operation] {
		t.key = binary.LittleEndian.AppendUint32(t.key, held.number)
	}
	simple := len(t.key)
	if known := o.kept[string(t.key)]; known != nil {
		return known, nil
	}
	t.key = binary.LittleEndian.AppendUint32(append(t.key, 0), t.pile.looks[t.side.number()].facts)
	alone := len(about.owners) > 0 || t.pile.may != nil // nothing else is the same
	if known := o.kept[string(t.key)]; known != nil && !alone {
		return known, nil
	}
	t.scratch.Free()
	if t.follows(operation) {
		return t.followedTo(&o.followed, operation, about, alone)
	}
	b := bander{OnPile: t, about: about, room: &t.scratch, at: map[Cell]int{}}
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
	case len(t.sweep.several) > 0 || b.asks && alone:
		room = &t.room
	case !b.asks:
		key = key[:simple]
	}
	for i := range b.of {
		set := room.Any()
		copy(set, b.of[i].Classes)
		b.of[i].Classes = set
	}
	t.serial++
	told := &Bands{List: b.of, Serial: t.serial}
	if room == &o.room {
		o.kept[string(key)] = told
	}
	return told, nil
}
