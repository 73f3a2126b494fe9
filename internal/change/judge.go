package change

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// Breach is something in a change that its author may not do.
type Breach struct {
	Message  string
	Position diagnostic.Position // in the new files, or in the old ones for what is gone
}

// judge holds a change against what its author may do by the delegations of the old estate.
type judge struct {
	old, new *estate.Estate
	grown    *estate.Estate // the old one, with the members that the author may add and take out
	by       estate.Principal
	now      clock.Instant
	was      *gate.Gate // of old
	between  *gate.Gate // of grown
	is       *gate.Gate // of new
	pair     *gate.Pair // of grown and new
	may      []*delegation
	breaches []Breach
}

// delegation is one of the author's, resolved as it stood.
type delegation struct {
	*estate.Delegation
	operations map[string]bool // of the roles it lets the author hand out, within its ceiling
	to         map[estate.Principal]bool
}

// Judge tells what in a change its author may not do: by its effect, against the delegations of the old estate, and where a change has no effect
// yet, by what it would come to. Nothing is left to what the author says of it.
func Judge(before, after *estate.Estate, by estate.Principal, now clock.Instant) ([]Breach, error) {
	j := &judge{old: before, new: after, by: by, now: now}
	j.grown = j.withMembers()
	var err error
	if j.was, err = gate.Compile(before, nil); err != nil {
		return nil, err
	}
	if j.between, err = gate.Compile(j.grown, nil); err != nil {
		return nil, err
	}
	if j.is, err = gate.Compile(after, nil); err != nil {
		return nil, err
	}
	for _, d := range estate.Sorted(before.Delegations) {
		if j.was.Selects(d.To, by) {
			j.may = append(j.may, j.resolve(d))
		}
	}
	if err := j.members(); err != nil {
		return nil, err
	}
	if err := j.effect(); err != nil {
		return nil, err
	}
	j.grants()
	j.weakened()
	j.power()
	j.owned()
	slices.SortStableFunc(j.breaches, func(a, b Breach) int { return a.Position.Compare(b.Position) })
	return slices.CompactFunc(j.breaches, func(a, b Breach) bool { return a.Message == b.Message }), nil
}

func (j *judge) breach(at diagnostic.Position, format string, args ...any) {
	j.breaches = append(j.breaches, Breach{fmt.Sprintf(format, args...), at})
}

func (j *judge) resolve(d *estate.Delegation) *delegation {
	out := &delegation{Delegation: d, operations: map[string]bool{}, to: map[estate.Principal]bool{}}
	for _, ref := range d.MayGrant {
		for _, o := range j.was.RoleOperations(ref.ID) {
			if d.Within == nil || d.Within.Fit(o, j.old.Edition) {
				out.operations[o.Name] = true
			}
		}
	}
	if d.ToMembersOf == nil {
		for _, p := range j.between.Subjects() {
			out.to[p] = p.Kind != estate.IsAnonymous
		}
	}
	for _, p := range j.between.Members(d.ToMembersOf) {
		out.to[p] = true
	}
	return out
}

// own says whether a subject is the author, or a service that the author owns, before or after.
func (j *judge) own(p estate.Principal) bool {
	if p == j.by {
		return true
	}
	for k, e := range []*estate.Estate{j.old, j.new} {
		g := []*gate.Gate{j.was, j.is}[k]
		s := e.Subject(p)
		if s == nil || !s.Service || s.Owner == nil {
			continue
		}
		if *s.Owner == j.by || s.Owner.Kind == estate.IsGroup && e.Groups[s.Owner.ID] != nil && g.InGroup(j.by, s.Owner.ID) {
			return true
		}
	}
	return false
}

// withMembers gives the old estate with the new members of the groups that the author may edit, as far as those are known in it.
func (j *judge) withMembers() *estate.Estate {
	grown := *j.old
	grown.Groups = map[string]*estate.Group{}
	for id, g := range j.old.Groups {
		grown.Groups[id] = g
	}
	g, err := gate.Compile(j.old, nil)
	if err != nil {
		return &grown
	}
	for _, d := range j.old.Delegations {
		if !g.Selects(d.To, j.by) {
			continue
		}
		for _, t := range d.MayEdit {
			after := j.new.Groups[t.ID]
			if t.Kind != estate.IsGroup || t.Not || after == nil {
				continue
			}
			with := *j.old.Groups[t.ID]
			with.Members = nil
			for _, m := range after.Members {
				if known := m.Kind == estate.IsEveryone || m.Kind == estate.IsAnonymous || m.Kind == estate.IsGroup && j.old.Groups[m.ID] != nil || j.old.Subject(m.Principal) != nil; known {
					with.Members = append(with.Members, m)
				}
			}
			grown.Groups[t.ID] = &with
		}
	}
	return &grown
}

// members judges the memberships that the author may edit: nobody goes beyond the ceiling of a delegation that lets them, and nobody joins themselves.
func (j *judge) members() error {
	effect, err := Of(j.old, j.grown, nil, j.now)
	if err != nil {
		return err
	}
	var ceilings []*delegation
	for _, d := range j.may {
		if d.MayEdit != nil {
			ceilings = append(ceilings, d)
		}
	}
	for i := range effect.Lines {
		l := &effect.Lines[i]
		if !l.Way.More() {
			continue
		}
		for _, who := range l.Subjects {
			for _, op := range l.Operations {
				o := j.old.Operations[op]
				if !slices.ContainsFunc(ceilings, func(d *delegation) bool {
					return (d.Within == nil || d.Within.Fit(o, j.old.Edition)) && (d.ToSelf || !j.own(who))
				}) {
					j.breach(j.positionOf(who), "%s gets %s on %s by joining a group%s", who, op, effect.Where(l), j.selfText(who))
				}
			}
		}
	}
	return nil
}

func (j *judge) selfText(p estate.Principal) string {
	if j.own(p) {
		return ", and nobody gives to themselves"
	}
	return ", beyond what may be handed out"
}

func (j *judge) positionOf(p estate.Principal) diagnostic.Position {
	for _, e := range []*estate.Estate{j.new, j.old} {
		if s := e.Subject(p); s != nil {
			return s.Source.Position
		}
	}
	return diagnostic.Position{File: "."}
}

// effect judges everything that somebody gains, cell by cell.
func (j *judge) effect() error {
	effect, err := Of(j.grown, j.new, nil, j.now)
	if err != nil {
		return err
	}
	j.pair = effect.Gates
	for i := range effect.Lines {
		l := &effect.Lines[i]
		if !l.Way.More() {
			continue
		}
		gained := l.Gained()
		for _, who := range l.Subjects {
			for _, op := range l.Operations {
				if at := j.uncovered(l, gained, who, op); at != "" {
					asked := ""
					if l.OnRequest {
						asked = " on request"
					}
					j.breach(j.positionOf(who), "%s gets %s on %s%s, and no delegation to %s covers that", who, op, at, asked, j.by)
				}
			}
		}
	}
	return nil
}

// uncovered gives a resource on which what a subject gains is covered by no delegation; "" if there is none.
func (j *judge) uncovered(l *Line, gained gate.Cell, who estate.Principal, op string) string {
	var could []*delegation
	for _, d := range j.may {
		if d.operations[op] && d.to[who] && (d.ToSelf || !j.own(who)) && (d.Longest == 0 || l.endsBy(gained, j.now+clock.Instant(d.Longest.Microseconds()))) {
			could = append(could, d)
		}
	}
	for _, p := range l.Piles {
		for address := range p.Addresses() {
			if !slices.ContainsFunc(could, func(d *delegation) bool { return j.covers(d, address) }) {
				return address
			}
		}
	}
	return ""
}

// covers says whether a delegation covers an address, by the old estate: what the author makes of tags does not count.
func (j *judge) covers(d *delegation, address string) bool {
	if d.On == nil {
		return true
	}
	a, err := estate.ParseAddress(address)
	if err != nil {
		return false
	}
	r := j.old.Listed(a)
	if r == nil && j.old.Systems[a.System] != nil && a.Path != "" {
		r = j.old.Unlisted(a)
	}
	return r != nil && j.was.Covers(d.On, r)
}

// Gained is when it may be done now and might not before.
func (l *Line) Gained() gate.Cell {
	s := l.pair.Space()
	sure, err := s.Minus(l.New.Sure, l.Old.Sure)
	possible, errTwo := s.Minus(l.New.Possible, l.Old.Possible)
	if err != nil || errTwo != nil {
		return l.New
	}
	return gate.Cell{Sure: sure, Possible: possible}
}

// endsBy says whether all of a cell lies before an instant.
func (l *Line) endsBy(c gate.Cell, at clock.Instant) bool {
	s := l.pair.Space()
	before := s.Between(clock.Beginning, at)
	one, err := s.Contains(before, c.Sure)
	two, errTwo := s.Contains(before, c.Possible)
	return err == nil && errTwo == nil && one && two
}

// same says whether two entries say the same, wherever they stand.
func same(a, b any) bool { return sameValue(reflect.ValueOf(a), reflect.ValueOf(b)) }

var placeless = map[reflect.Type]bool{reflect.TypeFor[diagnostic.Position](): true, reflect.TypeFor[estate.Source](): true}

func sameValue(a, b reflect.Value) bool {
	if a.IsValid() != b.IsValid() || a.IsValid() && a.Type() != b.Type() {
		return false
	}
	if !a.IsValid() || placeless[a.Type()] {
		return true
	}
	if a.Type() == reflect.TypeFor[estate.Subjects]() { // the long ones of a large estate: reflection takes its time
		return slices.EqualFunc(a.Interface().(estate.Subjects), b.Interface().(estate.Subjects), func(a, b estate.SubjectTerm) bool {
			return a.Principal == b.Principal && a.Not == b.Not
		})
	}
	switch a.Kind() {
	case reflect.Pointer, reflect.Interface:
		if a.IsNil() || b.IsNil() {
			return a.IsNil() == b.IsNil()
		}
		return sameValue(a.Elem(), b.Elem())
	case reflect.Struct:
		for i := range a.NumField() {
			if a.Type().Field(i).IsExported() && !sameValue(a.Field(i), b.Field(i)) {
				return false
			}
		}
		if a.NumField() > 0 && a.CanInterface() && !hasExported(a.Type()) {
			return reflect.DeepEqual(a.Interface(), b.Interface())
		}
		return true
	case reflect.Slice:
		if a.Len() != b.Len() {
			return false
		}
		for i := range a.Len() {
			if !sameValue(a.Index(i), b.Index(i)) {
				return false
			}
		}
		return true
	}
	return a.CanInterface() && reflect.DeepEqual(a.Interface(), b.Interface())
}

func hasExported(t reflect.Type) bool {
	for i := range t.NumField() {
		if t.Field(i).IsExported() {
			return true
		}
	}
	return false
}

// named writes a few names and how many more there are.
func named(list []string) string {
	const most = 3
	if len(list) > most+1 {
		return fmt.Sprintf("%s and %d more", strings.Join(list[:most], ", "), len(list)-most)
	}
	return strings.Join(list, ", ")
}
