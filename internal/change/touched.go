package change

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/membership"
	"hiddengate/internal/policyfile"
)

// Few is up to how many people an estate has for everybody to be looked at, whoever can be concerned.
const Few = 500

// altered lists, by section, the ids of the entries that are not the same in two estates.
type altered map[string][]string

func alteredIn(before, after *estate.Estate) altered {
	return estate.Differing(before, after, func(was, is estate.Head) bool { return same(was, is) })
}

// Altered lists the entries of the new estate that are not as they were in the old one, by file and line.
func (e *Effect) Altered() (out []*estate.Object) {
	for section, ids := range e.altered {
		for _, id := range ids {
			if o := e.After.Head(section, id); o != nil {
				out = append(out, o)
			}
		}
	}
	slices.SortFunc(out, func(a, b *estate.Object) int {
		return cmp.Or(strings.Compare(a.Source.File, b.Source.File), a.Source.Start-b.Source.Start)
	})
	return slices.Compact(out)
}

// Entries names the entries that are not as they were, those that came or went included, as in `grant books`.
func (e *Effect) Entries() (out []string) {
	for section, ids := range e.altered {
		for _, id := range ids {
			out = append(out, estate.Singular(section)+" "+id)
		}
	}
	slices.Sort(out)
	return out
}

// any says whether entries of some of the sections are not the same.
func (a altered) any(sections ...string) bool {
	return slices.ContainsFunc(sections, func(s string) bool { return len(a[s]) > 0 })
}

// edit is an old and a new estate with what is altered between them.
type edit struct {
	before, after *estate.Estate
	altered       altered
	rosters       [2]*membership.Roster
	few           int                       // up to how many people everybody is looked at
	known         bool                      // a gate at hand tells of the whole old estate
	relisted      estate.Resources          // once it is known what is concerned, where the estates list other resources
	differ        map[string]bool           // roles that are others, and those made of such; nil until it is asked for
	others        map[estate.Principal]bool // who are others themselves; nil until it is asked for
	gone          *gate.Entries             // of the old estate, those that go to groups that have other members
}

func (c *edit) both() [2]*estate.Estate { return [2]*estate.Estate{c.before, c.after} }

// differing names the subjects whose access can differ between two estates; nil for all of them. It looks at which
// entries are others: where an estate was read again in part, the rest is the same by its address.
func (c *edit) differing() map[estate.Principal]bool {
	before, after, altered := c.before, c.after, c.altered
	if before.Tree != after.Tree || before.Zone.Name() != after.Zone.Name() || before.Edition != after.Edition ||
		altered.any("systems", "catalogs") || c.otherSessions() {
		return nil
	}
	out := map[estate.Principal]bool{}
	c.subjects(out)
	if !altered.any("grants", "blocks", "roles", "scopes") {
		return out
	}
	for k, e := range c.both() {
		has := altered.part(e, "roles", "scopes")
		for _, g := range e.Grants {
			if has("grants", g) {
				c.add(out, k, g.To)
			}
		}
		for _, b := range e.Blocks {
			if has("blocks", b) {
				c.add(out, k, b.To)
			}
		}
	}
	return out
}

// otherSessions says that sessions are kept apart otherwise. A separation within a person refuses nobody anything:
// it is held against what is granted.
func (c *edit) otherSessions() bool {
	return slices.ContainsFunc(c.altered["separations"], func(id string) bool {
		was, is := c.before.Separations[id], c.after.Separations[id]
		return was != nil && was.Session || is != nil && is.Session
	})
}

// add adds whom a list of one of the estates selects.
func (c *edit) add(to map[estate.Principal]bool, k int, list estate.Subjects) {
	for _, p := range c.rosters[k].Of(list) {
		to[p] = true
	}
}

// touched names the subjects who are looked at, if access can differ for some alone; nil for all of them.
func (c *edit) touched(differing map[estate.Principal]bool) map[estate.Principal]bool {
	if differing == nil || len(c.before.People)+len(c.after.People) < 2*c.few {
		return nil
	}
	out := maps.Clone(differing)
	add := func(k int, list estate.Subjects) { c.add(out, k, list) }
	if c.known && !c.altered.any("tests", "scopes") {
		return out // the gate at hand runs the tests about all others
	}
	for k, e := range c.both() { // whoever the tests are about is needed to run them
		for _, t := range e.Tests {
			for _, list := range whomTestedBy(t) {
				add(k, list)
			}
		}
	}
	return out
}

// subjects adds those who are others, or who are in other groups than before.
func (c *edit) subjects(to map[estate.Principal]bool) {
	maps.Copy(to, c.otherSubjects())
	for id := range around(c.both(), c.altered["groups"]) {
		changed(c.rosters[0].Group(id), c.rosters[1].Group(id), to)
	}
}

// part tells of the entries of an estate whether they have a part in what is altered: are others, or name one of some
// sections that is or is made of such.
func (a altered) part(e *estate.Estate, sections ...string) func(section string, entry estate.Head) bool {
	differ, entries := map[string]map[string]bool{}, map[string]map[string]bool{}
	some := false
	for _, section := range sections {
		differ[section] = setOf(a[section])
		spread(differ[section], e, section)
		some = some || len(differ[section]) > 0
	}
	for section, ids := range a {
		entries[section] = setOf(ids)
	}
	return func(section string, entry estate.Head) bool {
		any := entries[section][entry.Head().ID]
		if !some || any {
			return any
		}
		if differ["groups"] == nil { // most are grants and blocks, of a large estate many
			switch of := entry.(type) {
			case *estate.Grant:
				return anyRef(of.Roles, differ["roles"]) || anyScope(of.On, differ["scopes"])
			case *estate.Block:
				return anyScope(of.On, differ["scopes"])
			}
		}
		policyfile.EachName(section, entry, func(_ string, n policyfile.Name) { any = any || differ[n.Section][n.ID] })
		return any
	}
}

func anyRef(refs []estate.Ref, among map[string]bool) bool {
	return slices.ContainsFunc(refs, func(r estate.Ref) bool { return among[r.ID] })
}

func anyScope(list estate.Resources, among map[string]bool) bool {
	return slices.ContainsFunc(list, func(t estate.ResourceTerm) bool { return t.Scope != "" && among[t.Scope] })
}

func setOf(ids []string) map[string]bool {
	out := map[string]bool{}
	for _, id := range ids {
		out[id] = true
	}
	return out
}

// rostersOf numbers the subjects of both estates, once where both have the same. That of the old one is given if it is
// known.
func rostersOf(before, after *estate.Estate, altered altered, known *membership.Roster) [2]*membership.Roster {
	if known == nil {
		known = membership.New(before)
	}
	if !altered.any("people", "services", "groups") {
		return [2]*membership.Roster{known, known}
	}
	return [2]*membership.Roster{known, known.For(after)}
}

// spread adds the entries of a section that are made of any whose ids are already there, until none is.
func spread(ids map[string]bool, e *estate.Estate, section string) {
	if len(ids) == 0 {
		return
	}
	for grown := true; grown; {
		grown = false
		e.Each(section, func(o *estate.Object) {
			if ids[o.ID] {
				return
			}
			policyfile.EachNested(section, e.Entry(section, o.ID), func(ref estate.Ref) {
				if ids[ref.ID] {
					ids[o.ID], grown = true, true
				}
			})
		})
	}
}

// around gives some groups and those they stand in, in either estate.
func around(both [2]*estate.Estate, ids []string) map[string]bool {
	out := setOf(ids)
	for grown := len(ids) > 0; grown; {
		grown = false
		for _, e := range both {
			for id, g := range e.Groups {
				if !out[id] && slices.ContainsFunc(g.Members, func(t estate.SubjectTerm) bool {
					return t.Kind == estate.IsGroup && out[t.ID]
				}) {
					out[id], grown = true, true
				}
			}
		}
	}
	return out
}

// changed adds those who are in one list and not in the other.
func changed(was, is []estate.Principal, out map[estate.Principal]bool) {
	in := map[estate.Principal]int{}
	for _, p := range was {
		in[p] |= 1
	}
	for _, p := range is {
		in[p] |= 2
	}
	for p, k := range in {
		if k != 3 {
			out[p] = true
		}
	}
}

// Others gives the entries of either estate that the other does not have, as estates of nothing else.
func (e *Effect) Others() (before, after *estate.Estate) {
	only := func(from *estate.Estate) *estate.Estate {
		var some []estate.Edit
		for section, ids := range e.altered {
			for _, id := range ids {
				if entry := from.Entry(section, id); entry != nil {
					some = append(some, estate.Put(section, entry))
				}
			}
		}
		out := estate.New().With(some...)
		out.Tree = &estate.Tree{}
		return out
	}
	return only(e.Before), only(e.After)
}
