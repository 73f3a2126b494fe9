package differing

import (
	"maps"
	"slices"
)

// Follow says whether who may do an operation is followed from one pile to the next, class by class, or is put together
// for each pile from sets of classes. It comes to the same.
type Follow int

// The ways.
const (
	WherePays Follow = iota // by what each takes
	Always
	Never
)

// followed is who stands how to an operation on the pile to which it was followed last: what rows say, and over it what
// is held under lists that cover the pile.
type followed struct {
	on     bool
	has    []uint32                 // of each class, the number of its layers
	by     map[uint32]*standingHeld // by standing
	last   [2]standsAs              // of these, for whom was asked last
	held   ClassSet                 // the units that are held, by number
	sure   ClassSet                 // the classes that may it surely at some time
	turned []uint32                 // the classes of which rows say something else since
	serial uint64                   // of what it came to
	facts  uint32                   // and of what the pile says that is asked there, and one; 0: nothing is; or ownFacts

	version uint64 // of the rows when the pile was last looked at
	bySets  int    // what it takes to put it together from sets, in words
	waste   int    // what that has taken more than following would have
}

// standsAs is those who stand in some way.
type standsAs struct {
	standing uint32
	held     *standingHeld
}

// ownFacts says that it holds for no other pile.
const ownFacts = ^uint32(0)

// turnTakes is about what it takes to give a class another standing, in words of sets.
const turnTakes = 128

// mostFollowed is how many operations are followed at once where it pays: about a megabyte each.
const mostFollowed = 64

// follows follows an operation to the pile at hand, and says whether it did: where that takes less than putting it
// together.
func (t *OnPile) follows(operation uint32) bool {
	o := &t.ops[operation]
	f := &o.followed
	if t.layers.full() {
		t.layers.forget()
		for i := range t.ops {
			if f := &t.ops[i].followed; f.on {
				t.leave(f)
			}
		}
	}
	now := t.numbers
	clear(now)
	for _, one := range t.beside[operation] {
		now.Add(one.number)
	}
	if f.held == nil {
		f.held = make(ClassSet, len(now))
	}
	t.come.SetBut(now, f.held)
	t.gone.SetBut(f.held, now)
	turns := int(o.version - f.version)
	if f.on {
		turns = len(f.turned)
	}
	takes := (turns + t.sizeOf(t.come) + t.sizeOf(t.gone)) * turnTakes
	switch {
	case t.sweep.follow == Never, t.sweep.follow == WherePays && f.on && takes > f.bySets:
		return false
	case !f.on && !t.begins(f, o, now, takes):
		copy(f.held, now)
		f.version = o.version
		return false
	}
	t.move(f, operation)
	copy(f.held, now)
	return true
}

// sizeOf counts the classes that have some units under lists, those with several of them several times.
func (w *sweep) sizeOf(units ClassSet) (n int) {
	for unit := range units.All() {
		n += w.held[unit].size
	}
	return n
}

// begins says whether it pays to follow from now on, and readies it.
func (t *OnPile) begins(f *followed, o *operationHeld, now ClassSet, takes int) bool {
	f.waste = max(0, f.waste+f.bySets-takes)
	if t.sweep.follow == WherePays {
		whole := t.sizeOf(now)
		for _, held := range o.by {
			whole += held.count
		}
		if f.waste <= whole*turnTakes || t.following == mostFollowed {
			return false
		}
	}
	t.following++
	copy(t.come, now)
	clear(t.gone)
	*f = followed{on: true, has: make([]uint32, len(t.classes)), by: map[uint32]*standingHeld{},
		held: make(ClassSet, len(now)), sure: make(ClassSet, t.room.words), bySets: f.bySets}
	for _, held := range o.by {
		for class := range held.classes.All() {
			f.turned = append(f.turned, class)
		}
	}
	return true
}

// move follows an operation to the pile at hand, to which some units come, and others are gone.
func (t *OnPile) move(f *followed, operation uint32) {
	moved := len(f.turned) > 0 || f.serial == 0
	for _, class := range f.turned {
		_, sorts := t.layers.apart(f.has[class])
		t.put(f, class, t.layers.onRows(t.byRow(operation, class), sorts))
	}
	f.turned = f.turned[:0]
	for unit := range t.gone.All() {
		moved = true
		t.turnAll(f, t.held[unit], less)
	}
	for unit := range t.come.All() {
		moved = true
		t.turnAll(f, t.held[unit], more)
	}
	if moved {
		t.serial++
		f.serial, f.facts = t.serial, 0
	}
}

// turnAll has all classes that have a unit under a list hold it, or hold it no more.
func (t *OnPile) turnAll(f *followed, held *heldUnit, by int) {
	if held.many != nil {
		for class := range held.many.All() {
			t.put(f, class, t.layers.step(f.has[class], held.sort, by))
		}
		return
	}
	var had [64]uint32
	var was, is [32]uint32 // that were asked for last
	for i := range was {
		was[i] = ^uint32(0)
	}
	for few := range slices.Chunk(held.few, len(had)) {
		for i, class := range few { // by itself, since these lie apart in memory, and none has to wait for another
			had[i] = f.has[class]
		}
		for i, class := range few {
			n := had[i] % uint32(len(was))
			if was[n] != had[i] {
				was[n], is[n] = had[i], t.layers.step(had[i], held.sort, by)
			}
			t.put(f, class, is[n])
		}
	}
}

// put gives a class other layers.
func (t *OnPile) put(f *followed, class, is uint32) {
	was, now := t.layers.mean(f.has[class]), t.layers.mean(is)
	f.has[class] = is
	if was.standing == now.standing {
		return
	}
	people := 1
	if !t.single.Has(class) {
		people = t.people[class]
	}
	if was.standing != unsaid {
		held := f.standing(was.standing)
		held.classes.Drop(class)
		held.people -= people
		if held.count--; held.count == 0 {
			delete(f.by, was.standing)
			f.last = [2]standsAs{}
			t.spare = append(t.spare, held)
		}
	}
	if now.standing != unsaid {
		held := f.standing(now.standing)
		if held == nil {
			held = t.fresh()
			f.by[now.standing] = held
		}
		held.classes.Add(class)
		held.people += people
		held.count++
	}
	switch {
	case now.sure && !was.sure:
		f.sure.Add(class)
	case was.sure && !now.sure:
		f.sure.Drop(class)
	}
}

// standing gives those who stand in some way. One class after another goes from one way to another, most often.
func (f *followed) standing(n uint32) *standingHeld {
	for _, one := range f.last {
		if one.held != nil && one.standing == n {
			return one.held
		}
	}
	held := f.by[n]
	f.last = [2]standsAs{{n, held}, f.last[0]}
	return held
}

// byRow gives the standing to an operation that a class's row comes to.
func (w *sweep) byRow(operation, class uint32) uint32 {
	said := w.views.Get(w.at[class])
	for ; len(said) > 0 && said[0] <= operation; said = said[2:] {
		if said[0] == operation {
			return said[1]
		}
	}
	return unsaid
}

// turns takes down that rows say something else of a class; where they do so of all, it is not followed any more.
func (w *sweep) turns(f *followed, class uint32) {
	if !f.on {
		return
	}
	if f.turned = append(f.turned, class); len(f.turned) > len(w.classes) {
		w.leave(f)
	}
}

// leave ends that an operation is followed.
func (w *sweep) leave(f *followed) {
	*f = followed{bySets: f.bySets}
	w.following--
}

// followedTo tells who may do an operation that was followed to the pile at hand.
func (t *OnPile) followedTo(f *followed, operation uint32, about *asked, alone bool) (*Bands, error) {
	b := bander{OnPile: t, about: about, room: &t.room, at: map[Cell]int{}}
	b.all = t.room.Any()
	copy(b.all, f.sure)
	for _, n := range slices.Sorted(maps.Keys(f.by)) {
		held := f.by[n]
		if t.said[n].asks {
			if err := b.addAsked(n, held.classes, held.people); err != nil {
				return nil, err
			}
			continue
		}
		when, err := t.standings.when(n)
		if err != nil {
			return nil, err
		}
		b.whole(when, held.classes, held.people)
	}
	if err := b.addSeveral(operation); err != nil {
		return nil, err
	}
	facts := uint32(0)
	switch {
	case len(t.sweep.several) > 0 || b.asks && alone:
		facts = ownFacts
	case b.asks:
		facts = t.pile.looks[t.side.number()].facts + 1
	}
	if f.facts != facts || facts == ownFacts {
		t.serial++
		f.serial, f.facts = t.serial, facts
	}
	return &Bands{b.of, f.serial, b.all}, nil
}
