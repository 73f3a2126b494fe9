package target

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"hiddengate/internal/gate"
)

// How an operation is carried on a place.
type How string

// As it is written; to fewer, or less often; to everybody who has an account; not at all.
const (
	AsWritten   How = "as-written"
	Narrower    How = "narrower"
	ToEverybody How = "to-everybody"
	NotCarried  How = "nothing"
)

// Carried says what becomes of an operation on a place.
type Carried struct {
	Operation string
	Place     int
	Subjects  int // with an account, whom the policy allows it now, or on some condition
	How       How
	Why       string
}

// Fidelity says of each operation and place what becomes of it; those that the policy gives to nobody with an account
// are left out unless the system gives them to everybody. They come by operation and place.
func (w *Wanted) Fidelity() (out []Carried) {
	counts := make([]int, len(w.sets)) // by set, the holders of whom it holds on the place
	for place := range w.State.Places {
		var there []int32
		apart := map[sortOfPlace]int{} // those whom a native is not given that would reach too far
		for _, p := range w.profiles {
			switch n := p.sets[place]; {
			case n < 0:
			case p.without[place] != 0:
				apart[sortOfPlace{n, p.without[place]}] += p.holders
			default:
				if counts[n] == 0 {
					there = append(there, n)
				}
				counts[n] += p.holders
			}
		}
		var tallies []tally
		for _, n := range there {
			tallies = w.count(tallies, place, n, 0, counts[n])
			counts[n] = 0
		}
		for k, holders := range apart {
			tallies = w.count(tallies, place, k.set, k.lacks, holders)
		}
		w.countOnRows(tallies, place)
		for i := range tallies {
			if t := &tallies[i]; (t.subjects > 0 || t.everybody) && !w.elsewhere(t.operation, place) {
				out = append(out, w.fate(t, place))
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Carried) int {
		return cmp.Or(strings.Compare(a.Operation, b.Operation),
			w.State.Address(w.System, a.Place).Compare(w.State.Address(w.System, b.Place)))
	})
	return out
}

// elsewhere says whether what is said of an operation on a place is said of another: of the classes of a table's rows
// what is carried on rows, of the table the rest.
func (w *Wanted) elsewhere(operation string, place int) bool {
	at := &w.State.Places[place]
	if at.Class != nil {
		return w.Carries.Of(operation, at) == 0
	}
	onRows := w.Carries.onRows()
	return slices.ContainsFunc(w.tables, func(t *tableRows) bool { return t.place == place && t.told != nil }) &&
		w.Carries.Of(operation, &Place{Type: at.Type})&onRows != 0
}

// tally counts of an operation on a place whom the policy gives it, and to whom it is carried.
type tally struct {
	operation                    string
	everybody                    bool
	subjects, given, conditional int
}

// count adds to the tallies of a place what so many holders have there, of whom an outcome set holds.
func (w *Wanted) count(tallies []tally, place int, n int32, without Mask, holders int) []tally {
	set := w.sets[n]
	carried := w.carriedOn(n, place)
	if tallies == nil {
		tallies = make([]tally, len(set.Operations))
		for i, o := range set.Operations {
			tallies[i] = tally{operation: o.Name, everybody: carried[i].everybody}
		}
	}
	mask := set.mask &^ w.State.Places[place].Lacks &^ without
	for i := range set.Operations {
		t := &tallies[i]
		if set.Outcomes[i] == gate.Deny {
			continue
		}
		t.subjects += holders
		if set.Outcomes[i] == gate.Depends {
			t.conditional += holders
		} else if mask&carried[i].natives != 0 {
			t.given += holders
		}
	}
	return tallies
}

// countOnRows adds whoever has something on some rows of a table and not on the table, where the system cannot be told
// of rows.
func (w *Wanted) countOnRows(tallies []tally, place int) {
	for _, t := range w.tables {
		if t.place != place || t.told != nil {
			continue
		}
		for _, p := range w.profiles {
			for i := range tallies {
				on := func(n int32) bool { return w.sets[n].Outcomes[i] != gate.Deny }
				if !on(p.sets[place]) && slices.ContainsFunc(p.onRows[place], on) {
					tallies[i].subjects += p.holders
				}
			}
		}
	}
}

// fate says what becomes of an operation on a place.
func (w *Wanted) fate(t *tally, at int) Carried {
	place := &w.State.Places[at]
	one := Carried{Operation: t.operation, Place: at, Subjects: t.subjects}
	natives := w.Carries.Of(t.operation, place)
	switch note := w.Carries.note(t.operation, place); {
	case note != nil:
		one.How, one.Why = note.How, note.Why
	case natives == 0:
		one.How, one.Why = NotCarried, "the system has no right for it there"
	case t.given == t.subjects:
		one.How = AsWritten
	default:
		one.How = Narrower
		var why []string
		if t.conditional > 0 {
			why = append(why, "it hangs on more than the moment for "+people(t.conditional))
		}
		rows := slices.IndexFunc(w.tables, func(t *tableRows) bool { return t.place == at })
		switch n := t.subjects - t.conditional - t.given; {
		case n == 0:
		case rows >= 0 && w.tables[rows].many:
			why = append(why, fmt.Sprintf("its rows are told apart in more than %d ways, and none is carried", mostClasses))
		case rows >= 0:
			why = append(why, "the system cannot be told of single rows, and "+people(n)+" may not have all of them")
		default:
			why = append(why, w.together(t.operation, natives)+", which "+people(n)+" may not")
		}
		one.Why = strings.Join(why, "; ")
	}
	return one
}

func people(n int) string {
	if n == 1 {
		return "one account"
	}
	return strconv.Itoa(n) + " accounts"
}

// together says with what an operation is given.
func (w *Wanted) together(operation string, natives Mask) string {
	var others []string
	name := ""
	for k, native := range w.Carries.Natives {
		if natives&(1<<k) == 0 {
			continue
		}
		name = native.Name
		if native.Unlimited {
			return name + " gives everything there"
		}
		for _, o := range native.Inside {
			if !slices.Contains(others, o) {
				others = append(others, o+" on all inside")
			}
		}
		for _, o := range native.Gives {
			if o != operation && !slices.Contains(others, o) {
				others = append(others, o)
			}
		}
	}
	return name + " gives " + strings.Join(others, " and ") + " too"
}
