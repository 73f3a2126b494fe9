// Package gate is the engine: an estate compiled so that it answers whether a subject may do an operation on a
// resource, as a region of contexts. The clock and the elevations are arguments; it does no I/O.
package gate

import (
	"errors"
	"fmt"
	"maps"
	"slices"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/region"
)

// Gate answers for one estate and one set of elevations. It is not safe for concurrent use.
type Gate struct {
	estate   *estate.Estate
	space    *region.Space
	subjects []*subject
	index    map[estate.Principal]*subject
	groups   map[string]set
	roles    map[string]*role
	grants   []*grant
	blocks   []*block
	sessions []*estate.Separation // those within a session
	facts    facts
	places   *places
	numbers  map[string]uint64   // of operations
	valid    []map[string]uint64 // of each listed resource: the numbers of the operations valid on it
	answers  map[uint64]region.Region
	inRoles  map[cell]region.Region // answers in a session that names roles, or is one of several
}

// subject is a person, a service or anonymous with the entries whose `to` has it.
type subject struct {
	*estate.Subject
	principal estate.Principal
	number    int
	active    region.Region
	grants    []*grant
	blocks    []*block
	single    bool // there is one possible session where none is named, whatever is lent
}

type role struct {
	*estate.Role
	operations map[string]region.Region // by name, with the time in which the role has it
	includes   map[string]bool          // itself and all it includes
}

type grant struct {
	*estate.Grant
	number int
	on     int           // of its list of resources
	region region.Region // of its condition, starts and ends
	lent   map[estate.Principal]region.Region
}

type block struct {
	*estate.Block
	number int
	on     int
	region region.Region
}

// cell names an answer in a session with these roles.
type cell struct {
	number uint64
	roles  string
}

// Compile makes the gate of an estate. Its error is a diagnostic.List that names entries whose conditions are too
// complex.
func Compile(e *estate.Estate, elevations []estate.Elevation) (*Gate, error) {
	g := &Gate{
		estate: e, index: map[estate.Principal]*subject{}, groups: map[string]set{}, roles: map[string]*role{},
		answers: map[uint64]region.Region{}, inRoles: map[cell]region.Region{},
	}
	g.places = newPlaces(g)
	g.number()
	g.facts = gatherFacts(e)
	g.space = region.NewSpace(e.Zone, g.facts.dimensions(), region.DefaultBudget)
	var bad diagnostic.List
	report := func(what string, o *estate.Object, err error) {
		if err != nil {
			bad = append(bad, diagnostic.Diagnostic{
				Severity: diagnostic.Error, Position: o.Source.Position,
				Message: fmt.Sprintf("%s %s: %s", what, o.ID, err),
				Help:    "name fewer things in its conditions, or split it into several",
			})
		}
	}
	for _, s := range slices.Concat(estate.Sorted(e.People), estate.Sorted(e.Services), []*estate.Subject{estate.AnonymousSubject}) {
		sub := &subject{Subject: s, principal: s.Principal(), number: len(g.subjects)}
		if s == estate.AnonymousSubject {
			sub.principal = estate.Principal{Kind: estate.IsAnonymous}
		}
		var err error
		if s.Status == estate.Statuses[0] {
			sub.active, err = g.during(s.Starts, s.Ends)
			report("subject", &s.Object, err)
		}
		g.subjects = append(g.subjects, sub)
		g.index[sub.principal] = sub
	}
	for _, id := range slices.Sorted(maps.Keys(e.Groups)) {
		g.group(id)
	}
	for _, id := range slices.Sorted(maps.Keys(e.Roles)) {
		_, err := g.role(id)
		report("role", &e.Roles[id].Object, err)
	}
	for _, gr := range estate.Sorted(e.Grants) {
		compiled := &grant{Grant: gr, number: len(g.grants), on: g.places.add(gr.On)}
		var err error
		compiled.region, err = g.entryRegion(gr.When, gr.Starts, gr.Ends)
		report("grant", &gr.Object, err)
		if gr.OnRequest != nil {
			compiled.lent, err = g.lent(gr.ID, elevations)
			report("grant", &gr.Object, err)
		}
		g.grants = append(g.grants, compiled)
		g.selected(gr.To).each(func(i int) { g.subjects[i].grants = append(g.subjects[i].grants, compiled) })
	}
	for _, b := range estate.Sorted(e.Blocks) {
		compiled := &block{Block: b, number: len(g.blocks), on: g.places.add(b.On)}
		var err error
		compiled.region, err = g.entryRegion(b.When, b.Starts, b.Ends)
		report("block", &b.Object, err)
		g.blocks = append(g.blocks, compiled)
		g.selected(b.To).each(func(i int) { g.subjects[i].blocks = append(g.subjects[i].blocks, compiled) })
	}
	for _, s := range estate.Sorted(e.Separations) {
		if s.Session {
			g.sessions = append(g.sessions, s)
		}
	}
	for what, n := range map[string][2]int{"subjects": {len(g.subjects), maxSubjects}, "operations": {len(e.Operations), maxOperations}, "resources": {e.Tree.Len(), maxResources}} {
		if n[0] > n[1] {
			bad = append(bad, diagnostic.Diagnostic{Severity: diagnostic.Error, Message: fmt.Sprintf("the estate has %d %s; at most %d can be judged", n[0], what, n[1])})
		}
	}
	if len(bad) > 0 {
		return nil, bad.Sort()
	}
	for _, s := range g.subjects {
		s.single = len(g.sessions) == 0 || g.breaks(rolesOf(s.grants)) == nil
	}
	return g, nil
}

// Estate gives what the gate was made of.
func (g *Gate) Estate() *estate.Estate { return g.estate }

// Space gives the space of the gate's regions.
func (g *Gate) Space() *region.Space { return g.space }

// number numbers the operations, and notes for each listed resource which are valid on it.
func (g *Gate) number() {
	g.numbers = map[string]uint64{}
	for i, o := range estate.Sorted(g.estate.Operations) {
		g.numbers[o.Name] = uint64(i)
	}
	type kindAndType struct{ kind, typ string }
	byType := map[kindAndType]map[string]uint64{}
	g.valid = make([]map[string]uint64, g.estate.Tree.Len())
	for r := range g.estate.Tree.All() {
		i := r.Index
		k := kindAndType{r.System.Kind.ID, r.Type}
		if byType[k] == nil {
			byType[k] = map[string]uint64{}
			for _, o := range g.estate.Offer(k.kind).On(k.typ) {
				byType[k][o.Name] = g.numbers[o.Name]
			}
		}
		g.valid[i] = byType[k]
	}
}

// What an answer's number has room for.
const (
	maxSubjects   = 1 << 24
	maxOperations = 1 << 12
	maxResources  = 1 << 28
)

// answerNumber is one number for a subject, an operation and a listed resource.
func answerNumber(s *subject, operation uint64, r *estate.Resource) uint64 {
	return uint64(s.number)<<40 | operation<<28 | uint64(r.Index)
}

// entryRegion is the region of a grant's or block's own condition and dates.
func (g *Gate) entryRegion(when *estate.Condition, starts, ends *estate.Moment) (region.Region, error) {
	during, err := g.during(starts, ends)
	if err != nil || when == nil {
		return during, err
	}
	r, err := g.condition(when)
	if err != nil {
		return region.Empty, err
	}
	return g.space.And(during, r)
}

// during is the time from starts through ends; either may be nil.
func (g *Gate) during(starts, ends *estate.Moment) (region.Region, error) {
	r := region.Full
	var err error
	if starts != nil {
		if starts.IsDate {
			r, err = g.space.Not(g.space.Until(starts.Date.Before()))
		} else {
			r = g.space.Between(starts.Instant, maxInstant)
		}
	}
	if ends != nil && err == nil {
		until := g.space.Until(ends.Date)
		if !ends.IsDate {
			until = g.space.Between(minInstant, ends.Instant)
		}
		r, err = g.space.And(r, until)
	}
	return r, err
}

// lent is, for each subject to whom the grant is lent, when.
func (g *Gate) lent(id string, elevations []estate.Elevation) (map[estate.Principal]region.Region, error) {
	out := map[estate.Principal]region.Region{}
	for _, el := range elevations {
		if el.Grant == id {
			r, err := g.space.Or(out[el.Subject], g.space.Between(el.From, el.To))
			if err != nil {
				return nil, err
			}
			out[el.Subject] = r
		}
	}
	return out, nil
}

// role compiles a role and those it includes.
func (g *Gate) role(id string) (*role, error) {
	if r := g.roles[id]; r != nil {
		return r, nil
	}
	source := g.estate.Roles[id]
	r := &role{Role: source, operations: map[string]region.Region{}, includes: map[string]bool{id: true}}
	for _, ref := range source.Include {
		included, err := g.role(ref.ID)
		if err != nil {
			return nil, err
		}
		maps.Copy(r.includes, included.includes)
		for name, when := range included.operations {
			if r.operations[name], err = g.space.Or(r.operations[name], when); err != nil {
				return nil, err
			}
		}
	}
	during, err := g.during(source.Starts, source.Ends)
	if err != nil {
		return nil, err
	}
	for name, o := range g.estate.Operations {
		in, out := false, false
		for _, t := range source.Allow {
			if t.Fits(o, g.estate.Edition) {
				in, out = in || !t.Not, out || t.Not
			}
		}
		switch {
		case out:
			delete(r.operations, name)
		case in:
			r.operations[name] = region.Full
		}
		if when, ok := r.operations[name]; ok {
			if r.operations[name], err = g.space.And(when, during); err != nil {
				return nil, err
			}
		}
	}
	g.roles[id] = r
	return r, nil
}

// ErrInvalid says that a question can't be asked: of things that exist, but do not go together.
var ErrInvalid = errors.New("invalid")
