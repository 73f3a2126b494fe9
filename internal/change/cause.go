package change

import (
	"fmt"
	"slices"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// Cause is an entry whose change made somebody's access another.
type Cause struct {
	What     string // "grant crew-runs-domes"
	Position diagnostic.Position
}

// causes finds out which of the entries that differ stand behind a line, at one of its cells.
type causes struct {
	*Effect
	differ map[string]map[string]bool // by section, the ids of entries that are others
}

// Causes lists the entries that differ and made a line so: those through which its first subject has, or had, its first
// operation on its first resource.
func (e *Effect) Causes(l *Line) []Cause {
	c := causes{e, map[string]map[string]bool{}}
	c.note("people", e.altered["people"])
	c.note("services", e.altered["services"])
	c.note("groups", e.altered["groups"])
	c.note("roles", e.altered["roles"])
	c.note("scopes", e.altered["scopes"])
	c.note("grants", e.altered["grants"])
	c.note("blocks", e.altered["blocks"])
	c.note("systems", e.altered["systems"])
	var out []Cause
	for _, g := range []*gate.Gate{e.Gates.New, e.Gates.Old} {
		for _, cause := range c.through(g, l) {
			if !slices.ContainsFunc(out, func(o Cause) bool { return o.What == cause.What }) {
				out = append(out, cause)
			}
		}
	}
	return out
}

func (c *causes) note(section string, ids []string) {
	c.differ[section] = map[string]bool{}
	for _, id := range ids {
		c.differ[section][id] = true
	}
}

// through lists the entries that differ among those through which a gate gives or stops the line's first cell.
func (c *causes) through(g *gate.Gate, l *Line) (out []Cause) {
	e := g.Estate()
	add := func(section, one string, o *estate.Object) {
		if c.differ[section][o.ID] {
			out = append(out, Cause{one + " " + o.ID, o.Source.Position})
		}
	}
	who := l.Subjects[0]
	if s := e.Subject(who); s != nil && who.Kind != estate.IsAnonymous {
		if who.Kind == estate.IsService {
			add("services", "service", &s.Object)
		} else {
			add("people", "person", &s.Object)
		}
	}
	a, err := estate.ParseAddress(l.Piles[0].First())
	if err != nil {
		return out
	}
	if s := e.Systems[a.System]; s != nil {
		add("systems", "system", &s.Object)
	}
	r, err := g.Place(a)
	if err != nil {
		return out
	}
	list := func(subjects estate.Subjects, places estate.Resources) {
		for _, t := range subjects {
			if t.Kind == estate.IsGroup {
				c.groups(g.Estate(), t.ID, add, map[string]bool{})
			}
		}
		c.scopes(e, places, add, map[string]bool{})
	}
	for _, gr := range estate.Sorted(e.Grants) {
		if gives(g, gr, access{who, l.Operations[0], r}) {
			add("grants", "grant", &gr.Object)
			for _, ref := range gr.Roles {
				c.roles(e, ref.ID, add)
			}
			list(gr.To, gr.On)
		}
	}
	o := e.Operations[l.Operations[0]]
	for _, b := range estate.Sorted(e.Blocks) {
		if o != nil && g.Selects(b.To, who) && g.Covers(b.On, r) && b.Deny.Fit(o, e.Edition) {
			add("blocks", "block", &b.Object)
			list(b.To, b.On)
		}
	}
	return out
}

func (c *causes) roles(e *estate.Estate, id string, add func(section, one string, o *estate.Object)) {
	r := e.Roles[id]
	add("roles", "role", &r.Object)
	for _, ref := range r.Include {
		c.roles(e, ref.ID, add)
	}
}

func (c *causes) groups(e *estate.Estate, id string, add func(section, one string, o *estate.Object),
	seen map[string]bool) {
	if seen[id] {
		return
	}
	seen[id] = true
	group := e.Groups[id]
	add("groups", "group", &group.Object)
	for _, t := range group.Members {
		if t.Kind == estate.IsGroup {
			c.groups(e, t.ID, add, seen)
		}
	}
}

func (c *causes) scopes(e *estate.Estate, list estate.Resources, add func(section, one string, o *estate.Object),
	seen map[string]bool) {
	for _, t := range list {
		if t.Scope != "" && !seen[t.Scope] {
			seen[t.Scope] = true
			add("scopes", "scope", &e.Scopes[t.Scope].Object)
			c.scopes(e, e.Scopes[t.Scope].Resources, add, seen)
		}
	}
}

// Grants names the grants through which a line's first cell was so, and is; none where it was or is not.
func (e *Effect) Grants(l *Line) (was, is []string) {
	find := func(g *gate.Gate, who estate.Principal) (out []string) {
		a, err := estate.ParseAddress(l.Piles[0].First())
		if err != nil {
			return nil
		}
		r, err := g.Place(a)
		if err != nil {
			return nil
		}
		for _, gr := range estate.Sorted(g.Estate().Grants) {
			if gr.OnRequest == nil && gives(g, gr, access{who, l.Operations[0], r}) {
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
		was = find(e.Gates.Old, l.Subjects[0])
	}
	if l.Way != Loses {
		is = find(e.Gates.New, other)
	}
	return was, is
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

// String names the cause with its place.
func (c Cause) String() string { return fmt.Sprintf("%s (%s)", c.What, c.Position.Short()) }
