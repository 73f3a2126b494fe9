package change

import (
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
)

// Cause is an entry whose change made somebody's access another.
type Cause struct {
	What     string // "grant crew-runs-domes"
	Position diagnostic.Position
}

// String names the cause with its place.
func (c Cause) String() string { return fmt.Sprintf("%s (%s)", c.What, c.Position.Short()) }

// cells are those of a line, or some of them, in one of the two estates.
type cells struct {
	gate       *gate.Gate
	subjects   []estate.Principal
	operations []string
	resources  []*estate.Resource // one for each pile; those that the estate does not have are left out
}

// of gives a line's cells in one of the estates.
func (l *Line) of(k differing.Side, g *gate.Gate) cells {
	c := cells{gate: g, subjects: l.Subjects, operations: l.Operations}
	for p := range l.Piles.All() {
		if r := p.Resource(k); r != nil {
			c.resources = append(c.resources, r)
		}
	}
	return c
}

// of gives a row's cell in one of the estates.
func (r Row) of(g *gate.Gate) cells {
	c := cells{gate: g, subjects: []estate.Principal{r.Subject}, operations: []string{r.Operation}}
	if a, err := estate.ParseAddress(r.Resource); err == nil {
		if at, err := g.Place(a); err == nil {
			c.resources = append(c.resources, at)
		}
	}
	return c
}

// selected lists those of the subjects whom a list selects.
func (c *cells) selected(list estate.Subjects) (out []estate.Principal) {
	for _, s := range c.subjects {
		if c.gate.Selects(list, s) {
			out = append(out, s)
		}
	}
	return out
}

// covered lists those of the resources that a list covers.
func (c *cells) covered(list estate.Resources) (out []*estate.Resource) {
	for _, r := range c.resources {
		if c.gate.Covers(list, r) {
			out = append(out, r)
		}
	}
	return out
}

// narrowed are the cells to which an entry applies; false if there are none.
func (c *cells) narrowed(to estate.Subjects, on estate.Resources, has func(operation string) bool) (cells, bool) {
	out := cells{gate: c.gate}
	for _, o := range c.operations {
		if has(o) {
			out.operations = append(out.operations, o)
		}
	}
	if len(out.operations) == 0 {
		return out, false
	}
	if out.resources = c.covered(on); len(out.resources) == 0 {
		return out, false
	}
	out.subjects = c.selected(to)
	return out, len(out.subjects) > 0
}

// granted are the cells that a grant gives, whenever that is.
func (c *cells) granted(gr *estate.Grant) (cells, bool) {
	return c.narrowed(gr.To, gr.On, func(o string) bool {
		return slices.ContainsFunc(gr.Roles, func(ref estate.Ref) bool { return c.gate.RoleHas(ref.ID, o) })
	})
}

// blocked are the cells that a block stops, whenever that is.
func (c *cells) blocked(b *estate.Block) (cells, bool) {
	e := c.gate.Estate()
	return c.narrowed(b.To, b.On, func(o string) bool {
		return e.Operations[o] != nil && b.Deny.Fit(e.Operations[o], e.Edition)
	})
}

// Causes lists the entries that differ and made a line so: those through which one of its subjects has, or had, one of
// its operations on one of its resources, or was kept from it.
func (e *Effect) Causes(l *Line) []Cause {
	return e.causes(l, l.of(differing.New, e.Gates.New), l.of(differing.Old, e.Gates.Old))
}

// CausesOf lists the entries that differ and made one cell so.
func (e *Effect) CausesOf(r Row) []Cause {
	return e.causes(r.Line, r.of(e.Gates.New), r.of(e.Gates.Old))
}

func (e *Effect) causes(l *Line, both ...cells) []Cause {
	f := finder{Effect: e, found: map[string]bool{}, differ: map[string]map[string]bool{}}
	for section, ids := range e.altered {
		f.differ[section] = setOf(ids)
	}
	for _, c := range both {
		f.through(c)
	}
	if len(f.out) == 0 || l.Old.Sure != l.Old.Possible || l.New.Sure != l.New.Possible {
		for _, c := range both {
			f.session(c)
		}
	}
	return f.out
}

// finder collects causes.
type finder struct {
	*Effect
	differ map[string]map[string]bool // by section, the ids of entries that are others
	found  map[string]bool
	out    []Cause
}

func (f *finder) add(section string, o *estate.Object) {
	what := estate.Singular(section) + " " + o.ID
	if f.differ[section][o.ID] && !f.found[what] {
		f.found[what] = true
		f.out = append(f.out, Cause{what, o.Source.Position})
	}
}

// through adds the entries that differ among those through which some cells are given or stopped.
func (f *finder) through(c cells) {
	e := c.gate.Estate()
	for _, s := range c.subjects {
		section := "people"
		if s.Kind == estate.IsService {
			section = "services"
		}
		if one := e.Subject(s); one != nil && s.Kind != estate.IsAnonymous && f.differ[section][s.ID] {
			f.add(section, &one.Object)
		}
	}
	for _, r := range c.resources {
		f.add("systems", &r.System.Object)
	}
	part := f.partIn(e)
	for _, gr := range part.grants {
		if given, ok := c.granted(gr); ok {
			f.add("grants", &gr.Object)
			for _, ref := range gr.Roles {
				f.roles(&given, ref.ID, map[string]bool{})
			}
			f.lists(&given, gr.To, gr.On)
		}
	}
	for _, b := range part.blocks {
		if stopped, ok := c.blocked(b); ok {
			f.add("blocks", &b.Object)
			f.lists(&stopped, b.To, b.On)
		}
	}
	for _, s := range estate.Sorted(e.Separations) {
		if s.Session {
			f.add("separations", &s.Object)
		}
	}
}

// session adds the grants that differ of those whom some cells are about, whatever they give: where a session limits
// roles, it hangs on all of them which sessions there are.
func (f *finder) session(c cells) {
	e := c.gate.Estate()
	if !slices.ContainsFunc(estate.Sorted(e.Separations), func(s *estate.Separation) bool { return s.Session }) {
		return
	}
	for _, gr := range f.partIn(e).grants {
		given := c
		if given.subjects = c.selected(gr.To); len(given.subjects) == 0 {
			continue
		}
		f.add("grants", &gr.Object)
		for _, role := range estate.Sorted(e.Roles) {
			if c.gate.IsOf(gr, role.ID) {
				f.add("roles", &role.Object)
			}
		}
		f.lists(&given, gr.To, gr.On)
	}
}

// havePart are the grants and blocks of an estate, by id, that differ or are made of what does: no other has a part in
// a change.
type havePart struct {
	grants []*estate.Grant
	blocks []*estate.Block
}

// partIn gives those of one of the two estates. They are worked out once.
func (e *Effect) partIn(of *estate.Estate) *havePart {
	if known := e.part[of]; known != nil {
		return known
	}
	has := e.altered.part(of, "roles", "groups", "scopes")
	out := &havePart{}
	for _, gr := range estate.Sorted(of.Grants) {
		if has("grants", gr) {
			out.grants = append(out.grants, gr)
		}
	}
	for _, b := range estate.Sorted(of.Blocks) {
		if has("blocks", b) {
			out.blocks = append(out.blocks, b)
		}
	}
	if e.part == nil {
		e.part = map[*estate.Estate]*havePart{}
	}
	e.part[of] = out
	return out
}

// lists adds the groups and scopes that differ in what they come to for some cells.
func (f *finder) lists(c *cells, to estate.Subjects, on estate.Resources) {
	seen := map[string]bool{}
	for _, t := range to {
		if t.Kind == estate.IsGroup {
			f.groups(c, t.ID, seen)
		}
	}
	seen = map[string]bool{}
	for _, t := range on {
		if t.Scope != "" {
			f.scopes(c, t.Scope, seen)
		}
	}
}

func (f *finder) groups(c *cells, id string, seen map[string]bool) {
	if seen[id] {
		return
	}
	seen[id] = true
	in := func(g *gate.Gate, s estate.Principal) bool { return g.Estate().Groups[id] != nil && g.InGroup(s, id) }
	group := c.gate.Estate().Groups[id]
	if f.differ["groups"][id] && slices.ContainsFunc(c.subjects, func(s estate.Principal) bool {
		return in(f.Gates.Old, s) != in(f.Gates.New, s)
	}) {
		f.add("groups", &group.Object)
	}
	for _, t := range group.Members {
		if t.Kind == estate.IsGroup {
			f.groups(c, t.ID, seen)
		}
	}
}

func (f *finder) scopes(c *cells, id string, seen map[string]bool) {
	if seen[id] {
		return
	}
	seen[id] = true
	scope := c.gate.Estate().Scopes[id]
	f.add("scopes", &scope.Object)
	for _, t := range scope.Resources {
		if t.Scope != "" {
			f.scopes(c, t.Scope, seen)
		}
	}
}

func (f *finder) roles(c *cells, id string, seen map[string]bool) {
	if seen[id] || !slices.ContainsFunc(c.operations, func(o string) bool { return c.gate.RoleHas(id, o) }) {
		return
	}
	seen[id] = true
	role := c.gate.Estate().Roles[id]
	f.add("roles", &role.Object)
	for _, ref := range role.Include {
		f.roles(c, ref.ID, seen)
	}
}

// Grants names the grants through which a line's cells were so, and are; none where they were or are not.
func (e *Effect) Grants(l *Line) (was, is []string) {
	find := func(c cells, who estate.Principal) (out []string) {
		c.subjects = []estate.Principal{who}
		for _, gr := range e.standing(c.gate, who) {
			if _, ok := c.granted(gr); ok {
				out = append(out, gr.ID)
			}
		}
		return out
	}
	other := l.Subjects[0]
	if e.other != (estate.Principal{}) {
		other = e.other
	}
	if l.Way != Gains {
		was = find(l.of(differing.Old, e.Gates.Old), l.Subjects[0])
	}
	if l.Way != Loses {
		is = find(l.of(differing.New, e.Gates.New), other)
	}
	return was, is
}

// standing lists the grants of an estate that go to somebody and need no request, by id.
func (e *Effect) standing(g *gate.Gate, who estate.Principal) []*estate.Grant {
	key := goingTo{g.Estate(), who}
	out, known := e.goes[key]
	if !known {
		for _, gr := range g.Estate().Grants {
			if gr.OnRequest == nil && g.Selects(gr.To, who) {
				out = append(out, gr)
			}
		}
		slices.SortFunc(out, func(a, b *estate.Grant) int { return strings.Compare(a.ID, b.ID) })
		if e.goes == nil {
			e.goes = map[goingTo][]*estate.Grant{}
		}
		e.goes[key] = out
	}
	return out
}

// goingTo is somebody in one of the estates.
type goingTo struct {
	estate *estate.Estate
	who    estate.Principal
}

// Direct counts the subjects of a line to whom a grant that names them gives some of it, or gave what is lost.
func (e *Effect) Direct(l *Line) int {
	k, g := differing.New, e.Gates.New
	if l.Way == Loses {
		k, g = differing.Old, e.Gates.Old
	}
	if e.direct[k] == nil {
		e.direct[k] = map[estate.Principal][]*estate.Grant{}
		for _, gr := range g.Estate().Grants {
			for _, t := range gr.To {
				if !t.Not && (t.Kind == estate.IsPerson || t.Kind == estate.IsService) {
					e.direct[k][t.Principal] = append(e.direct[k][t.Principal], gr)
				}
			}
		}
	}
	c, n := l.of(k, g), 0
	for _, s := range l.Subjects {
		one := c
		one.subjects = []estate.Principal{s}
		if slices.ContainsFunc(e.direct[k][s], func(gr *estate.Grant) bool {
			_, ok := one.granted(gr)
			return ok && (gr.OnRequest != nil) == l.OnRequest
		}) {
			n++
		}
	}
	return n
}

// access is an operation that a subject may do on a resource.
type access struct {
	who       estate.Principal
	operation string
	resource  *estate.Resource
}

// gives says whether a grant gives it, whenever that is.
func gives(g *gate.Gate, gr *estate.Grant, a access) bool {
	return g.Selects(gr.To, a.who) && g.Covers(gr.On, a.resource) &&
		slices.ContainsFunc(gr.Roles, func(ref estate.Ref) bool { return g.RoleHas(ref.ID, a.operation) })
}
