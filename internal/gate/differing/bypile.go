package differing

import (
	"context"
	"slices"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/unitrow"
	"hiddengate/internal/region"
)

// Band is classes of subjects who may do an operation on a pile at the same times and under the same conditions.
type Band struct {
	Classes ClassSet
	Cell
	People int // in these classes, if the bands are counted
}

// ByPile goes through the chosen piles in order: each is told one with what anybody may do there from an instant on, as
// if whoever is active at any time always were; Activity says when they are. It costs the steps of all rows, and for
// each pile and operation that is asked about a few sets of classes. It stops at the first error. Its own says that the
// conditions are too complex.
func (c *Cells) ByPile(ctx context.Context, since clock.Instant, each func(*Pile, *OnPile) error) error {
	c.pair.begin(since)
	d := newDiffer(c.pair)
	w := newSweep(newStandings(d), c.classes, New)
	w.follow = c.Follow
	for mark := range len(c.pair.first) - 1 {
		w.take(w.stepsAt(uint32(mark)))
		for n := c.pair.first[mark]; n < c.pair.first[mark+1]; n++ {
			if !c.pair.chosen[n] {
				continue
			}
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			if err := each(c.pair.piles[n], w.onPile(c.pair.piles[n])); err != nil {
				return err
			}
		}
	}
	return nil
}

// Class lists the subjects of a class, by number.
func (c *Cells) Class(n uint32) (out []estate.Principal) {
	for _, w := range c.classes[n] {
		out = append(out, w.principal)
	}
	return out
}

// ClassesIn lists the classes of those whom a list of subjects selects, in order: lists of grants and blocks select all
// of a class or nobody.
func (c *Cells) ClassesIn(list estate.Subjects) (out []uint32) {
	if c.classOf == nil {
		c.classOf = make([]uint32, len(c.Gate.All))
		for n, class := range c.classes {
			for _, w := range class {
				c.classOf[w.numbers[New]] = uint32(n) + 1
			}
		}
	}
	for _, n := range c.Lists.Selected(list) {
		if class := c.classOf[n]; class > 0 {
			out = append(out, class-1)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Classes counts the classes.
func (c *Cells) Classes() int { return len(c.classes) }

// NewClassSet gives an empty set of classes.
func (c *Cells) NewClassSet() ClassSet { return make(ClassSet, (len(c.classes)+63)/64) }

// sweep goes over the marks, and knows of each operation who stands how where it is.
type sweep struct {
	*standings
	classes   [][]who
	side      *side     // that is gone over
	at        []uint32  // of each class, its view
	swept     []rowLeft // what is still to come
	ahead     aheadSteps
	ops       []operationHeld
	follow    Follow
	beneath   [][]heldUnit // of each list that traits tell
	held      []*heldUnit  // the same by number
	layers    *layers
	following int // how many operations are followed
	sortedClasses
	several []uint32 // who can have several sessions
	people  []int    // of each class, how many are people
	single  ClassSet // the classes of one person
	weights Weights  // of people
	tags    []uint32 // of each class, the number of what conditions ask of its subjects' tags
	owning  map[estate.Principal][]uint32
	room    ClassRoom // for the pile at hand
	fixed   map[fixedStanding]region.Region
	spare   []*standingHeld // that nobody has any more
	told    OnPile
}

// rowLeft is the steps of a class's row that are still to come, and the view that the last one before came to.
type rowLeft struct{ class, from, to, view uint32 }

// aheadSteps is steps at the marks from one to before another.
type aheadSteps struct {
	from, to, width uint32
	found           []foundStep // by class
	steps           []classStep // by mark
	begins          []uint32    // of each mark from the first on, its first step
	next            []uint32
}

// foundStep is a step, and how many marks after the first it is.
type foundStep struct {
	mark uint32
	classStep
}

// classStep is a class that has another view from a mark on.
type classStep struct{ class, view uint32 }

// operationHeld is who stands how to an operation, by rows alone.
type operationHeld struct {
	by       map[uint32]*standingHeld // by standing
	all      ClassSet                 // of whom anything is said
	version  uint64                   // grows with each change
	kept     map[string]*Bands        // that ask nothing of the pile, by what is held beside the rows
	since    uint64                   // the version of which those are
	room     ClassRoom                // for them
	told     *Bands                   // on the pile of a number
	toldOn   uint32                   // that number and one
	followed followed
}

type standingHeld struct {
	classes ClassSet
	count   int
	people  int // in these classes, where they are followed
}

// heldUnit is a unit with the classes that have it under a list.
type heldUnit struct {
	unit   uint32
	number uint32   // of all
	sort   uint32   // among layers
	size   int      // how many classes
	few    []uint32 // the classes, where they are few
	many   ClassSet // else
}

// fixedStanding is all that a standing that asks hangs on, but for what may come.
type fixedStanding struct {
	standing, tags, facts uint32
	owns, untested        bool
	may                   uint32 // the pile and one, of what may come
}

func newSweep(s *standings, classes [][]who, k Side) *sweep {
	words := (len(classes) + 63) / 64
	w := &sweep{
		standings: s, classes: classes, side: s.sides[k], at: make([]uint32, len(classes)),
		ops: make([]operationHeld, len(s.names)), room: ClassRoom{words: words}, tags: make([]uint32, len(classes)),
		owning: map[estate.Principal][]uint32{}, fixed: map[fixedStanding]region.Region{}, layers: newLayers(s),
	}
	for o := range w.ops {
		w.ops[o] = operationHeld{by: map[uint32]*standingHeld{}, version: 1, room: ClassRoom{words: words}}
	}
	w.told = OnPile{sweep: w, scratch: ClassRoom{words: words}, beside: make([][]*heldUnit, len(s.names))}
	w.gather()
	for _, set := range []*ClassSet{&w.told.numbers, &w.told.come, &w.told.gone} {
		*set = make(ClassSet, (len(w.held)+63)/64)
	}
	w.people, w.single = numbersOf(classes, estate.IsPerson), make(ClassSet, words)
	w.weights = newWeights(w.people, words)
	for class, n := range w.people {
		if n == 1 {
			w.single.Add(uint32(class))
		}
	}
	return w
}

// gather looks at each class that is ever active.
func (w *sweep) gather() {
	s := w.side
	w.beneath = make([][]heldUnit, len(s.Places.Complex))
	known, tags := map[listUnit]int{}, map[string]uint32{}
	var active, swept []uint32
	for n, class := range w.classes {
		number := class[0].numbers[s.number()]
		h := &s.Rows.RowOf[number]
		if h.Active == int32(region.Empty) {
			continue
		}
		for _, owner := range s.owners[number] {
			w.owning[owner] = append(w.owning[owner], uint32(n))
		}
		key := w.likeness(class[0]).tags[s.number()]
		if _, ok := tags[key]; !ok {
			tags[key] = uint32(len(tags))
		}
		w.tags[n] = tags[key]
		if active = append(active, uint32(n)); h.Flags&unitrow.Separated != 0 {
			w.several = append(w.several, uint32(n))
			continue
		}
		swept = append(swept, uint32(n))
		w.hold(uint32(n), h, known)
	}
	w.held = make([]*heldUnit, len(known))
	for _, list := range w.beneath {
		for i := range list {
			list[i].pack(w.room.words)
			w.held[list[i].number] = &list[i]
		}
	}
	w.sortByTags(active)
	w.order(swept)
}

// listUnit is a unit under a list.
type listUnit struct{ list, unit uint32 }

// hold takes down what a class has under lists that traits tell.
func (w *sweep) hold(class uint32, h *unitrow.Holder, known map[listUnit]int) {
	s := w.side
	for _, e := range s.Rows.Extras[h.Extra : h.Extra+h.Extras] {
		at := listUnit{e.Trait, s.joint[e.Unit]}
		if len(w.standings.opsOf(at.unit)) == 0 {
			continue
		}
		i, ok := known[at]
		if !ok {
			i = len(w.beneath[at.list])
			w.beneath[at.list] = append(w.beneath[at.list], heldUnit{unit: at.unit, number: uint32(len(known)),
				sort: w.layers.sortOf(at.unit)})
			known[at] = i
		}
		one := &w.beneath[at.list][i]
		if k := len(one.few); k == 0 || one.few[k-1] != class { // several of the gate's units can be one of the pair's
			one.few = append(one.few, class)
			one.size++
		}
	}
}

// pack makes a set of the classes, of so many words, where they are many.
func (u *heldUnit) pack(words int) {
	if len(u.few) <= words {
		return
	}
	u.many = make(ClassSet, words)
	for _, class := range u.few {
		u.many.Add(class)
	}
	u.few = nil
}

// mostAhead is about how many steps are put in order at once: a few megabytes.
const mostAhead = 1 << 18

// order readies the steps of the rows of some classes to be put in order by mark.
func (w *sweep) order(classes []uint32) {
	s, steps := w.side, 0
	w.swept = make([]rowLeft, len(classes))
	for i, class := range classes {
		h := &s.Rows.RowOf[w.classes[class][0].numbers[s.number()]]
		w.swept[i] = rowLeft{class: class, from: h.Row, to: h.Row + h.Steps}
		steps += int(h.Steps)
	}
	marks := len(w.first)
	w.ahead.width = uint32(marks/(steps/mostAhead+1) + 1)
	w.ahead.begins, w.ahead.next = make([]uint32, w.ahead.width+1), make([]uint32, w.ahead.width+1)
}

// lookAhead puts the steps at the next marks in order.
func (w *sweep) lookAhead() {
	a, rows := &w.ahead, w.side.Rows
	a.from, a.to = a.to, a.to+a.width
	a.found = a.found[:0]
	clear(a.begins)
	for i := range w.swept {
		left := &w.swept[i]
		for ; left.from < left.to && rows.Steps[left.from].Mark < a.to; left.from++ {
			step := rows.Steps[left.from]
			if view := w.view(w.coverOf(w.side, step.Cover)); view != left.view {
				a.found = append(a.found, foundStep{step.Mark - a.from, classStep{left.class, view}})
				a.begins[step.Mark-a.from+1]++
				left.view = view
			}
		}
	}
	for m := 1; m < len(a.begins); m++ {
		a.begins[m] += a.begins[m-1]
	}
	a.steps = slices.Grow(a.steps[:0], len(a.found))[:len(a.found)]
	copy(a.next, a.begins)
	for _, one := range a.found {
		a.steps[a.next[one.mark]] = one.classStep
		a.next[one.mark]++
	}
}

// stepsAt gives the steps at the mark after the one that was asked for last.
func (w *sweep) stepsAt(mark uint32) []classStep {
	if mark >= w.ahead.to {
		w.lookAhead()
	}
	mark -= w.ahead.from
	return w.ahead.steps[w.ahead.begins[mark]:w.ahead.begins[mark+1]]
}

// take takes the steps at a mark.
func (w *sweep) take(steps []classStep) {
	for _, step := range steps {
		was, is := w.views.Get(w.at[step.class]), w.views.Get(step.view)
		w.at[step.class] = step.view
		for len(was)+len(is) > 0 {
			switch {
			case len(is) == 0 || len(was) > 0 && was[0] < is[0]:
				w.turn(step.class, was[0], was[1], unsaid)
				was = was[2:]
			case len(was) == 0 || is[0] < was[0]:
				w.turn(step.class, is[0], unsaid, is[1])
				is = is[2:]
			default:
				if was[1] != is[1] {
					w.turn(step.class, is[0], was[1], is[1])
				}
				was, is = was[2:], is[2:]
			}
		}
	}
}

// turn gives a class another standing to an operation.
func (w *sweep) turn(class, operation, was, is uint32) {
	o := &w.ops[operation]
	o.version++
	w.turns(&o.followed, class)
	if o.all == nil {
		o.all = make(ClassSet, w.room.words)
	}
	if was != unsaid {
		held := o.by[was]
		held.classes.Drop(class)
		if held.count--; held.count == 0 {
			delete(o.by, was)
			w.spare = append(w.spare, held)
		}
	}
	if is == unsaid {
		o.all.Drop(class)
		return
	}
	held := o.by[is]
	if held == nil {
		held = w.fresh()
		o.by[is] = held
	}
	held.classes.Add(class)
	held.count++
	o.all.Add(class)
}

// fresh gives an empty set for those who stand alike.
func (w *sweep) fresh() *standingHeld {
	if k := len(w.spare); k > 0 {
		held := w.spare[k-1]
		w.spare = w.spare[:k-1]
		return held
	}
	return &standingHeld{classes: make(ClassSet, w.room.words)}
}
