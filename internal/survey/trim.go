package survey

import (
	"cmp"
	"slices"
	"strings"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// Action is one thing that was really done.
type Action struct {
	At        clock.Instant
	Who       estate.Principal
	Operation string
	Resource  string // an address, as canonical
	Line      int    // of the log
}

// Refusal is a logged action that the policy would have refused, or that it knows nothing of.
type Refusal struct {
	Action
	Why string // "" if it is refused; else what is not known
}

// Unused is what of a grant or a role nobody used.
type Unused struct {
	ID    string
	Given []*estate.Operation // all that it gives somewhere
	// of these, what was never done through it; of a role, what nothing that was done needs either
	Never     []*estate.Operation
	Reaches   int // of a grant: how many have it
	Idle      int // of those: how many did nothing through it
	Protected bool
	from      *Trimmer
}

// IdleSubjects lists who has a grant and did nothing through it.
func (u Unused) IdleSubjects() []estate.Principal {
	g := u.from.gate
	return slices.DeleteFunc(g.Members(g.Estate().Grants[u.ID].To),
		func(p estate.Principal) bool { return u.from.busy[u.ID][p] })
}

// Trim is what a log says of a policy.
type Trim struct {
	Actions     int
	From, Until clock.Instant // of the logged actions
	Refused     []Refusal
	Grants      []Unused // those of which something was never used
	Roles       []Unused
}

// Trimmer holds logged actions against a policy, one after another. An action counts as use of every grant that would
// have allowed it then, whatever else the request may have said; grants on request count as if they had been lent. It
// keeps one answer for each subject, operation and resource.
type Trimmer struct {
	gate  *gate.Gate
	known map[asked]*answer
	used  map[string]map[string]bool // by grant, the operations
	busy  map[string]map[estate.Principal]bool
	last  map[string]map[estate.Principal]clock.Instant // by grant, when each used it last
	out   Trim
}

type asked struct {
	who    estate.Principal
	op, at string
}

type answer struct {
	ways []gate.Way
	why  string
}

// NewTrimmer begins to hold logged actions against a gate's policy.
func NewTrimmer(g *gate.Gate) *Trimmer {
	return &Trimmer{gate: g, known: map[asked]*answer{}, used: map[string]map[string]bool{},
		busy: map[string]map[estate.Principal]bool{}, last: map[string]map[estate.Principal]clock.Instant{}}
}

// Take takes a logged action.
func (t *Trimmer) Take(d Action) {
	if t.out.Actions == 0 || d.At < t.out.From {
		t.out.From = d.At
	}
	t.out.Until = max(t.out.Until, d.At)
	t.out.Actions++
	key := asked{d.Who, d.Operation, d.Resource}
	a := t.known[key]
	if a == nil {
		a = t.ask(d)
		t.known[key] = a
	}
	if a.why != "" {
		t.out.Refused = append(t.out.Refused, Refusal{d, a.why})
		return
	}
	ctx := t.gate.NewContext()
	ctx.Time(d.At)
	given := false
	for _, w := range a.ways {
		if !t.gate.Touches(w.Region, ctx) {
			continue
		}
		given = true
		if t.used[w.Grant.ID] == nil {
			t.used[w.Grant.ID], t.busy[w.Grant.ID] = map[string]bool{}, map[estate.Principal]bool{}
			t.last[w.Grant.ID] = map[estate.Principal]clock.Instant{}
		}
		t.used[w.Grant.ID][d.Operation] = true
		t.busy[w.Grant.ID][d.Who] = true
		t.last[w.Grant.ID][d.Who] = max(t.last[w.Grant.ID][d.Who], d.At)
	}
	if !given {
		t.out.Refused = append(t.out.Refused, Refusal{d, ""})
	}
}

// LastUse is when a grant was last used, by somebody or, where who is nil, by anybody; 0 for never.
func (t *Trimmer) LastUse(grant string, who *estate.Principal) (last clock.Instant) {
	for p, at := range t.last[grant] {
		if who == nil || *who == p {
			last = max(last, at)
		}
	}
	return last
}

func (t *Trimmer) ask(d Action) *answer {
	ways, err := t.gate.OwnWays(gate.Request{Subject: d.Who, Operation: d.Operation, Resource: d.Resource,
		Context: t.gate.NewContext()})
	if err != nil {
		return &answer{why: err.Error()}
	}
	return &answer{ways: ways}
}

// Trim tells what was never used.
func (t *Trimmer) Trim() Trim {
	e, out := t.gate.Estate(), t.out
	roles := map[string]*Unused{}
	used := map[string]map[string]bool{} // by role
	for _, gr := range estate.Sorted(e.Grants) {
		given := t.gate.Gives(gr)
		reaches := len(t.gate.Lists.Selected(gr.To))
		one := Unused{ID: gr.ID, Given: given, Reaches: reaches, Idle: reaches, Protected: gr.Protected, from: t}
		for _, o := range given {
			if !t.used[gr.ID][o.Name] {
				one.Never = append(one.Never, o)
			}
		}
		for p := range t.busy[gr.ID] {
			if t.gate.Selects(gr.To, p) {
				one.Idle--
			}
		}
		if len(one.Never) > 0 || one.Idle > 0 {
			out.Grants = append(out.Grants, one)
		}
		for _, ref := range gr.Roles {
			r := roles[ref.ID]
			if r == nil {
				r = &Unused{ID: ref.ID, Protected: e.Roles[ref.ID].Protected}
				roles[ref.ID] = r
			}
			t.using(used, gr, ref.ID)
			for _, o := range given {
				if !t.gate.RoleHas(ref.ID, o.Name) {
					continue
				}
				if !slices.Contains(r.Given, o) {
					r.Given = append(r.Given, o)
				}
			}
		}
	}
	for id, r := range roles {
		slices.SortFunc(r.Given, func(a, b *estate.Operation) int { return strings.Compare(a.Name, b.Name) })
		keepNeeds(used[id], r.Given)
		for _, o := range r.Given {
			if !used[id][o.Name] {
				r.Never = append(r.Never, o)
			}
		}
		if len(r.Never) > 0 {
			out.Roles = append(out.Roles, *r)
		}
	}
	slices.SortFunc(out.Roles, func(a, b Unused) int {
		return cmp.Or(cmp.Compare(len(b.Never), len(a.Never)), strings.Compare(a.ID, b.ID))
	})
	return out
}

// using takes down what was used through a grant of a role, for the role and for all that it includes: what one of them
// gives up the others lose.
func (t *Trimmer) using(used map[string]map[string]bool, gr *estate.Grant, role string) {
	for _, id := range t.gate.RoleStandsFor(role) {
		if used[id] == nil {
			used[id] = map[string]bool{}
		}
		for name := range t.used[gr.ID] {
			if t.gate.RoleHas(id, name) {
				used[id][name] = true
			}
		}
	}
}

// keepNeeds takes what used operations need for used: without it they would be of no use.
func keepNeeds(used map[string]bool, given []*estate.Operation) {
	for more := true; more; {
		more = false
		for _, o := range given {
			for _, need := range o.Needs {
				if used[o.Name] && !used[need] {
					used[need], more = true, true
				}
			}
		}
	}
}

// Narrower gives the role without what was never used: with what its `allow` says less that, or, where more than a few
// operations would have to be taken away, with just those that were used, by name. Operations that apply nowhere it is
// granted stay in the first case alone, since the log can't speak of them; so does all where an included role has
// dates, which operations that stand here by name would not have.
func (u Unused) Narrower(g *gate.Gate) *estate.Role {
	e := g.Estate()
	out := *e.Roles[u.ID]
	never := func(name string) bool {
		return slices.ContainsFunc(u.Never, func(o *estate.Operation) bool { return o.Name == name })
	}
	says := slices.DeleteFunc(slices.Clone(out.Allow),
		func(t estate.OperationTerm) bool { return !t.Not && t.Kind == estate.ByName && never(t.Name) })
	var less, left estate.Operations
	for _, o := range u.Given {
		if !never(o.Name) {
			left = append(left, estate.OperationTerm{Kind: estate.ByName, Name: o.Name})
		} else if says.Fit(o, e.Edition) || slices.ContainsFunc(out.Include,
			func(ref estate.Ref) bool { return g.RoleHas(ref.ID, o.Name) }) {
			less = append(less, estate.OperationTerm{Not: true, Kind: estate.ByName, Name: o.Name})
		}
	}
	const mostLess = 3
	dated := slices.ContainsFunc(g.RoleStandsFor(u.ID), func(id string) bool {
		return id != u.ID && (e.Roles[id].Starts != nil || e.Roles[id].Ends != nil)
	})
	if all := len(g.RoleOperations(u.ID)) == len(u.Given); len(left) > 0 && !dated && (len(less) > mostLess ||
		all && len(out.Include) == 0 && len(left) < len(less)+len(says)) {
		out.Allow, out.Include = left, nil
		return &out
	}
	out.Allow = append(says, less...)
	return &out
}
