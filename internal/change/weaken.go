package change

import (
	"maps"
	"slices"

	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// oldScope marks the scopes of the old estate, where those of both stand side by side. No id begins so.
const oldScope = "\x00"

// both gives an estate that knows the new scopes, and the old ones under other names.
func (j *judge) both() *estate.Estate {
	e := *j.new
	e.Scopes = maps.Clone(j.new.Scopes)
	for id, s := range j.old.Scopes {
		e.Scopes[oldScope+id] = &estate.Scope{Object: s.Object, Resources: asOld(s.Resources)}
	}
	return &e
}

func asOld(list estate.Resources) estate.Resources {
	out := slices.Clone(list)
	for i := range out {
		if out[i].Scope != "" {
			out[i].Scope = oldScope + out[i].Scope
		}
	}
	return out
}

// grants judges what new and wider grants would come to, on resources and subjects that are not there yet too.
func (j *judge) grants() {
	scopes := j.both()
	for _, g := range estate.Sorted(j.new.Grants) {
		was := j.old.Grants[g.ID]
		if was != nil && !j.wider(scopes, was, g) {
			continue
		}
		if !slices.ContainsFunc(j.may, func(d *delegation) bool { return j.grantCovered(scopes, d, g) }) {
			j.breach(g.Source.Position, "grant %s is new or wider, and no delegation to %s covers all that it can come to", g.ID, j.by)
		}
	}
}

// wider says whether a grant may come to more than it did: subjects, operations, places, times, conditions or the way it is lent.
func (j *judge) wider(scopes *estate.Estate, was, is *estate.Grant) bool {
	for _, ref := range is.Roles {
		for _, o := range j.is.RoleOperations(ref.ID) {
			if !slices.ContainsFunc(was.Roles, func(r estate.Ref) bool { return j.was.RoleHas(r.ID, o.Name) }) {
				return true
			}
		}
		if old := j.old.Roles[ref.ID]; old == nil || !same(old.Starts, j.new.Roles[ref.ID].Starts) || !same(old.Ends, j.new.Roles[ref.ID].Ends) {
			return true
		}
	}
	return !j.pair.Narrower(is.ID) || !same(was.OnRequest, is.OnRequest) && is.OnRequest == nil ||
		j.toldMore(was.To, is.To) || !gate.Within(scopes, is.On, asOld(was.On))
}

// toldMore says whether a list of subjects names what it did not, or takes less away.
func (j *judge) toldMore(was, is estate.Subjects) bool {
	for _, t := range is {
		if !t.Not && !slices.ContainsFunc(was, func(o estate.SubjectTerm) bool { return !o.Not && o.Principal == t.Principal }) {
			return true
		}
	}
	for _, t := range was {
		if t.Not && !slices.ContainsFunc(is, func(o estate.SubjectTerm) bool { return o.Not && o.Principal == t.Principal }) {
			return true
		}
	}
	return false
}

// grantCovered says whether a delegation covers a grant as a whole.
func (j *judge) grantCovered(scopes *estate.Estate, d *delegation, g *estate.Grant) bool {
	for _, ref := range g.Roles {
		for _, o := range j.is.RoleOperations(ref.ID) {
			if !d.operations[o.Name] {
				return false
			}
		}
	}
	for _, t := range g.To {
		if !t.Not && !j.mayGet(d, t.Principal) {
			return false
		}
	}
	if d.Longest > 0 {
		until := j.now + clock.Instant(d.Longest.Microseconds())
		ends := g.Ends != nil && (g.Ends.IsDate && g.Ends.OverAt(j.new.Zone, until) || !g.Ends.IsDate && g.Ends.Instant <= until)
		if !ends && (g.OnRequest == nil || g.OnRequest.Longest > d.Longest) {
			return false
		}
	}
	return d.On == nil || j.placesCovered(scopes, d, g.On)
}

// placesCovered says whether a delegation covers all that a list of resources can come to. A place that it covers as it is it covers with what will stand in it.
func (j *judge) placesCovered(scopes *estate.Estate, d *delegation, list estate.Resources) bool {
	for _, t := range gate.Flat(scopes, list) {
		if t.Not || t.In != nil && t.In.Plain() && j.old.Listed(t.In.Address()) != nil && j.covers(d, t.In.Address().String()) {
			continue
		}
		if !gate.Within(scopes, estate.Resources{t}, asOld(d.On)) {
			return false
		}
	}
	return true
}

// mayGet says whether a delegation lets a principal of a grant have something, those who join a group later included.
func (j *judge) mayGet(d *delegation, p estate.Principal) bool {
	switch p.Kind {
	case estate.IsPerson, estate.IsService:
		return d.to[p] && (d.ToSelf || !j.own(p))
	case estate.IsGroup:
		for _, t := range slices.Concat(d.ToMembersOf, d.MayEdit) {
			if !t.Not && t.Principal == p {
				return d.ToSelf || !j.is.InGroup(j.by, p.ID)
			}
		}
		if j.new.Groups[p.ID].Match != nil {
			return false
		}
		for _, m := range j.is.Members(estate.Subjects{{Principal: p}}) {
			if !d.to[m] || !d.ToSelf && j.own(m) {
				return false
			}
		}
		return true
	}
	return false
}

// weakened judges what holds others back: blocks, separations, guarantees, tests, severities, acceptances, settings and the meaning of operations.
func (j *judge) weakened() {
	settings := diagnostic.Position{File: "hidden-gate.yaml", Line: 1, Column: 1}
	scopes := j.both()
	for _, b := range estate.Sorted(j.old.Blocks) {
		switch is := j.new.Blocks[b.ID]; {
		case is == nil:
			j.breach(b.Source.Position, "block %s is gone", b.ID)
		case !j.pair.Holds(b.ID) || !gate.Within(scopes, asOld(b.On), is.On) || !j.stillStops(b, is):
			j.breach(is.Source.Position, "block %s stops less than it did, or otherwise", b.ID)
		}
	}
	for _, s := range estate.Sorted(j.old.Separations) {
		if is := j.new.Separations[s.ID]; is == nil {
			j.breach(s.Source.Position, "separation %s is gone", s.ID)
		} else if is.AtMost > s.AtMost || is.Session && !s.Session || slices.ContainsFunc(s.Roles, func(r estate.Ref) bool {
			return !slices.ContainsFunc(is.Roles, func(o estate.Ref) bool { return o.ID == r.ID })
		}) {
			j.breach(is.Source.Position, "separation %s keeps less apart than it did", s.ID)
		}
	}
	for _, g := range estate.Sorted(j.old.Guarantees) {
		if is := j.new.Guarantees[g.ID]; is == nil {
			j.breach(g.Source.Position, "guarantee %s is gone", g.ID)
		} else if !same(g, is) {
			j.breach(is.Source.Position, "guarantee %s says something else", g.ID)
		}
	}
	for _, t := range estate.Sorted(j.old.Tests) {
		if is := j.new.Tests[t.ID]; is == nil {
			j.breach(t.Source.Position, "test %s is gone", t.ID)
		} else if !same(t, is) {
			j.breach(is.Source.Position, "test %s expects something else", t.ID)
		}
	}
	if !maps.Equal(j.old.Severities, j.new.Severities) {
		j.breach(settings, "the severities of findings are others")
	}
	if j.old.Zone.Name() != j.new.Zone.Name() || j.old.Edition != j.new.Edition || !slices.Equal(j.old.Ignore, j.new.Ignore) || !same(j.old.Temporary, j.new.Temporary) || j.old.DormantAfter != j.new.DormantAfter {
		j.breach(settings, "the settings of the workspace are others")
	}
	for _, section := range estate.SectionNames {
		for _, o := range j.new.Section(section) {
			was := j.old.Head(section, o.ID)
			for _, a := range o.Accept {
				if was == nil || !slices.ContainsFunc(was.Accept, func(b estate.Acceptance) bool { return same(a, b) }) {
					j.breach(o.Source.Position, "%s of %s is accepted, which takes it off the count", a.Finding, o.ID)
				}
			}
		}
		for _, was := range j.old.Section(section) {
			if is := j.new.Head(section, was.ID); was.Protected && (is == nil || !is.Protected) {
				j.breach(was.Source.Position, "%s is protected no more", was.ID)
			}
		}
	}
	for id, k := range j.old.Kinds {
		if is := j.new.Kinds[id]; !k.BuiltIn && (is == nil || !same(k, is)) {
			j.breach(k.Source.Position, "catalog %s is another, and what operations mean with it", id)
		}
	}
	for id, k := range j.new.Kinds {
		if j.old.Kinds[id] == nil {
			j.breach(k.Source.Position, "catalog %s is new, and what operations mean with it", id)
		}
	}
	for _, s := range estate.Sorted(j.old.Systems) {
		if is := j.new.Systems[s.ID]; is != nil && (is.Judge && !s.Judge || !same(s.Precedence, is.Precedence) || s.Kind.ID != is.Kind.ID) {
			j.breach(is.Source.Position, "system %s judges unlisted addresses, decides who goes first, or is of a kind, as it was not", s.ID)
		}
	}
	for _, r := range estate.Sorted(j.old.Roles) {
		is := j.new.Roles[r.ID]
		if is != nil && (looser(r.AtMost, is.AtMost) || looser(r.AtMostPerSystem, is.AtMostPerSystem) || r.Acknowledge != "" && is.Acknowledge != r.Acknowledge) {
			j.breach(is.Source.Position, "role %s may be held by more, or asks for less to be accepted", r.ID)
		}
	}
}

// looser says whether a limit, 0 being none, lets more through than it did.
func looser(was, is int) bool { return was > 0 && (is == 0 || is > was) }

// stillStops says whether a block denies all that it denied to all whom it stopped.
func (j *judge) stillStops(was, is *estate.Block) bool {
	for _, o := range j.old.Operations {
		if now := j.new.Operations[o.Name]; now != nil && was.Deny.Fit(o, j.old.Edition) && !is.Deny.Fit(now, j.new.Edition) {
			return false
		}
	}
	for _, t := range was.To { // what is named stays named, so that those who come later are stopped too
		if !t.Not && !slices.ContainsFunc(is.To, func(o estate.SubjectTerm) bool {
			return !o.Not && (o.Principal == t.Principal || o.Kind == estate.IsEveryone)
		}) {
			return false
		}
	}
	for _, p := range j.was.Members(was.To) {
		if j.new.Subject(p) != nil && !j.is.Selects(is.To, p) {
			return false
		}
	}
	return true
}

// power judges who may hand out, approve and look after what: delegations, approvers and stewards.
func (j *judge) power() {
	scopes := j.both()
	more := func(was, is estate.Subjects, before *gate.Gate) []string {
		var out []string
		for _, p := range j.is.Members(is) {
			if j.old.Subject(p) == nil || !before.Selects(was, p) {
				out = append(out, p.String())
			}
		}
		return out
	}
	for _, d := range estate.Sorted(j.new.Delegations) {
		was := j.old.Delegations[d.ID]
		if was == nil {
			j.breach(d.Source.Position, "delegation %s is new", d.ID)
			continue
		}
		if !same(was.MayGrant, d.MayGrant) || !same(was.Within, d.Within) || !same(was.On, d.On) || !same(was.ToMembersOf, d.ToMembersOf) || !same(was.MayEdit, d.MayEdit) ||
			was.Longest != d.Longest || was.ToSelf != d.ToSelf || j.toldMore(was.To, d.To) {
			j.breach(d.Source.Position, "delegation %s says something else", d.ID)
		}
		if names := more(was.To, d.To, j.was); names != nil {
			j.breach(d.Source.Position, "delegation %s lets %s hand out, too", d.ID, named(names))
		}
		if names := more(was.ToMembersOf, d.ToMembersOf, j.between); names != nil && d.ToMembersOf != nil {
			j.breach(d.Source.Position, "delegation %s reaches %s, too", d.ID, named(names))
		}
		if d.On != nil && was.On != nil && !gate.Within(scopes, d.On, asOld(was.On)) {
			j.breach(d.Source.Position, "delegation %s reaches more resources than it did", d.ID)
		}
		for _, ref := range d.MayGrant {
			for _, o := range j.is.RoleOperations(ref.ID) {
				if j.old.Roles[ref.ID] == nil || !j.was.RoleHas(ref.ID, o.Name) {
					j.breach(j.new.Roles[ref.ID].Source.Position, "role %s, which delegation %s lets be handed out, gets %s", ref.ID, d.ID, o.Name)
				}
			}
		}
	}
	for _, g := range estate.Sorted(j.new.Grants) {
		was := j.old.Grants[g.ID]
		if was == nil || was.OnRequest == nil || g.OnRequest == nil {
			continue
		}
		a, b := was.OnRequest, g.OnRequest
		if b.Longest > a.Longest || b.Approvals < a.Approvals || a.Reason && !b.Reason || more(a.Approvers, b.Approvers, j.between) != nil || j.toldMore(a.Approvers, b.Approvers) {
			j.breach(g.Source.Position, "grant %s is lent for longer, or more easily, than it was", g.ID)
		}
	}
	for _, g := range estate.Sorted(j.new.Groups) {
		was := j.old.Groups[g.ID]
		if was == nil {
			continue
		}
		if names := more(was.Stewards, g.Stewards, j.was); names != nil {
			j.breach(g.Source.Position, "group %s is looked after by %s, too", g.ID, named(names))
		}
		if !same(was.Match, g.Match) {
			j.breach(g.Source.Position, "group %s fills itself by other tags", g.ID)
		}
	}
}

// owned judges edits of what somebody else owns.
func (j *judge) owned() {
	for _, section := range estate.SectionNames {
		for _, was := range j.old.Section(section) {
			if was.Owner == nil || *was.Owner == j.by || was.Owner.Kind == estate.IsGroup && j.was.InGroup(j.by, was.Owner.ID) {
				continue
			}
			a, b := itself(j.old.Entry(section, was.ID)), itself(j.new.Entry(section, was.ID))
			if same(a, b) || section == "groups" && j.onlyMembers(was.ID) {
				continue
			}
			at := was.Source.Position
			if o := j.new.Head(section, was.ID); o != nil {
				at = o.Source.Position
			}
			j.breach(at, "%s belongs to %s, and is changed", was.ID, was.Owner)
		}
	}
	tree := j.old.Tree
	if tree == j.new.Tree {
		return
	}
	for i, row := range tree.Rows {
		owner := tree.Owners[row.Owner]
		if owner == nil || *owner == j.by || owner.Kind == estate.IsGroup && j.was.InGroup(j.by, owner.ID) {
			continue
		}
		was := tree.At(i)
		if is := j.new.Listed(was.Address); is == nil || is.Type != was.Type || !same(is.Owner, was.Owner) || !slices.Equal(is.Tags, was.Tags) {
			at := diagnostic.Position{File: was.System.Source.File, Line: was.System.Source.Line, Column: 1}
			if is != nil && is.Entry != nil {
				at = is.Entry.Source.Position
			}
			j.breach(at, "resource %s belongs to %s, and is changed", was.Address, owner)
		}
	}
}

// onlyMembers says whether nothing but the members of a group changes that the author may edit.
func (j *judge) onlyMembers(id string) bool {
	was, is := j.old.Groups[id], j.new.Groups[id]
	if is == nil {
		return false
	}
	may := slices.ContainsFunc(j.may, func(d *delegation) bool {
		return slices.ContainsFunc(d.MayEdit, func(t estate.SubjectTerm) bool { return t.Kind == estate.IsGroup && t.ID == id && !t.Not })
	})
	with := *was
	with.Members = is.Members
	return may && same(&with, is)
}

// itself gives an entry without what stands in it and has owners of its own: of a system, its resources.
func itself(entry estate.Head) any {
	if s, ok := entry.(*estate.System); ok {
		alone := *s
		alone.Resources = nil
		return &alone
	}
	return entry
}
