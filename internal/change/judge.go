package change

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/gate/membership"
	"hiddengate/internal/region"
)

// judge holds a change against what its author may do by the delegations of the old estate. Both estates have more
// people than there are: whoever is new, with nothing, in the old one too; somebody who is in no group; and for each
// group somebody who joins it, so that what a group gives is seen where it is empty.
type judge struct {
	old, new *estate.Estate
	grown    *estate.Estate // the old one, with the members that the author may add and take out
	ctx      context.Context
	by       estate.Principal
	now      clock.Instant
	was      *gate.Gate      // of old
	between  *gate.Gate      // of grown
	is       *gate.Gate      // of new
	pair     *differing.Pair // of grown and new
	may      []*delegation
	breaches []Breach
	joiners  map[estate.Principal]string // of groups, by who stands for those who join them
}

// delegation is one of the author's, resolved as it stood.
type delegation struct {
	*estate.Delegation
	roles map[string]bool
	to    map[estate.Principal]bool
}

// Judge tells what in a change its author may not do: what none of the rules permits. Nothing is left to what the
// author says of it.
func Judge(ctx context.Context, before, after *estate.Estate, by estate.Principal, now clock.Instant,
) ([]Breach, error) {
	if who := before.Subject(by); who == nil || !who.ActiveAt(before.Zone, now) {
		return []Breach{{Rule: AuthorActive, Message: fmt.Sprintf("%s is not active, and changes nothing", by),
			Who: by.String(), Position: positionOf(by, after, before)}}, nil
	}
	j := &judge{ctx: ctx, by: by, now: now, joiners: map[estate.Principal]string{}}
	if o := before.Owner; o != nil && slices.Contains(membership.New(before).Of(estate.Subjects{{Principal: *o}}), by) {
		return nil, nil
	}
	before, after = renamedAlike(before, after)
	j.populate(before, after)
	var err error
	if j.was, err = gate.Compile(j.old, nil); err != nil {
		return nil, err
	}
	j.grown = j.withMembers(j.edited())
	effect, err := Of(ctx, j.grown, j.new, How{Since: j.now, apart: j.apart(), all: true})
	if err != nil {
		return nil, err
	}
	j.pair = effect.Gates
	if err := j.gates(effect); err != nil {
		return nil, err
	}
	for _, d := range j.delegations() {
		if j.was.Selects(d.To, by) {
			j.may = append(j.may, j.resolve(d))
		}
	}
	if err := j.members(); err != nil {
		return nil, err
	}
	if err := j.effect(effect); err != nil {
		return nil, err
	}
	j.grants()
	j.entries()
	j.settings()
	j.roles()
	j.places()
	j.people()
	j.powers()
	slices.SortStableFunc(j.breaches, func(a, b Breach) int { return a.Position.Compare(b.Position) })
	return slices.CompactFunc(j.breaches, func(a, b Breach) bool { return a.Message == b.Message && a.Rule == b.Rule }),
		nil
}

// gates takes those of the effect, which answer for everybody in all but a large estate; there they are compiled.
func (j *judge) gates(effect *Effect) (err error) {
	j.between, j.is = effect.Gates.Old, effect.Gates.New
	if effect.only == nil {
		return nil
	}
	if j.between = j.was; j.grown != j.old {
		if j.between, err = gate.Compile(j.grown, nil); err != nil {
			return err
		}
	}
	j.is, err = gate.Compile(j.new, nil)
	return err
}

func isOrIn(g *gate.Gate, owner, who estate.Principal) bool {
	return owner == who || owner.Kind == estate.IsGroup && g.Estate().Groups[owner.ID] != nil && g.InGroup(who, owner.ID)
}

func (j *judge) breach(rule Rule, at diagnostic.Position, format string, args ...any) *Breach {
	j.breaches = append(j.breaches, Breach{Rule: rule, Message: fmt.Sprintf(format, args...), Position: at})
	return &j.breaches[len(j.breaches)-1]
}

// anyone is somebody new who is in no group.
const anyone = "somebody new"

// populate gives both estates the people who stand for those who come later. No id is like theirs.
func (j *judge) populate(before, after *estate.Estate) {
	more := []estate.Edit{estate.Own("people"), estate.Own("services")}
	old, is := before.With(more...), after.With(more...)
	both := [2]*estate.Estate{old, is}
	for _, e := range both {
		e.People[anyone] = newPerson(anyone)
	}
	for id := range after.People {
		if before.People[id] == nil {
			old.People[id] = newPerson(id)
		}
	}
	for id := range after.Services {
		if before.Services[id] == nil {
			one := newPerson(id)
			one.Service = true
			old.Services[id] = one
		}
	}
	groups := [2]map[string]*estate.Group{{}, {}}
	for k, all := range []map[string]*estate.Group{before.Groups, after.Groups} {
		for id, g := range all {
			who := estate.Principal{ID: "whoever joins group:" + id}
			j.joiners[who] = id
			for _, e := range both {
				if e.People[who.ID] == nil {
					e.People[who.ID] = newPerson(who.ID)
				}
			}
			if k == 1 && before.Groups[id] == g {
				groups[1][id] = groups[0][id] // what is shared needs no comparing
				continue
			}
			one := *g
			one.Members = append(one.Members[:len(one.Members):len(one.Members)], estate.SubjectTerm{Principal: who})
			groups[k][id] = &one
		}
	}
	for _, who := range slices.SortedFunc(maps.Keys(j.joiners), estate.Principal.Compare) {
		for _, e := range both[1:] {
			e.People[who.ID] = both[0].People[who.ID]
		}
	}
	is.People[anyone] = old.People[anyone]
	old.Groups, is.Groups = groups[0], groups[1]
	j.old, j.new = old, is
}

func newPerson(id string) *estate.Subject {
	return &estate.Subject{Object: estate.Object{ID: id}, Status: estate.Statuses[0]}
}

func (j *judge) resolve(d *estate.Delegation) *delegation {
	out := &delegation{Delegation: d, roles: map[string]bool{}, to: map[estate.Principal]bool{}}
	for _, ref := range d.MayGrant {
		out.roles[ref.ID] = true
	}
	if d.ToMembersOf == nil {
		for _, p := range j.between.Subjects() {
			out.to[p] = p.Kind != estate.IsAnonymous
		}
	}
	for _, g := range []*gate.Gate{j.was, j.between} { // who leaves with the same change could be handed it before
		for _, p := range g.Members(d.ToMembersOf) {
			out.to[p] = true
		}
	}
	return out
}

// within says whether an operation is within the ceiling of a delegation.
func (j *judge) within(d *delegation, operation string) bool {
	o := j.old.Operations[operation]
	return o != nil && (d.Within == nil || d.Within.Fit(o, j.old.Edition))
}

// own says whether a subject is the author, or a service that the author owns, before or after.
func (j *judge) own(p estate.Principal) bool {
	if p == j.by {
		return true
	}
	for k, e := range []*estate.Estate{j.old, j.new} {
		g := []*gate.Gate{j.was, j.is}[k]
		if s := e.Subject(p); s != nil && s.Service && s.Owner != nil && isOrIn(g, *s.Owner, j.by) {
			return true
		}
	}
	return false
}

// apart gives the delegations' places, by which what may come is told apart too.
func (j *judge) apart() (more [2][]estate.Resources) {
	for k, e := range []*estate.Estate{j.old, j.new} {
		for _, d := range estate.Sorted(e.Delegations) {
			if d.On != nil {
				more[k] = append(more[k], d.On)
			}
		}
	}
	return more
}

// eachGain visits what each subject may do, in some session, that it might not before. Its error says that there is
// too much to look at all.
func (j *judge) eachGain(e *Effect, visit func(*Line, estate.Principal, string)) error {
	if e.ComingInPart {
		j.breach(GainDelegated, diagnostic.Position{File: "hidden-gate.yaml", Line: 1, Column: 1},
			"there are too many ways in which a resource may come to tell what this change gives")
	}
	for _, lines := range [][]Line{e.Lines, e.Coming} {
		for i := range lines {
			l := &lines[i]
			if !l.gives() {
				continue
			}
			for _, who := range l.Subjects {
				for _, op := range l.Operations {
					visit(l, who, op)
				}
			}
		}
	}
	return nil
}

// effect judges everything that somebody gains, cell by cell.
func (j *judge) effect(effect *Effect) error {
	gained := func(l *Line, who estate.Principal, op string) { j.gain(effect, l, who, op) }
	if err := j.eachGain(effect, gained); err != nil {
		return err
	}
	if !j.old.LossesDelegated {
		return nil
	}
	for _, lines := range [][]Line{effect.Lines, effect.Coming} {
		for i := range lines {
			l := &lines[i]
			if l.Way != Loses && l.Way != Narrows && l.Way != Other {
				continue
			}
			for _, who := range l.Subjects {
				for _, op := range l.Operations {
					j.loss(effect, l, who, op)
				}
			}
		}
	}
	return nil
}

// gain judges one: on each resource a grant gives it that is new or has become another, of roles that a delegation to
// the author names.
func (j *judge) gain(e *Effect, l *Line, who estate.Principal, op string) {
	for p := range l.Piles.All() {
		for _, r := range j.both(p) {
			if p.May() == nil && r.is != nil && j.old.Listed(r.is.Address) == nil && j.expected(l, who, op, r) {
				continue
			}
			rule := j.gainOn(l, who, op, r)
			if rule == "" {
				continue
			}
			asked := ""
			if l.OnRequest {
				asked = " on request"
			}
			place := r.is.Address.String()
			if p.May() != nil {
				place = "what is added like " + Described(p)
			}
			b := j.breach(rule, positionOf(who, j.new, j.old), "%s gets %s on %s%s, and no delegation to %s covers that", who,
				op, place, asked, j.by)
			if rule == BlockStands || rule == GainByGrant {
				b.Message = fmt.Sprintf("%s gets %s on %s%s, and not by a grant of %s", who, op, place, asked, j.by)
			}
			b.Who, b.Where, b.Operation = who.String(), place, op
			if b.later = p.May() != nil; rule == GainDelegated {
				b.Would = j.wanted(who, op, r) // where a block or a tag decides, no delegation would help
			}
			return
		}
	}
}

// expected says that somebody could do so before to whatever would come where a resource is new, and would say
// nothing of itself.
func (j *judge) expected(l *Line, who estate.Principal, op string, r sides) bool {
	was := r.was
	if was == nil {
		was = &estate.Resource{Address: r.is.Address, System: r.is.System, Type: r.is.Type, Index: -1}
	}
	before, err := l.pair.Old.PossibleAs(who, op, was,
		func(g *estate.Grant) bool { return l.OnRequest == (g.OnRequest != nil) })
	if err != nil {
		return false
	}
	holds, err := l.pair.Space().Contains(before, l.New.Possible)
	return err == nil && holds
}

// wanted writes a delegation that would cover a gain.
func (j *judge) wanted(who estate.Principal, op string, r sides) string {
	for _, g := range estate.Sorted(j.new.Grants) {
		if gives(j.is, g, access{who, op, r.is}) {
			var roles []string
			for _, ref := range g.Roles {
				if j.is.RoleHas(ref.ID, op) {
					roles = append(roles, ref.ID)
				}
			}
			to := who.String()
			if id, ok := j.joiners[who]; ok {
				to = "group:" + id
			}
			return fmt.Sprintf("{to: %s, may-grant: [%s], on: %s, to-members-of: %s}", j.by, strings.Join(roles, ", "),
				r.is.Address, to)
		}
	}
	return ""
}

// sides is one resource as it is in the old and in the new estate; nil where it is not.
type sides struct{ was, is *estate.Resource }

// both gives the resources of a pile.
func (j *judge) both(p *differing.Pile) (out []sides) {
	if p.May() != nil {
		return []sides{{p.May().In(j.old), p.May().In(j.new)}}
	}
	for address := range p.Addresses() {
		a, err := estate.ParseAddress(address)
		if err != nil {
			continue
		}
		out = append(out, sides{placeIn(j.old, a), placeIn(j.new, a)})
	}
	return out
}

// placeIn gives a resource as an estate would have it if it judged whatever is not listed; nil if it has no such
// system.
func placeIn(e *estate.Estate, a estate.Address) *estate.Resource {
	if r := e.Listed(a); r != nil {
		return r
	}
	if e.Systems[a.System] == nil {
		return nil
	}
	return e.Unlisted(a)
}

// gainOn gives the rule that a gain on a resource breaks, "" if none.
func (j *judge) gainOn(l *Line, who estate.Principal, op string, r sides) Rule {
	if r.is == nil {
		return GainDelegated
	}
	for _, b := range j.old.Blocks {
		if r.was != nil && j.between.Stops(b, who, op, r.was) &&
			(j.new.Blocks[b.ID] == nil || !j.is.Stops(j.new.Blocks[b.ID], who, op, r.is) || j.asksOfChanged(b.When, who, r)) {
			return BlockStands
		}
	}
	handed := false
	for _, g := range estate.Sorted(j.new.Grants) {
		if l.OnRequest != (g.OnRequest != nil) || !gives(j.is, g, access{who, op, r.is}) || !j.handsOut(g, who, op, r) {
			continue
		}
		handed = true
		if rule := j.givenBy(l, g, access{who, op, r.was}); rule != "" {
			return rule
		}
	}
	if !handed {
		return GainByGrant
	}
	return ""
}

// givenBy gives the rule that a grant breaks by what somebody gets through it on a resource as it was, "" if none.
func (j *judge) givenBy(l *Line, g *estate.Grant, a access) Rule {
	rule := GainDelegated
	for _, d := range j.may {
		if !j.covers(d, a.resource) || !d.to[a.who] || !j.within(d, a.operation) || !j.inTime(d, l, g) ||
			!j.delegatedRoles(d, g, a.operation) {
			continue
		}
		if d.ToSelf || !j.own(a.who) {
			return ""
		}
		rule = NotToSelf
	}
	return rule
}

// asksOfChanged says that a condition asks about a fact of subject or resource that has become another.
func (j *judge) asksOfChanged(c *estate.Condition, who estate.Principal, r sides) bool {
	if c == nil || !asksOfSubjectOrResource(c) {
		return false
	}
	was, is := j.old.Subject(who), j.new.Subject(who)
	return was == nil || is == nil || !slices.Equal(was.Tags, is.Tags) || !slices.Equal(r.was.Tags, r.is.Tags) ||
		!same(r.was.Owner, r.is.Owner) ||
		r.is.Owner != nil && r.is.Owner.Kind == estate.IsGroup && j.between.Estate().Groups[r.is.Owner.ID] != nil &&
			j.between.InGroup(who, r.is.Owner.ID) != j.is.InGroup(who, r.is.Owner.ID)
}

func asksOfSubjectOrResource(c *estate.Condition) bool {
	return c.Owner != nil || c.Same != nil || c.Subject != nil || c.Resource != nil || c.Not != nil &&
		asksOfSubjectOrResource(c.Not) ||
		slices.ContainsFunc(c.Any, func(one estate.Condition) bool { return asksOfSubjectOrResource(&one) })
}

// handsOut says that a grant gives something that it did not, or not so.
func (j *judge) handsOut(g *estate.Grant, who estate.Principal, op string, r sides) bool {
	was := j.old.Grants[g.ID]
	return was == nil || r.was == nil || !gives(j.between, was, access{who, op, r.was}) || !j.pair.Narrower(g.ID) ||
		was.OnRequest != nil && g.OnRequest == nil ||
		slices.ContainsFunc(g.Roles, func(ref estate.Ref) bool { return slices.Contains(j.pair.RoleGrows(ref.ID), op) })
}

// delegatedRoles says whether all roles through which a grant gives an operation are such as a delegation names.
func (j *judge) delegatedRoles(d *delegation, g *estate.Grant, op string) bool {
	for _, ref := range g.Roles {
		if j.is.RoleHas(ref.ID, op) && !d.roles[ref.ID] {
			return false
		}
	}
	return true
}

// inTime says whether what is gained through a grant is over in the time of a delegation.
func (j *judge) inTime(d *delegation, l *Line, g *estate.Grant) bool {
	if d.Longest == 0 {
		return true
	}
	if l.OnRequest && g.OnRequest.Longest <= d.Longest {
		return true
	}
	return l.endsBy(l.Gained(), j.now+clock.Instant(d.Longest.Microseconds()))
}

// covers says whether a delegation covers a resource as it was: what the author makes of tags does not count.
func (j *judge) covers(d *delegation, was *estate.Resource) bool {
	return d.On == nil || was != nil && j.was.Covers(d.On, was)
}

func (j *judge) loss(e *Effect, l *Line, who estate.Principal, op string) {
	for p := range l.Piles.All() {
		for _, r := range j.both(p) {
			if r.was == nil || slices.ContainsFunc(j.may, func(d *delegation) bool {
				return j.covers(d, r.was) && d.to[who] && j.within(d, op) && j.handsRole(d, op)
			}) {
				continue
			}
			b := j.breach(LossDelegated, positionOf(who, j.new, j.old), "%s loses %s on %s, and no delegation to %s covers that",
				who, op, r.was.Address, j.by)
			b.Who, b.Where, b.Operation = who.String(), r.was.Address.String(), op
			return
		}
	}
}

func (j *judge) handsRole(d *delegation, op string) bool {
	return slices.ContainsFunc(d.MayGrant, func(ref estate.Ref) bool { return j.was.RoleHas(ref.ID, op) })
}

func positionOf(p estate.Principal, estates ...*estate.Estate) diagnostic.Position {
	for _, e := range estates {
		if s := e.Subject(p); s != nil && s.Source.File != "" {
			return s.Source.Position
		}
	}
	return diagnostic.Position{File: "."}
}

// Gained is when it may be done now, in some session, and might not before.
func (l *Line) Gained() differing.Cell {
	more, err := l.pair.Space().Minus(l.New.Possible, l.Old.Possible)
	if err != nil {
		return l.New
	}
	return differing.Cell{Possible: more}
}

// gives says whether somebody may do what they might not before, in no session. That they need not choose between
// roles any more gives them nothing.
func (l *Line) gives() bool { return l.Gained().Possible != region.Empty }

// endsBy says whether all of a cell lies before an instant.
func (l *Line) endsBy(c differing.Cell, at clock.Instant) bool {
	s := l.pair.Space()
	before := s.Between(clock.Beginning, at)
	one, err := s.Contains(before, c.Sure)
	two, errTwo := s.Contains(before, c.Possible)
	return err == nil && errTwo == nil && one && two
}

// named writes a few names and how many more there are.
func named(list []string) string {
	const most = 3
	if len(list) > most+1 {
		return fmt.Sprintf("%s and %d more", strings.Join(list[:most], ", "), len(list)-most)
	}
	return strings.Join(list, ", ")
}
