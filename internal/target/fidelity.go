package target

import (
	"cmp"
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
	type key struct {
		operation string
		place     int
	}
	type tally struct{ subjects, given, conditional int }
	all := map[key]*tally{}
	for _, p := range w.profiles {
		for place, n := range p.sets {
			if n < 0 {
				continue
			}
			set := w.sets[n]
			for i, o := range set.Operations {
				if set.Outcomes[i] == gate.Deny && !w.Carries.everybody(o.Name, set.typ) {
					continue
				}
				t := all[key{o.Name, place}]
				if t == nil {
					t = &tally{}
					all[key{o.Name, place}] = t
				}
				if set.Outcomes[i] == gate.Deny {
					continue
				}
				t.subjects += p.holders
				switch {
				case set.Outcomes[i] == gate.Depends:
					t.conditional += p.holders
				case set.mask&w.Carries.of(o.Name, set.typ) != 0:
					t.given += p.holders
				}
			}
		}
	}
	for k, t := range all {
		typ := w.State.Places[k.place].Type
		one := Carried{Operation: k.operation, Place: k.place, Subjects: t.subjects}
		natives := w.Carries.of(k.operation, typ)
		switch note := w.Carries.note(k.operation, typ); {
		case note != nil:
			one.How, one.Why = note.How, note.Why
		case natives == 0:
			one.How, one.Why = NotCarried, "the system has no right for it"
		case t.given == t.subjects:
			one.How = AsWritten
		default:
			one.How = Narrower
			var why []string
			if t.conditional > 0 {
				why = append(why, "it hangs on more than the moment for "+people(t.conditional))
			}
			if n := t.subjects - t.conditional - t.given; n > 0 {
				why = append(why, w.together(k.operation, natives)+", which "+people(n)+" may not")
			}
			one.Why = strings.Join(why, "; ")
		}
		out = append(out, one)
	}
	slices.SortFunc(out, func(a, b Carried) int {
		return cmp.Or(strings.Compare(a.Operation, b.Operation),
			w.State.Address(w.System, a.Place).Compare(w.State.Address(w.System, b.Place)))
	})
	return out
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
		for _, o := range native.Gives {
			if o != operation && !slices.Contains(others, o) {
				others = append(others, o)
			}
		}
	}
	return name + " gives " + strings.Join(others, " and ") + " too"
}
