package escalation

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/gate/membership"
	"hiddengate/internal/region"
)

// mostSteps is how many steps a chain has at most, and mostOpenings how many operations that open something are looked
// at, counted by subject and resource.
const (
	mostSteps    = 12
	mostOpenings = 1 << 22
)

// Ways is all access that subjects of an estate can get, with the steps that lead to it.
type Ways struct {
	since          clock.Instant
	estate         *estate.Estate
	base           *gate.Gate         // that tells places apart; nil: there is none
	stages         []*differing.Cells // by cost: what is so once all steps up to it are taken
	moves          map[string]*move
	of             map[estate.Principal][]*move // by who can take them
	opened         map[opening]map[estate.Principal]int
	later          map[int][]opened   // by cost, what somebody can do as somebody else
	impersonations map[string][]*move // by system
	labels         *labels
	every          estate.Operations // what some role gives; nil until it is asked for
	order          []*move           // all of them, in an order that is the same every time
}

const maxInstant = clock.End

// stepPrefix begins the ids of grants that steps give; no id of a file can be like that.
const stepPrefix = "a step "

// opening is an operation that opens something, on a resource.
type opening struct {
	operation *estate.Operation
	resource  *estate.Resource
}

// opened is what somebody can do, as who it is or as somebody else.
type opened struct {
	opening
	who estate.Principal
	own bool
}

// Work works out all ways from an instant on. base is a gate of the estate that is there already, by which places are
// told apart; nil: there is none. Its error says that conditions are too complex, or that there are too many ways.
func Work(ctx context.Context, e *estate.Estate, since clock.Instant, base *gate.Gate) (*Ways, error) {
	w := &Ways{
		since: since, estate: e, base: base, moves: map[string]*move{}, of: map[estate.Principal][]*move{},
		opened: map[opening]map[estate.Principal]int{},
		later:  map[int][]opened{}, impersonations: map[string][]*move{}, labels: labelsOf(e),
	}
	grown := e
	for cost := 0; cost <= mostSteps; cost++ {
		if cost == 0 || w.grows(cost) {
			grown = w.grown(cost)
			cells, err := differing.CompileCells(grown, differing.Scene{Base: base})
			if err != nil {
				return nil, err
			}
			w.stages = append(w.stages, cells)
		} else {
			w.stages = append(w.stages, w.stages[cost-1])
		}
		if err := w.look(ctx, cost); err != nil {
			return nil, err
		}
		if len(w.later) == 0 && !w.grows(cost+1) {
			break
		}
	}
	w.sort()
	return w, nil
}

// sort brings all that is gone through later into an order of its own.
func (w *Ways) sort() {
	keys := map[*move]string{}
	for key, m := range w.moves {
		keys[m] = key
		w.order = append(w.order, m)
		m.takers = slices.SortedFunc(maps.Keys(m.by), estate.Principal.Compare)
	}
	byKey := func(a, b *move) int { return strings.Compare(keys[a], keys[b]) }
	slices.SortFunc(w.order, byKey)
	for _, list := range w.impersonations {
		slices.SortFunc(list, byKey)
	}
	for _, list := range w.of {
		slices.SortFunc(list, byKey)
	}
}

// Estate is the estate as it is once every step has been taken that changes it. What comes by signing in as others and
// by other tags is beside it.
func (w *Ways) Estate() *estate.Estate { return w.last().Estate() }

func (w *Ways) last() *differing.Cells { return w.stages[len(w.stages)-1] }

// grows says whether a step of a cost changes the estate.
func (w *Ways) grows(cost int) bool {
	for _, m := range w.moves {
		for _, by := range m.by {
			if by.cost == cost && !m.impersonates() && m.Kind != Tags {
				return true
			}
		}
	}
	return false
}

// look looks for what can be done once all steps of a cost are taken, and for the steps that follow.
func (w *Ways) look(ctx context.Context, cost int) error {
	c := w.stages[cost]
	w.entries(c.Gate, cost)
	fresh := w.later[cost]
	delete(w.later, cost)
	if cost == 0 || w.stages[cost-1] != c {
		c.Choose(func(o *estate.Operation) bool { return len(o.Opens) > 0 }, nil)
		tree := c.Estate().Tree
		inside := make([]bool, tree.Len())
		err := c.Each(ctx, w.since, func(a differing.Access) bool {
			o := c.Estate().Operations[a.Operation]
			var rows []int
			for pile := range a.Piles.All() {
				for row := range pile.Rows(c.Estate()) {
					if row >= 0 {
						rows = append(rows, row)
						inside[row] = true
					}
				}
			}
			for _, row := range rows {
				r := tree.At(row)
				if up := tree.Rows[row].Parent; up > 0 && inside[up-1] && w.likewise(o, r) {
					continue
				}
				for _, who := range a.Subjects {
					fresh = append(fresh, opened{opening{o, r}, who, true})
				}
			}
			for _, row := range rows {
				inside[row] = false
			}
			return len(fresh) < mostOpenings
		})
		if err != nil {
			return err
		}
	}
	for len(fresh) > 0 {
		if len(fresh) >= mostOpenings {
			return fmt.Errorf("there are more than %d operations that open something, counted by subject and resource",
				mostOpenings)
		}
		one := fresh[len(fresh)-1]
		fresh = fresh[:len(fresh)-1]
		if one.own && slices.Contains(one.operation.Opens, "roles") { // as somebody else one writes into the other's roles
			w.take(Step{Kind: Rewrites, Where: one.resource.Address}, one.who,
				taken{cost: cost + 1, operation: one.operation, resource: one.resource})
		}
		if !w.open(one, cost) {
			continue
		}
		if err := w.follow(one, cost); err != nil {
			return err
		}
		// Whoever can act as this one can do it too, later.
		for _, m := range w.impersonations[one.resource.Address.System] {
			if m.reaches(one.who, one.resource) {
				for who, by := range m.by {
					w.later[by.cost+cost] = append(w.later[by.cost+cost], opened{one.opening, who, false})
				}
			}
		}
	}
	return nil
}

// likewise says whether an operation opens nothing on a resource that it does not open for what stands above, too.
func (w *Ways) likewise(o *estate.Operation, r *estate.Resource) bool {
	return r.Type != accountType && !w.estate.IsAuthority(r.System) &&
		(!slices.Contains(o.Opens, "tags") || len(w.labels.keys)+len(w.labels.sames) == 0)
}

// open notes what somebody can do at a cost; it is false if it is known at that cost or less.
func (w *Ways) open(o opened, cost int) bool {
	at := w.opened[o.opening]
	if at == nil {
		at = map[estate.Principal]int{}
		w.opened[o.opening] = at
	}
	if known, ok := at[o.who]; ok && known <= cost {
		return false
	}
	at[o.who] = cost
	return true
}

// take notes that a subject can take a step.
func (w *Ways) take(s Step, who estate.Principal, by taken) {
	key := s.key()
	m := w.moves[key]
	if m == nil {
		m = &move{Step: s, by: map[estate.Principal]taken{}}
		w.moves[key] = m
		if m.impersonates() {
			w.impersonations[m.Where.System] = append(w.impersonations[m.Where.System], m)
		}
	}
	if known, ok := m.by[who]; ok && known.cost <= by.cost {
		if known.cost == by.cost && by.first(known) {
			m.by[who] = by
		}
		return
	} else if !ok {
		w.of[who] = append(w.of[who], m)
	}
	m.by[who] = by
	if !m.impersonates() {
		return
	}
	for at, holders := range w.opened { // what others can do there it can do from then on
		if !at.resource.Address.Inside(m.Where) {
			continue
		}
		for other, c := range holders {
			if other != who && m.reaches(other, at.resource) {
				w.later[c+by.cost] = append(w.later[c+by.cost], opened{at, who, false})
			}
		}
	}
}

// entries finds the steps that take no operation: what can be asked for, joined and handed out.
func (w *Ways) entries(g *gate.Gate, cost int) {
	for _, gr := range estate.Sorted(w.estate.Grants) {
		if gr.OnRequest == nil {
			continue
		}
		for _, who := range g.Members(gr.To) {
			w.take(Step{Kind: Asks, Entry: gr.ID, Approvers: gr.OnRequest.Approvers, Longest: gr.OnRequest.Longest}, who,
				taken{cost: cost + 1, among: gr.To})
		}
	}
	for _, group := range estate.Sorted(w.estate.Groups) {
		for _, who := range g.Members(group.Stewards) {
			if !g.InGroup(who, group.ID) {
				w.take(Step{Kind: Joins, Entry: group.ID}, who, taken{cost: cost + 1, among: group.Stewards})
			}
		}
	}
	for _, d := range estate.Sorted(w.estate.Delegations) {
		if !d.ToSelf {
			continue
		}
		for _, who := range g.Members(d.To) {
			if d.ToMembersOf == nil || w.stages[0].Selects(d.ToMembersOf, who) {
				w.take(Step{Kind: Hands, Entry: d.ID}, who, taken{cost: cost + 1, among: d.To})
			}
			for _, t := range d.MayEdit {
				if t.Kind == estate.IsGroup && !t.Not && !g.InGroup(who, t.ID) && w.within(g, d, t.ID) {
					w.take(Step{Kind: Joins, Entry: t.ID}, who, taken{cost: cost + 1, among: d.To})
				}
			}
		}
	}
}

// within says whether all that a new member of a group gets lies within a delegation.
func (w *Ways) within(g *gate.Gate, d *estate.Delegation, group string) bool {
	if d.Within == nil {
		return true
	}
	with, who := w.estate.WithNewMember(group)
	roster := membership.New(with)
	for _, gr := range w.estate.Grants {
		if !slices.Contains(roster.Of(gr.To), who) {
			continue
		}
		for _, ref := range gr.Roles {
			if slices.ContainsFunc(g.RoleOperations(ref.ID),
				func(o *estate.Operation) bool { return !d.Within.Fit(o, w.estate.Edition) }) {
				return false
			}
		}
	}
	return true
}

// accountType is the type of resource that is somebody's account: its owner's.
const accountType = "account"

// follow finds the steps for which an operation on a resource is what it takes.
func (w *Ways) follow(o opened, cost int) error {
	r := o.resource
	by := taken{cost: cost + 1, operation: o.operation, resource: r}
	system := estate.Address{System: r.Address.System}
	for _, opens := range o.operation.Opens {
		s := Step{Where: r.Address}
		switch {
		case opens == "accounts" && r.Type == accountType:
			if r.Owner == nil {
				continue
			}
			s.Kind, s.Where = SignsIn, system
			for _, owner := range w.stages[0].Of(estate.Subjects{{Principal: *r.Owner}}) {
				if s.Who = owner; owner != o.who {
					w.take(s, o.who, by)
				}
			}
		case opens == "accounts" && w.estate.IsAuthority(r.System):
			w.signingSteps(o, by)
		case opens == "accounts":
			s.Kind = Acts
			w.take(s, o.who, by)
		case opens == "members":
			s.Kind = Assigns
			if r.Type == accountType {
				if r.Owner == nil || !slices.Contains(w.stages[0].Of(estate.Subjects{{Principal: *r.Owner}}), o.who) {
					continue // somebody else's account gets the roles
				}
				s.Where = system
			}
			w.take(s, o.who, by)
		case opens == "tags":
			if err := w.tagSteps(o, by); err != nil {
				return err
			}
		}
	}
	return nil
}

// grown gives the estate in which every step up to a cost is taken that changes it.
func (w *Ways) grown(cost int) *estate.Estate {
	if cost == 0 {
		return w.estate
	}
	e := w.estate.With(estate.Own("grants"), estate.Own("groups"), estate.Own("roles"))
	for key, m := range w.moves {
		var to estate.Subjects
		for who, by := range m.by {
			if by.cost <= cost {
				to = append(to, estate.SubjectTerm{Principal: who})
			}
		}
		if len(to) == 0 {
			continue
		}
		slices.SortFunc(to, func(a, b estate.SubjectTerm) int { return estate.Principal.Compare(a.Principal, b.Principal) })
		id := stepPrefix + key
		switch m.Kind {
		case Asks:
			gr := *w.estate.Grants[m.Entry]
			gr.ID, gr.To, gr.OnRequest = id, to, nil
			e.Grants[id] = &gr
		case Joins:
			group := *e.Groups[m.Entry]
			group.Members = slices.Concat(group.Members, to)
			e.Groups[m.Entry] = &group
		case Hands, Assigns, Rewrites:
			role := &estate.Role{Object: estate.Object{ID: id}, Allow: w.allows(m)}
			var on estate.Resources
			if m.Kind != Hands {
				on = estate.Resources{{In: pattern(m.Where)}}
			} else if on = w.estate.Delegations[m.Entry].On; on == nil {
				on = estate.Resources{{Everything: true}}
			}
			if len(role.Allow) > 0 {
				e.Roles[id] = role
				e.Grants[id] = &estate.Grant{Object: estate.Object{ID: id}, To: to, Roles: []estate.Ref{{ID: id}}, On: on}
			}
		}
	}
	return e
}

// allows lists the operations that a step gives.
func (w *Ways) allows(m *move) (out estate.Operations) {
	g := w.stages[0].Gate
	has := map[string]bool{}
	switch m.Kind {
	case Rewrites:
		return estate.Operations{{Kind: estate.All}}
	case Hands:
		d := w.estate.Delegations[m.Entry]
		for _, ref := range d.MayGrant {
			for _, o := range g.RoleOperations(ref.ID) {
				has[o.Name] = has[o.Name] || d.Within == nil || d.Within.Fit(o, w.estate.Edition)
			}
		}
	case Assigns:
		if w.every != nil {
			return w.every
		}
		for _, o := range w.estate.Operations {
			for id := range w.estate.Roles {
				if has[o.Name] = has[o.Name] || g.RoleHas(id, o.Name); has[o.Name] {
					break
				}
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(has)) {
		if has[name] {
			out = append(out, estate.OperationTerm{Name: name})
		}
	}
	if m.Kind == Assigns {
		w.every = out
	}
	return out
}

func pattern(a estate.Address) *estate.Pattern {
	p, err := estate.ParsePattern(a.String())
	if err != nil {
		panic("an address is no pattern: " + a.String())
	}
	return &p
}

// some says whether a region has something in it from the instant on.
func (w *Ways) some(g *gate.Gate, r region.Region, err error) (bool, error) {
	if err != nil || r == region.Empty {
		return false, err
	}
	s := g.Space()
	left, err := s.And(r, s.Between(w.since, maxInstant))
	return left != region.Empty, err
}
