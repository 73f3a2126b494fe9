package survey

import (
	"math"
	"slices"

	"hiddengate/internal/estate"
)

// GridRow is a place of a grid with all inside it that is looked at.
type GridRow struct {
	Place *estate.Resource
	Alike []*estate.Resource // beside it, that say the same in each column
	Depth int                // how many rows it stands in
	Cells []Reached
	// Looked counts the resources of the place and inside it that are looked at, Size all there are. Where Looked is
	// less, the row speaks for a part of its place.
	Looked, Size int
	Named        bool // it was named
	// Deeper says that a place inside differs from the row and has no row, since it lies below the depth that was asked.
	Deeper bool
}

// Whole says that the row speaks for the whole of its place.
func (r GridRow) Whole() bool { return r.Looked == r.Size }

// Folding says which places are rows of their own.
type Folding struct {
	// Depth is how many rows a row may stand in.
	Depth int
	// Unfold names places below which rows may be as deep as they are, Named places that are rows whatever they say. Nil
	// names none.
	Unfold, Named func(*estate.Resource) bool
}

// Rows folds the places: one inside another is a row of its own if it says something that the row above does not.
func (g *Grid) Rows(f Folding) []GridRow {
	tree := g.estate.Tree
	w := walker{Grid: g, inside: make([][]int, tree.Len()+1), Folding: f, named: make([]bool, tree.Len()),
		same: map[[2]uint32]bool{}}
	for i, row := range tree.Rows {
		w.inside[row.Parent] = append(w.inside[row.Parent], i)
	}
	if f.Named != nil {
		for _, i := range g.rows {
			w.named[i] = f.Named(tree.At(i))
		}
	}
	holds := slices.Clone(w.named) // a named place is there, or inside
	upwards(tree, func(up, row int) { holds[up] = holds[up] || holds[row] })
	w.holds = holds
	w.roots(0)
	return w.out
}

type walker struct {
	*Grid
	Folding
	inside [][]int // of each row and one more, the rows that stand in it
	named  []bool  // of each row
	holds  []bool  // of each row, whether it or one inside it is named
	same   map[[2]uint32]bool
	out    []GridRow
}

// roots adds the rows of what stands in a place, by its number plus one, that is no row itself. A place is passed over
// if it is not looked at and what is looked at in it stands in one place, or in places that were named.
func (w *walker) roots(place int) {
	for _, i := range w.inside[place] {
		switch shown := w.shownIn(i); {
		case !w.shown(i):
		case w.own(i) || len(shown) > 1 && slices.ContainsFunc(shown, func(c int) bool { return !w.holds[c] }):
			w.walk(i, 0, w.Depth)
		default:
			w.roots(i + 1)
		}
	}
}

// own says whether a place itself is looked at.
func (w *walker) own(row int) bool {
	_, ok := slices.BinarySearch(w.rows, row)
	return ok
}

// shown says whether any resource in a place is looked at.
func (g *Grid) shown(row int) bool { return g.all[row] != 0 }

// shownIn lists the places directly inside one in which something is looked at.
func (w *walker) shownIn(row int) (out []int) {
	for _, child := range w.inside[row+1] {
		if w.shown(child) {
			out = append(out, child)
		}
	}
	return out
}

func (g *Grid) cells(row int) []Reached { return g.lines.reached(g.all[row]) }

// walk adds the rows of a place that stands so deep, down to a limit.
func (w *walker) walk(row, depth, limit int) {
	cells := w.cells(row)
	place := w.estate.Tree.At(row)
	at := len(w.out)
	w.out = append(w.out, GridRow{Place: place, Depth: depth, Cells: cells, Looked: int(w.looked[row]),
		Size: int(w.size[row]), Named: w.named[row]})
	if w.Unfold != nil && w.Unfold(place) {
		limit = math.MaxInt
	}
	last := -1 // the row that the next may be like
	for _, child := range w.shownIn(row) {
		folds := w.folds(child, w.all[row])
		switch {
		case folds:
			last = -1
			continue
		case depth >= limit && !w.holds[child]:
			w.out[at].Deeper = true
			continue
		}
		if last >= 0 && w.like(&w.out[last], child) && (depth+1 >= limit || len(w.inside[child+1]) == 0) {
			one := &w.out[last]
			one.Alike = append(one.Alike, w.estate.Tree.At(child))
			one.Deeper = one.Deeper || !w.unfolded(child)
			continue
		}
		before := len(w.out)
		w.walk(child, depth+1, limit)
		last = -1
		if len(w.out) == before+1 && !w.named[child] {
			last = before
		}
	}
}

// like says that a place may stand in a row beside the row's own.
func (w *walker) like(r *GridRow, row int) bool {
	return !w.holds[row] && r.Whole() == (w.looked[row] == w.size[row]) &&
		slices.EqualFunc(r.Cells, w.cells(row), Reached.same)
}

// unfolded says that no place inside one differs from it.
func (w *walker) unfolded(row int) bool {
	return !slices.ContainsFunc(w.shownIn(row), func(child int) bool { return !w.folds(child, w.all[row]) })
}

// folds says that a place says no more than the one above it does: as far as it offers operations, every column reaches
// as far, in all of it.
func (w *walker) folds(row int, above uint32) bool {
	if w.named[row] {
		return false
	}
	if !w.implied(above, w.all[row]) {
		return false
	}
	for _, child := range w.shownIn(row) {
		if !w.folds(child, w.all[row]) {
			return false
		}
	}
	return true
}

// implied says that a line says no more than one above it, which is worked out once.
func (w *walker) implied(above, line uint32) bool {
	key := [2]uint32{above, line}
	is, known := w.same[key]
	if !known {
		is = true
		cells := w.lines.reached(line)
		for c, up := range w.lines.reached(above) {
			is = is && cells[c].same(up.implied(w.lines.list[line][c]))
		}
		w.same[key] = is
	}
	return is
}
