package change

import (
	"maps"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/gate/factspace"
	"hiddengate/internal/gate/placemap"
)

// concerned gives lists of resources of which one must cover a place, in its estate, for anybody's access to it to
// differ, be it listed or one that may come; nil where it may anywhere.
func (c *edit) concerned() *[2][]estate.Resources {
	before, after, altered := c.before, c.after, c.altered
	if before.Zone.Name() != after.Zone.Name() || before.Edition != after.Edition ||
		altered.any("catalogs") || c.otherSessions() {
		return nil
	}
	few := false
	if c.relisted, few = c.placesRelisted(); !few {
		return nil
	}
	for _, e := range c.both() {
		for _, s := range e.Separations {
			if s.Session {
				return nil // what is granted in one place tells which sessions there are, and so what may be done in another
			}
		}
	}
	out := &[2][]estate.Resources{}
	if c.relisted != nil {
		out[differing.Old], out[differing.New] = []estate.Resources{c.relisted}, []estate.Resources{c.relisted}
	}
	c.rewritten(out)
	c.rescoped(out)
	if altered.any("people", "services", "groups") && !c.regrouped(out) {
		return nil
	}
	for k, lists := range out {
		seen := map[string]bool{}
		out[k] = slices.DeleteFunc(lists, func(l estate.Resources) bool {
			key := placemap.ResourcesKey(l)
			was := seen[key]
			seen[key] = true
			return was
		})
	}
	return out
}

// placesRelisted gives the places in which the estates list other resources, or decide otherwise about what none lists;
// few is false where there are many, or where a system is of another kind.
func (c *edit) placesRelisted() (out estate.Resources, few bool) {
	var places []estate.Address
	for _, id := range c.altered["systems"] {
		was, is := c.before.Systems[id], c.after.Systems[id]
		if was == nil || is == nil {
			continue // which the trees tell
		}
		if was.Kind.ID != is.Kind.ID {
			return nil, false
		}
		one, two := *was, *is
		for _, s := range []*estate.System{&one, &two} {
			s.Object, s.Resources, s.Tags = estate.Object{}, nil, nil // which the resources tell
		}
		if !same(&one, &two) {
			places = append(places, estate.Address{System: id})
		}
	}
	more, few := c.after.Tree.DiffersFrom(c.before.Tree, placemap.MostRelisted)
	for _, a := range append(places, more...) {
		in, err := estate.ParsePattern(a.String())
		if err != nil {
			return nil, false
		}
		out = append(out, estate.ResourceTerm{In: &in})
	}
	return out, few
}

// rewritten adds where the grants and blocks hold that are others, or have a role that is. Of one that says where it
// holds otherwise, and all else as before, only what is said in one of the estates alone is added.
func (c *edit) rewritten(to *[2][]estate.Resources) {
	if !c.altered.any("grants", "blocks", "roles") {
		return
	}
	both := c.both()
	for k, e := range both {
		has, other := c.altered.part(e, "roles"), both[1-k]
		add := func(on, others estate.Resources, moved bool) {
			if moved {
				on = apart(on, others)
			}
			if len(on) > 0 {
				to[k] = append(to[k], on)
			}
		}
		for id, g := range e.Grants {
			if !has("grants", g) {
				continue
			}
			if was := other.Grants[id]; was == nil || c.hasOtherRole(g) {
				add(g.On, nil, false)
			} else {
				one, two := *g, *was
				one.On, two.On = nil, nil
				add(g.On, was.On, same(&one, &two))
			}
		}
		for id, b := range e.Blocks {
			if !has("blocks", b) {
				continue
			}
			if was := other.Blocks[id]; was == nil {
				add(b.On, nil, false)
			} else {
				one, two := *b, *was
				one.On, two.On = nil, nil
				add(b.On, was.On, same(&one, &two))
			}
		}
	}
}

// hasOtherRole says that a grant has a role that is another, or is made of one.
func (c *edit) hasOtherRole(g *estate.Grant) bool {
	if c.differ == nil {
		c.differ = setOf(c.altered["roles"])
		for _, e := range c.both() {
			spread(c.differ, e, "roles")
		}
	}
	return slices.ContainsFunc(g.Roles, func(ref estate.Ref) bool { return c.differ[ref.ID] })
}

// rescoped adds what is said in one of the estates alone of each scope.
func (c *edit) rescoped(to *[2][]estate.Resources) {
	both := c.both()
	for _, id := range c.altered["scopes"] {
		for k, e := range both {
			var others estate.Resources
			if other := both[1-k].Scopes[id]; other != nil {
				others = other.Resources
			}
			if s := e.Scopes[id]; s != nil {
				if on := apart(s.Resources, others); len(on) > 0 {
					to[k] = append(to[k], on)
				}
			}
		}
	}
}

// apart gives the terms of a list that another does not have. What none of these covers the one list covers exactly if
// the other does, as far as they have the rest in common.
func apart(one, other estate.Resources) (out estate.Resources) {
	has := map[string]bool{}
	for _, t := range other {
		has[t.String()] = true
	}
	for _, t := range one {
		if !has[t.String()] {
			t.Not = false
			out = append(out, t)
		}
	}
	return out
}

// mostSelves bounds how many people and services are others for all their places to be gathered in a large estate.
const mostSelves = 64

// regrouped adds where grants and blocks hold for those who are others, and those that go to a group that has other
// members; false where there are too many.
func (c *edit) regrouped(to *[2][]estate.Resources) bool {
	groups, selves := around(c.both(), c.altered["groups"]), maps.Clone(c.otherSubjects())
	if c.owns(groups) {
		c.subjects(selves)
	}
	if len(selves) > mostSelves && len(c.before.People)+len(c.after.People) >= 2*c.few {
		return false
	}
	for k, e := range c.both() {
		if len(selves) > 0 {
			add(to, k, gate.EntriesFor(e, c.rosters[k], selves))
		}
		if len(groups) > 0 {
			add(to, k, c.going(k, groups))
		}
	}
	return true
}

// add adds where grants and blocks hold.
func add(to *[2][]estate.Resources, k int, some *gate.Entries) {
	for _, g := range some.Grants {
		to[k] = append(to[k], g.On)
	}
	for _, b := range some.Blocks {
		to[k] = append(to[k], b.On)
	}
}

// going gives the grants and blocks of one of the estates that go to some groups.
func (c *edit) going(k int, groups map[string]bool) *gate.Entries {
	if k > 0 && estate.SameMap(c.before.Grants, c.after.Grants) && estate.SameMap(c.before.Blocks, c.after.Blocks) {
		return c.gone
	}
	c.gone = gate.EntriesTo(c.both()[k], func(to estate.Subjects) bool {
		return slices.ContainsFunc(to, func(t estate.SubjectTerm) bool { return t.Kind == estate.IsGroup && groups[t.ID] })
	})
	return c.gone
}

// owns says that some condition asks who owns, so that whoever is in a group may have what is given elsewhere to it.
func (c *edit) owns(groups map[string]bool) bool {
	return len(groups) > 0 && factspace.Gather(c.before, c.after).Owner
}
