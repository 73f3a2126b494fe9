package gate

import (
	"hiddengate/internal/gate/placemap"
	"runtime"
	"slices"

	"hiddengate/internal/lookup"
	"hiddengate/internal/parallel"
)

// holder is what a decision needs of a subject: few bytes, so that they come into the processor's cache at once.
type holder struct {
	row    uint32 // where its row begins, a block
	steps  uint32 // how many steps the row has
	extra  uint32 // where its extras begin
	extras uint32
	active int32 // the region in which it is active
	flags  uint32
}

// What a holder's flags say.
const (
	apart = 1 << iota // its roles may break a separation: there can be several sessions
)

// step says that from a mark on, until the next step, a cover is in force: its number, or one unit alone.
type step struct{ mark, cover uint32 }

// alone marks a cover that is one unit: most are, and need no look at the covers.
const alone = 1 << 31

// Steps stand in blocks, as many as the processor fetches at once, and each row begins a block. A row's last block is
// filled up with copies of the last step.
const blockSteps = 8

// extra is a unit where a list covers that traits tell.
type extra struct {
	trait uint32
	unit  uint32
}

// rows is the normal form: for each class of subjects, those named by the same lists, one row of steps over the
// marks. A step's cover is a sequence of units.
type rows struct {
	holders []holder
	steps   []step
	blocks  []uint32 // the mark with which each block begins
	extras  []extra
	covers  []uint32 // units, one cover after another
	ends    []uint32 // of the covers
}

// cover gives the units of a cover. one is room for a unit that stands alone.
func (r *rows) cover(n uint32, one *[1]uint32) []uint32 {
	if n&alone != 0 {
		one[0] = n &^ alone
		return one[:]
	}
	return lookup.Part(r.ends, r.covers, n)
}

// at finds the cover in force at a mark, 0 where there is none: first the block among their marks, then the step.
func (r *rows) at(h *holder, mark uint32) uint32 {
	first := int(h.row / blockSteps)
	n := (int(h.steps) + blockSteps - 1) / blockSteps
	if n == 0 {
		return 0
	}
	marks := r.blocks[first : first+n]
	low := 0
	for n > 1 {
		half := n / 2
		if marks[low+half] <= mark {
			low += half
		}
		n -= half
	}
	block := r.steps[(first+low)*blockSteps:][:blockSteps]
	k := -1
	for i := range block {
		if block[i].mark <= mark {
			k = i
		}
	}
	if k < 0 {
		return 0
	}
	return block[k].cover
}

// piece is a unit over a span of marks.
type piece struct {
	placemap.Span
	unit uint32
}

// share is what one list of subjects is given and denied.
type share struct {
	pieces []piece
	extras []extra
	events []uint64 // where each piece begins and ends, sorted
}

// order works out the events: the mark, the unit, and whether it begins. At one mark, what of a unit ends comes before
// what begins.
func (s *share) order() {
	s.events = make([]uint64, 0, 2*len(s.pieces))
	for _, p := range s.pieces {
		s.events = append(s.events, uint64(p.From)<<32|uint64(p.unit)<<1|1, uint64(p.To)<<32|uint64(p.unit)<<1)
	}
	slices.Sort(s.events)
}

// weaver makes the rows of some classes of subjects; several work side by side.
type weaver struct {
	shares []share
	covers *lookup.Sequences
	steps  []step
	base   uint32 // where its steps stand among all
	extras []extra
	rows   []holder // of the classes, with nothing but the row
	events []uint64
	heads  [][]uint64
	joined []uint32
	joiner *joiner
}

// weave makes the row of those whom these shares are for.
func (w *weaver) weave(of []uint32) {
	h := holder{row: uint32(len(w.steps)), extra: uint32(len(w.extras))}
	w.merge(of)
	for _, n := range of {
		w.extras = append(w.extras, w.shares[n].extras...)
	}
	last := uint32(0)
	for i := 0; i < len(w.events); {
		mark := w.events[i] >> 32
		for ; i < len(w.events) && w.events[i]>>32 == mark; i++ {
			w.joiner.turn(uint32(w.events[i])>>1, w.events[i]&1 == 1)
		}
		w.joined = w.joiner.join(w.joined[:0])
		if cover := w.covers.Number(w.joined); cover != last {
			w.steps = append(w.steps, step{uint32(mark), cover})
			last = cover
		}
	}
	own := w.extras[h.extra:]
	slices.SortFunc(own, func(a, b extra) int {
		if a.unit != b.unit {
			return int(a.unit) - int(b.unit)
		}
		return int(a.trait) - int(b.trait)
	})
	w.extras = w.extras[:int(h.extra)+len(slices.Compact(own))]
	h.steps = uint32(len(w.steps)) - h.row
	for len(w.steps)%blockSteps != 0 {
		w.steps = append(w.steps, w.steps[len(w.steps)-1])
	}
	h.extras = uint32(len(w.extras)) - h.extra
	w.rows = append(w.rows, h)
}

// merge brings the events of the shares, each of which is sorted, into one order.
func (w *weaver) merge(of []uint32) {
	w.events = w.events[:0]
	if len(of) > maxMerged {
		for _, n := range of {
			w.events = append(w.events, w.shares[n].events...)
		}
		slices.Sort(w.events)
		return
	}
	w.heads = w.heads[:0]
	for _, n := range of {
		if e := w.shares[n].events; len(e) > 0 {
			w.heads = append(w.heads, e)
		}
	}
	for len(w.heads) > 0 {
		least := 0
		for i := range w.heads {
			if w.heads[i][0] < w.heads[least][0] {
				least = i
			}
		}
		w.events = append(w.events, w.heads[least][0])
		if w.heads[least] = w.heads[least][1:]; len(w.heads[least]) == 0 {
			w.heads = slices.Delete(w.heads, least, least+1)
		}
	}
}

// maxMerged is up to how many shares it pays to compare the next event of each.
const maxMerged = 16

// room is how many steps the row of these shares has at most, in whole blocks.
func room(of []uint32, shares []share) int {
	n := 0
	for _, s := range of {
		n += len(shares[s].events)
	}
	return (n + blockSteps - 1) / blockSteps * blockSteps
}

// weaveAll makes the rows of all classes, on all cores, each class a sequence of shares; it gives their rows by class.
func (r *rows) weaveAll(classes *lookup.Sequences, shares []share, units *unitMaker) []holder {
	for i := range shares {
		shares[i].order()
	}
	workers := min(runtime.GOMAXPROCS(0), classes.Len()/1024+1)
	weavers := make([]*weaver, workers)
	total := 0
	for c := range classes.Len() {
		total += room(classes.Get(uint32(c)), shares)
	}
	// There are as many steps as events at most. What is not used of each weaver's part is never touched.
	r.steps, r.blocks = lookup.Large[step](total, total), lookup.Large[uint32](total/blockSteps, total/blockSteps)
	free := 0
	var wait parallel.Group
	for k := range weavers {
		first, last := k*classes.Len()/workers, (k+1)*classes.Len()/workers
		events := 0
		for c := first; c < last; c++ {
			events += room(classes.Get(uint32(c)), shares)
		}
		w := &weaver{shares: shares, covers: lookup.NewSequences(), steps: r.steps[free : free : free+events],
			base: uint32(free), joiner: newJoiner(units.fork()), rows: make([]holder, 0, last-first)}
		free += events
		weavers[k] = w
		wait.Go(func() {
			for c := first; c < last; c++ {
				w.weave(classes.Get(uint32(c)))
			}
		})
	}
	wait.Wait()
	all, known := lookup.NewSequences(), uint32(len(units.list))
	out := make([]holder, 0, classes.Len())
	for _, w := range weavers {
		became := make([]uint32, w.covers.Len())
		for n := range became {
			cover := w.covers.Get(uint32(n))
			for i, u := range cover {
				if u >= known { // a unit of its own
					cover[i] = units.add(w.joiner.set(u), w.joiner.list[u].region, w.joiner.list[u].block)
				}
			}
			if len(cover) == 1 {
				became[n] = cover[0] | alone
			} else {
				became[n] = all.Number(cover)
			}
		}
		for i := range w.steps {
			w.steps[i].cover = became[w.steps[i].cover]
			if i%blockSteps == 0 {
				r.blocks[(int(w.base)+i)/blockSteps] = w.steps[i].mark
			}
		}
		for _, h := range w.rows {
			h.row += w.base
			h.extra += uint32(len(r.extras))
			out = append(out, h)
		}
		r.extras = append(r.extras, w.extras...)
	}
	r.covers, r.ends = all.Items, all.Ends
	return out
}
