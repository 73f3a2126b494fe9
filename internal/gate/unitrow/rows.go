package unitrow

import (
	"iter"
	"runtime"
	"slices"

	"hiddengate/internal/gate/placemap"
	"hiddengate/internal/lookup"
	"hiddengate/internal/parallel"
)

// Holder is what a decision needs of a subject: few bytes, so that they come into the processor's cache at once.
type Holder struct {
	Row    uint32 // where its row begins, a block
	Steps  uint32 // how many steps the row has
	Extra  uint32 // where its extras begin
	Extras uint32
	Active int32 // the region in which it is active
	Flags  uint32
}

// What a holder's flags say.
const (
	Separated = 1 << iota // its roles may break a separation: there can be several sessions
)

// Step says that from a mark on, until the next step, a cover is in force: its number, or one unit alone.
type Step struct{ Mark, Cover uint32 }

// Alone marks a cover that is one unit: most are, and need no look at the covers.
const Alone = 1 << 31

// Steps stand in blocks, as many as the processor fetches at once, and each row begins a block. A row's last block is
// filled up with copies of the last step.
const blockSteps = 8

// Extra is a unit where a list covers that traits tell.
type Extra struct {
	Trait uint32
	Unit  uint32
}

// Rows is the normal form: for each class of subjects, those named by the same lists, one row of steps over the
// marks. A step's cover is a sequence of units.
type Rows struct {
	RowOf  []Holder
	Steps  []Step
	Blocks []uint32 // the mark with which each block begins
	Extras []Extra
	Joined []uint32 // units, one cover after another
	Ends   []uint32 // of the covers
}

// Cover gives the units of a cover. one is room for a unit that stands alone.
func (r *Rows) Cover(n uint32, one *[1]uint32) []uint32 {
	if n&Alone != 0 {
		one[0] = n &^ Alone
		return one[:]
	}
	return lookup.Part(r.Ends, r.Joined, n)
}

// Stretch is marks, from one on and below another, over which one cover is in force.
type Stretch struct{ From, To, Cover uint32 }

// Stretches goes over a subject's row. end is the mark behind the last.
func (r *Rows) Stretches(h *Holder, end uint32) iter.Seq[Stretch] {
	return func(yield func(Stretch) bool) {
		steps := r.Steps[h.Row : h.Row+h.Steps]
		for i, s := range steps {
			to := end
			if i+1 < len(steps) {
				to = steps[i+1].Mark
			}
			if !yield(Stretch{s.Mark, to, s.Cover}) {
				return
			}
		}
	}
}

// At finds the cover in force at a mark, 0 where there is none: first the block among their marks, then the step.
func (r *Rows) At(h *Holder, mark uint32) uint32 {
	first := int(h.Row / blockSteps)
	n := (int(h.Steps) + blockSteps - 1) / blockSteps
	if n == 0 {
		return 0
	}
	marks := r.Blocks[first : first+n]
	low := 0
	for n > 1 {
		half := n / 2
		if marks[low+half] <= mark {
			low += half
		}
		n -= half
	}
	block := r.Steps[(first+low)*blockSteps:][:blockSteps]
	k := -1
	for i := range block {
		if block[i].Mark <= mark {
			k = i
		}
	}
	if k < 0 {
		return 0
	}
	return block[k].Cover
}

// Piece is a unit over a span of marks.
type Piece struct {
	placemap.Span
	Unit uint32
}

// Share is what one list of subjects is given and denied.
type Share struct {
	Pieces []Piece
	Extras []Extra
	events []uint64 // where each piece begins and ends, sorted
}

// order works out the events: the mark, the unit, and whether it begins. At one mark, what of a unit ends comes before
// what begins.
func (s *Share) order() {
	s.events = make([]uint64, 0, 2*len(s.Pieces))
	for _, p := range s.Pieces {
		s.events = append(s.events, uint64(p.From)<<32|uint64(p.Unit)<<1|1, uint64(p.To)<<32|uint64(p.Unit)<<1)
	}
	slices.Sort(s.events)
}

// rowBuilder makes the rows of some classes of subjects; several work side by side.
type rowBuilder struct {
	shares []Share
	steps  []Step
	base   uint32 // where its steps stand among all
	extras []Extra
	rows   []Holder // of the classes, with nothing but the row
	merged merger
	joiner *joiner
}

// build makes the row of those whom these shares are for.
func (w *rowBuilder) build(of []uint32) {
	h := Holder{Row: uint32(len(w.steps)), Extra: uint32(len(w.extras))}
	events := w.merged.merge(of)
	for _, n := range of {
		w.extras = append(w.extras, w.shares[n].Extras...)
	}
	last := uint32(0)
	for i := 0; i < len(events); {
		mark := events[i] >> 32
		for ; i < len(events) && events[i]>>32 == mark; i++ {
			w.joiner.toggle(uint32(events[i])>>1, events[i]&1 == 1)
		}
		if cover := w.joiner.number(); cover != last {
			w.steps = append(w.steps, Step{uint32(mark), cover})
			last = cover
		}
	}
	own := w.extras[h.Extra:]
	slices.SortFunc(own, func(a, b Extra) int {
		if a.Unit != b.Unit {
			return int(a.Unit) - int(b.Unit)
		}
		return int(a.Trait) - int(b.Trait)
	})
	w.extras = w.extras[:int(h.Extra)+len(slices.Compact(own))]
	h.Steps = uint32(len(w.steps)) - h.Row
	for len(w.steps)%blockSteps != 0 {
		w.steps = append(w.steps, w.steps[len(w.steps)-1])
	}
	h.Extras = uint32(len(w.extras)) - h.Extra
	w.rows = append(w.rows, h)
}

// room is how many steps the row of these shares has at most, in whole blocks.
func room(of []uint32, shares []Share) int {
	n := 0
	for _, s := range of {
		n += len(shares[s].events)
	}
	return (n + blockSteps - 1) / blockSteps * blockSteps
}

// BuildAll makes the rows of all classes, on all cores, each class a sequence of shares; it gives their rows by class.
func (r *Rows) BuildAll(classes *lookup.Sequences, shares []Share, units *Maker) []Holder {
	for i := range shares {
		shares[i].order()
	}
	order := alikeTogether(classes, shares)
	workers := min(runtime.GOMAXPROCS(0), classes.Len()/1024+1)
	weavers := make([]*rowBuilder, workers)
	total := 0
	for c := range classes.Len() {
		total += room(classes.Get(uint32(c)), shares)
	}
	// There are as many steps as events at most. What is not used of each builder's part is never touched.
	r.Steps, r.Blocks = lookup.Large[Step](total, total), lookup.Large[uint32](total/blockSteps, total/blockSteps)
	free := 0
	var wait parallel.Group
	for k := range weavers {
		first, last := k*classes.Len()/workers, (k+1)*classes.Len()/workers
		events := 0
		for _, c := range order[first:last] {
			events += room(classes.Get(c), shares)
		}
		w := &rowBuilder{shares: shares, merged: merger{shares: shares}, steps: r.Steps[free : free : free+events],
			base: uint32(free), joiner: newJoiner(units.fork()), rows: make([]Holder, 0, last-first)}
		free += events
		weavers[k] = w
		wait.Go(func() {
			for _, c := range order[first:last] {
				w.build(classes.Get(c))
			}
		})
	}
	wait.Wait()
	all, known := lookup.NewSequences(), uint32(len(units.List))
	out, made := make([]Holder, classes.Len()), 0
	for _, w := range weavers {
		became := make([]uint32, w.joiner.covers.Len())
		for n := range became {
			cover := w.joiner.covers.Get(uint32(n))
			for i, u := range cover {
				if u >= known { // a unit of its own
					one := w.joiner.List[u]
					one.ops = units.numberOf(w.joiner.Set(u))
					cover[i] = units.add(one)
				}
			}
			if len(cover) == 1 {
				became[n] = cover[0] | Alone
			} else {
				became[n] = all.Number(cover)
			}
		}
		for i := range w.steps {
			w.steps[i].Cover = became[w.steps[i].Cover]
			if i%blockSteps == 0 {
				r.Blocks[(int(w.base)+i)/blockSteps] = w.steps[i].Mark
			}
		}
		for _, h := range w.rows {
			h.Row += w.base
			h.Extra += uint32(len(r.Extras))
			out[order[made]] = h
			made++
		}
		r.Extras = append(r.Extras, w.extras...)
	}
	r.Joined, r.Ends = all.Items, all.Ends
	return out
}
