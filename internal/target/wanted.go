package target

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/counting"
)

// Task is what a system is to be held against.
type Task struct {
	Gate    *gate.Gate // with what is lent
	System  string
	At      clock.Instant
	Carries *Carries
	State   *State
	Create  bool               // whoever has access and no account gets one that is named after their id
	Lent    []estate.Elevation // what Gate counts as lent
	// Passwords are those that were set, by account.
	Passwords map[string]Password
	// Tokens are those for programs that act as accounts, by account.
	Tokens map[string][]Token
}

// Token lets a program act as an account.
type Token struct {
	ID, Hash string
	Roles    []string      // that it is narrowed to; none where it gives all that the account has
	Ends     clock.Instant // it does not let in from then on
}

// Password is one that was set for an account.
type Password struct {
	Number   int64         // of the event
	Verifier string        // as package credential writes it; "" for one that the system was told already
	Ends     clock.Instant // it does not let in from then on
	First    bool          // it has to be changed
	Lasts    time.Duration // for how long the one lets in that its holder chooses there
}

// Wanted is what a system has to give, at the task's moment.
type Wanted struct {
	Task
	Holders []*Holder // those whose account is in the policy's care, by account
	Without []estate.Principal
	// Reserved are accounts that the policy gives to somebody and that are never touched.
	Reserved []string
	sets     []*outcomeSet
	rows     []int  // of each place of the state, its row in the estate; -1 where the policy does not list it
	judged   []bool // of each place that it does not list, whether it decides about it all the same
	profiles []*profile
	// carriedAt are by what the operations of an outcome set are carried on each sort of place.
	carriedAt map[sortOfPlace][]operationCarried
	tables    []*tableRows                // those of which the policy tells rows apart
	values    *rowValues                  // what tells them apart
	reserved  map[string]estate.Principal // by account: whose those are that are never touched
	inside    map[int][]int               // by place: the rows of the estate inside it, as far as they were needed
	*spread
	recent string // what holds of signed-in-within in every session; "" for nothing
}

// Holder is an account with what it has to have.
type Holder struct {
	Account string
	Subject estate.Principal
	New     bool          // there is no such account yet
	Ends    clock.Instant // when the subject ends; clock.End for never
	profile *profile
}

// outcomeSet is what the policy answers on a resource of a type, and which natives that comes to.
type outcomeSet struct {
	*gate.OperationOutcomes
	typ  string
	mask Mask
}

// profile is what somebody may do on each place. Many accounts share one.
type profile struct {
	sets    []int32      // by place: the outcome set, or -1
	without map[int]Mask // by place: natives that would reach too far
	holders int
	onRows  map[int][]int32 // by table whose rows are told apart: the outcome set of each class
}

// Mask gives the natives that a holder has to have on a place.
func (w *Wanted) Mask(h *Holder, place int) Mask { return w.mask(h.profile, place) }

func (w *Wanted) mask(p *profile, place int) Mask {
	if n := p.sets[place]; n >= 0 {
		m := w.sets[n].mask &^ w.State.Places[place].Lacks
		if p.without != nil {
			m &^= p.without[place]
		}
		return m
	}
	return 0
}

// Listed says whether the policy lists a place, or decides about it all the same.
func (w *Wanted) Listed(place int) bool { return w.rows[place] >= 0 || w.judged[place] }

// resource gives a place as the policy has it.
func (w *Wanted) resource(place int) *estate.Resource {
	e := w.Gate.Estate()
	if row := w.rows[place]; row >= 0 {
		return e.Tree.At(row)
	}
	if c := w.State.Places[place].Class; c != nil {
		return c.row
	}
	return e.Unlisted(w.State.Address(w.System, place))
}

// Outcome is what the policy answers for a holder; false where the operation does not apply to the place.
func (w *Wanted) Outcome(h *Holder, operation string, place int) (gate.Outcome, bool) {
	n := h.profile.sets[place]
	if n < 0 {
		return gate.Deny, false
	}
	for i, o := range w.sets[n].Operations {
		if o.Name == operation {
			return w.sets[n].Outcomes[i], true
		}
	}
	return gate.Deny, false
}

// Work finds out what a system has to give. What depends on more than the moment is not given: a system is never told
// more than the policy allows whatever else is so.
func Work(ctx context.Context, t Task) (*Wanted, error) {
	w := &Wanted{
		Task:      t,
		inside:    map[int][]int{},
		reserved:  map[string]estate.Principal{},
		carriedAt: map[sortOfPlace][]operationCarried{},
	}
	e := t.Gate.Estate()
	if e.Systems[t.System] == nil {
		return nil, fmt.Errorf("there is no system %q", t.System)
	}
	if len(t.Carries.Natives) > 64 {
		return nil, fmt.Errorf("a driver carries 64 natives at most")
	}
	for _, p := range t.State.Places {
		at := estate.Address{System: t.System, Path: p.Path}
		row := e.Tree.Find(e.Canonical(at).String())
		w.rows = append(w.rows, row)
		// What it decides about has the type that its address tells.
		w.judged = append(w.judged, row < 0 && e.Systems[t.System].Judge && e.Unlisted(at).Type == p.Type)
	}
	w.recent = w.mostRecent()
	asked := w.asked()
	if err := w.hold(ctx, asked); err != nil {
		return nil, err
	}
	w.tellRows()
	known := map[string]int32{}
	profiles := map[string]*profile{}
	for _, h := range w.Holders {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		one, err := w.profileOf(asked, h.Subject, known)
		if err != nil {
			return nil, err
		}
		key := keyOf(one.sets) + fmt.Sprint(one.without, one.onRows)
		if profiles[key] == nil {
			profiles[key] = one
			w.profiles = append(w.profiles, one)
		}
		h.profile = profiles[key]
		h.profile.holders++
	}
	return w, nil
}

func keyOf(sets []int32) string {
	b := make([]byte, 0, 4*len(sets))
	for _, n := range sets {
		b = append(b, byte(n), byte(n>>8), byte(n>>16), byte(n>>24))
	}
	return string(b)
}

// profileOf asks the policy about one subject.
func (w *Wanted) profileOf(asked *gate.Context, who estate.Principal, known map[string]int32) (*profile, error) {
	asker, err := w.Gate.Asker(who, asked)
	if err != nil {
		return nil, err
	}
	type look struct {
		outcomes *gate.OperationOutcomes
		typ      string
	}
	seen := map[look]int32{}
	var last look
	var number int32
	out := &profile{sets: make([]int32, len(w.rows))}
	for i, row := range w.rows {
		var outcomes *gate.OperationOutcomes
		switch {
		case w.State.Places[i].Class != nil:
			continue
		case row >= 0:
			outcomes, err = asker.On(row)
		case w.judged[i]:
			outcomes, err = asker.OnUnlisted(w.State.Address(w.System, i))
		default:
			out.sets[i] = -1
			continue
		}
		if err != nil {
			return nil, err
		}
		if at := (look{outcomes, w.State.Places[i].Type}); at != last { // it mostly is as at the place before
			n, ok := seen[at]
			if !ok {
				n = w.setOf(outcomes, at.typ, known)
				seen[at] = n
			}
			last, number = at, n
		}
		out.sets[i] = number
	}
	if err := w.onRowsOf(out, who, asked, known); err != nil {
		return nil, err
	}
	return out, w.restrain(out, asker)
}

// setOf numbers what the policy answers on a type.
func (w *Wanted) setOf(outcomes *gate.OperationOutcomes, typ string, known map[string]int32) int32 {
	var key strings.Builder
	key.WriteString(typ)
	for i, o := range outcomes.Operations {
		fmt.Fprintf(&key, " %s %d", o.Name, outcomes.Outcomes[i])
	}
	n, ok := known[key.String()]
	if !ok {
		n = int32(len(w.sets))
		known[key.String()] = n
		one := &outcomeSet{OperationOutcomes: outcomes, typ: typ}
		allowed := map[string]bool{}
		for i, o := range outcomes.Operations {
			allowed[o.Name] = outcomes.Outcomes[i] == gate.Allow
		}
		for k, native := range w.Carries.Natives {
			if slices.Contains(native.Types, typ) &&
				!slices.ContainsFunc(native.Gives, func(name string) bool { return !allowed[name] }) {
				one.mask |= 1 << k
			}
		}
		w.sets = append(w.sets, one)
	}
	return n
}

// hold finds the accounts in the policy's care: those that it lists with an owner, and with Create one for everybody
// else who may do something there. An account of that name that it does not list and hgate did not make is left alone.
func (w *Wanted) hold(ctx context.Context, asked *gate.Context) error {
	e := w.Gate.Estate()
	there := map[string]Account{}
	for _, a := range w.State.Accounts {
		there[a.Name] = a
	}
	of := map[estate.Principal]bool{}
	in := estate.Address{System: w.System, Path: AccountsIn}
	taken := map[string]bool{}
	first := e.Tree.Find(w.System)
	for i := first; i < e.Tree.End(first); i++ {
		owner := e.Tree.Owners[e.Tree.Rows[i].Owner]
		if owner == nil {
			continue
		}
		r := e.Tree.At(i)
		if r.Type != "account" || r.Address == in || owner.Kind != estate.IsPerson && owner.Kind != estate.IsService {
			continue
		}
		w.take(there, Unescaped(r.Address.Name()), *owner, taken)
		of[*owner] = true
	}
	holders, err := counting.Holders(ctx, w.Gate, asked, w.listed(), w.carried)
	if err != nil {
		return err
	}
	for _, h := range holders {
		if of[h.Subject] || h.Subject.Kind != estate.IsPerson && h.Subject.Kind != estate.IsService {
			continue
		}
		is, found := there[h.Subject.ID]
		if !w.Create || taken[h.Subject.ID] || h.Outcome != gate.Allow || found && !is.Made { // it may be another's
			w.Without = append(w.Without, h.Subject)
			continue
		}
		w.take(there, h.Subject.ID, h.Subject, taken)
	}
	slices.SortFunc(w.Holders, func(a, b *Holder) int { return strings.Compare(a.Account, b.Account) })
	return nil
}

func (w *Wanted) take(there map[string]Account, name string, who estate.Principal, taken map[string]bool) {
	taken[name] = true
	is, found := there[name]
	if is.Reserved {
		w.Reserved = append(w.Reserved, name)
		w.reserved[name] = who
		return
	}
	h := &Holder{Account: name, Subject: who, New: !found, Ends: clock.End}
	if s := w.Gate.Estate().Subject(who); s != nil && s.Ends != nil {
		h.Ends = s.Ends.End(w.Gate.Estate().Zone)
	}
	w.Holders = append(w.Holders, h)
}

// listed gives the places of the state that the policy lists.
func (w *Wanted) listed() counting.Places {
	return counting.Places{Rows: slices.Sorted(maps.Keys(rowsOf(w.rows)))}
}

func rowsOf(rows []int) map[int]bool {
	out := map[int]bool{}
	for _, row := range rows {
		if row >= 0 {
			out[row] = true
		}
	}
	return out
}

// carried says whether some native gives an operation.
func (w *Wanted) carried(o *estate.Operation) bool {
	return slices.ContainsFunc(w.Carries.Natives, func(n Native) bool { return slices.Contains(n.Gives, o.Name) })
}
