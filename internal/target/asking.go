package target

import (
	"fmt"
	"iter"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// Question asks a system whether an account can do an operation on a place.
type Question struct {
	Holder    *Holder
	Operation string
	Place     int
	Expected  bool      // by the policy, as far as it is carried
	Allows    bool      // by the policy itself
	Class     *RowClass // where the place is some rows of a table
}

// Answer is what the system said.
type Answer struct {
	Question
	Allowed bool
	Tried   bool   // for real; else the system's own functions said so
	Why     string // what in the system makes it so, where it is not as expected
}

// Agrees says whether the system does as the policy says: as far as it is carried, or beyond that what it allows.
func (a *Answer) Agrees() bool { return a.Allowed == a.Expected || a.Allowed && a.Allows }

// Questions goes through what a system can be asked of the accounts that there are, account by account: every operation
// that is carried, on every place that the policy lists. There can be very many.
func (w *Wanted) Questions(who func(estate.Principal) bool, where func(place int) bool) iter.Seq[Question] {
	return func(yield func(Question) bool) {
		for _, h := range w.Holders {
			if h.New || !who(h.Subject) {
				continue
			}
			for place, n := range h.profile.sets {
				if n >= 0 && where(place) && !w.questionsOf(h, place, yield) {
					return
				}
			}
		}
	}
}

// questionsOf goes through the questions about an account and a place; false if no more are wanted.
func (w *Wanted) questionsOf(h *Holder, place int, yield func(Question) bool) bool {
	n := h.profile.sets[place]
	set := w.sets[n]
	mask := w.Mask(h, place)
	for i, one := range w.carriedOn(n, place) {
		allows := set.Outcomes[i] == gate.Allow
		if one.natives != 0 && !one.everybody &&
			!yield(Question{h, set.Operations[i].Name, place, allows && mask&one.natives != 0, allows,
				w.State.Places[place].Class}) {
			return false
		}
	}
	return true
}

// operationCarried is by what an operation is carried on places of a sort.
type operationCarried struct {
	natives   Mask
	everybody bool // who gets in has it
}

// sortOfPlace tells places apart as far as what is carried there goes: by an outcome set, which has a type, and by what
// they lack.
type sortOfPlace struct {
	set   int32
	lacks Mask
}

// carriedOn says by what each operation of an outcome set is carried on a place, in their order.
func (w *Wanted) carriedOn(set int32, place int) []operationCarried {
	p := &w.State.Places[place]
	key := sortOfPlace{set, p.Lacks}
	out, known := w.carriedAt[key]
	if !known {
		for _, o := range w.sets[set].Operations {
			out = append(out, operationCarried{w.Carries.Of(o.Name, p), w.Carries.everybody(o.Name, p)})
		}
		w.carriedAt[key] = out
	}
	return out
}

// Difference is that some accounts get, or lack, the same for the same reason: each of the operations on each of the
// places.
type Difference struct {
	Accounts   []string
	Allowed    bool   // the system allows it, and the policy does not; else the other way round
	Why        string // what in the system makes it so
	Operations []string
	Places     []int
}

// Group puts answers that are not as expected together, as a person would tell them.
func Group(answers []Answer) []*Difference {
	type single struct {
		account, why, operation string
		allowed                 bool
	}
	at := map[single]*Difference{}
	var out []*Difference
	for _, a := range answers {
		k := single{a.Holder.Account, a.Why, a.Operation, a.Allowed}
		d := at[k]
		if d == nil {
			d = &Difference{Accounts: []string{a.Holder.Account}, Allowed: a.Allowed, Why: a.Why,
				Operations: []string{a.Operation}}
			at[k] = d
			out = append(out, d)
		}
		if n := len(d.Places); n == 0 || d.Places[n-1] != a.Place {
			d.Places = append(d.Places, a.Place)
		}
	}
	out = alike(
		out,
		func(d *Difference) string { return fmt.Sprintf("%t %q %q %d", d.Allowed, d.Why, d.Accounts, d.Places) },
		func(same, d *Difference) { same.Operations = append(same.Operations, d.Operations...) },
	)
	return alike(out, func(d *Difference) string {
		return fmt.Sprintf("%t %q %q %d", d.Allowed, d.Why, d.Operations, d.Places)
	},
		func(same, d *Difference) { same.Accounts = append(same.Accounts, d.Accounts...) })
}

// alike puts together differences that have a key in common.
func alike(all []*Difference, key func(*Difference) string, join func(same, d *Difference)) (out []*Difference) {
	known := map[string]*Difference{}
	for _, d := range all {
		k := key(d)
		if same := known[k]; same != nil {
			join(same, d)
			continue
		}
		known[k] = d
		out = append(out, d)
	}
	return out
}
