package change

import (
	"slices"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/differing"
)

// grants judges all that new and wider grants can come to: each of their roles, for each of their subjects, in each
// place, lies inside a delegation.
func (j *judge) grants() {
	for _, g := range estate.Sorted(j.new.Grants) {
		was := j.old.Grants[g.ID]
		if was != nil && was == g {
			continue
		}
		if where := j.outside(was, g); where != "" {
			b := j.breach(GrantInside, g.Source.Position,
				"grant %s is new or wider, and no delegation to %s covers all that it can come to: %s", g.ID, j.by, where)
			b.Where = where
		}
	}
}

// part is one role of a grant for one entry of its `to`, with the delegations that let the author hand that out
// somewhere.
type part struct {
	fresh bool // the grant did not have it, wherever
	by    []*delegation
}

// outside names a place, role or subject of a grant that is in no delegation and was not in the grant before; "" if
// there is none.
func (j *judge) outside(was, g *estate.Grant) string {
	all := was == nil || !j.pair.Narrower(g.ID) || j.eased(was, g)
	lessNot := was != nil && slices.ContainsFunc(was.To, func(t estate.SubjectTerm) bool {
		return t.Not && !slices.ContainsFunc(g.To,
			func(o estate.SubjectTerm) bool { return o.Not && o.Principal == t.Principal })
	})
	var parts []part
	fresh := false
	for _, ref := range g.Roles {
		for _, t := range g.To {
			if t.Not {
				continue
			}
			one := part{fresh: all || lessNot || !slices.ContainsFunc(was.Roles,
				func(r estate.Ref) bool { return r.ID == ref.ID }) ||
				!slices.ContainsFunc(was.To, func(o estate.SubjectTerm) bool { return !o.Not && o.Principal == t.Principal })}
			fresh = fresh || one.fresh
			for _, d := range j.may {
				if d.roles[ref.ID] && j.withinAll(d, ref.ID) && j.mayGet(d, g, t) && j.shortEnough(d, g) {
					one.by = append(one.by, d)
				}
			}
			if one.fresh && one.by == nil {
				return "role " + ref.ID + " to " + t.Principal.String()
			}
			parts = append(parts, one)
		}
	}
	if !fresh && same(was.On, g.On) {
		return ""
	}
	lists := [2][]estate.Resources{nil, {g.On}}
	if was != nil {
		lists[0] = append(lists[0], was.On)
	}
	for _, d := range j.may {
		if d.On != nil {
			lists[0] = append(lists[0], d.On)
		}
	}
	found := ""
	whole := differing.EachPlace(j.old, j.new, lists, func(before, after *estate.Resource) bool {
		if after == nil || !j.is.Covers(g.On, after) {
			return true
		}
		if before == nil {
			before = placeIn(j.old, after.Address)
		}
		had := was != nil && before != nil && j.was.Covers(was.On, before)
		for _, p := range parts {
			if (p.fresh || !had) && !slices.ContainsFunc(p.by, func(d *delegation) bool { return j.covers(d, before) }) {
				found = after.Address.String()
				if after.Index < 0 {
					found = "what may come at " + found
				}
				return false
			}
		}
		return true
	})
	if found == "" && !whole {
		return "there are too many places to tell"
	}
	return found
}

// eased says whether something on request may be had for longer or more easily, or without being asked for.
func (j *judge) eased(was, is *estate.Grant) bool {
	if was.OnRequest == nil {
		return false
	}
	a, b := was.OnRequest, is.OnRequest
	return b == nil || b.Longest > a.Longest || b.Approvals < a.Approvals || a.Reason && !b.Reason ||
		a.Ticket && !b.Ticket || b.Emergency && !a.Emergency || b.Patience() > a.Patience()
}

// withinAll says whether all that a role has is within the ceiling of a delegation.
func (j *judge) withinAll(d *delegation, role string) bool {
	return d.Within == nil || !slices.ContainsFunc(j.is.RoleOperations(role),
		func(o *estate.Operation) bool { return !j.within(d, o.Name) })
}

// mayGet says whether a delegation lets all have something whom an entry of a grant's `to` selects, those who join a
// group later included.
func (j *judge) mayGet(d *delegation, g *estate.Grant, t estate.SubjectTerm) bool {
	if t.Kind == estate.IsEveryone && d.ToMembersOf != nil {
		return false
	}
	for _, p := range j.is.Members(estate.Subjects{{Principal: t.Principal}}) {
		if j.is.Selects(g.To, p) && (!d.to[p] || !d.ToSelf && j.own(p)) {
			return false
		}
	}
	return t.Kind != estate.IsGroup || d.ToMembersOf == nil || d.to[estate.Principal{ID: "whoever joins group:" + t.ID}]
}

// shortEnough says whether a grant ends, or is lent, within the time of a delegation.
func (j *judge) shortEnough(d *delegation, g *estate.Grant) bool {
	if d.Longest == 0 {
		return true
	}
	until := j.now + clock.Instant(d.Longest.Microseconds())
	if g.Ends != nil && (g.Ends.IsDate && g.Ends.OverAt(j.new.Zone, until) || !g.Ends.IsDate && g.Ends.Instant <= until) {
		return true
	}
	return g.OnRequest != nil && g.OnRequest.Longest <= d.Longest
}
