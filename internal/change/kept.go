package change

import (
	"slices"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/verify"
)

// roles judges what roles come to: they hold nothing that they did not, and stand for all that is counted, kept apart
// or acknowledged for which they stood.
func (j *judge) roles() {
	counted := map[string]bool{}
	for _, s := range j.old.Separations {
		for _, ref := range s.Roles {
			counted[ref.ID] = true
		}
	}
	for id, r := range j.old.Roles {
		if r.AtMost > 0 || r.AtMostPerSystem > 0 || r.AtLeast > 0 || r.AtLeastPerSystem > 0 || r.Acknowledge != "" {
			counted[id] = true
		}
	}
	for _, was := range estate.Sorted(j.old.Roles) {
		is := j.new.Roles[was.ID]
		if is == nil || is == was || j.mine(was.Owner) {
			continue
		}
		if grown := j.pair.RoleGrows(was.ID); grown != nil &&
			!(same(was.Include, is.Include) && same(was.Allow, is.Allow) && same(was.Starts, is.Starts) &&
				same(was.Ends, is.Ends) && slices.Equal(was.SignedIn, is.SignedIn)) {
			j.breach(RoleKeeps, is.Source.Position, "role %s gets %s, or has it for longer", was.ID, named(grown))
		}
		stands := j.is.RoleStandsFor(was.ID)
		for _, id := range j.was.RoleStandsFor(was.ID) {
			if counted[id] && !slices.Contains(stands, id) {
				j.breach(RoleKeeps, is.Source.Position, "role %s stands for role %s no more, which is counted or kept apart",
					was.ID, id)
			}
		}
	}
}

// stays is a list of places that something is about, and must stay about.
type stays struct {
	what    string
	at      diagnostic.Position
	was, is estate.Resources
	told    bool
}

// places judges what rules are about: none loses a place that is still there, and no delegation gets one.
func (j *judge) places() {
	if j.old.Tree == j.new.Tree && !alteredIn(j.old, j.new).any("scopes", "systems") {
		return
	}
	var rules []stays
	for _, b := range estate.Sorted(j.old.Blocks) {
		if is := j.new.Blocks[b.ID]; is != nil {
			rules = append(rules, stays{"block " + b.ID, is.Source.Position, b.On, is.On, false})
		}
	}
	for _, g := range estate.Sorted(j.old.Guarantees) {
		if is := j.new.Guarantees[g.ID]; is != nil {
			rules = append(rules, stays{"guarantee " + g.ID, is.Source.Position, g.On, is.On, false})
		}
	}
	for _, t := range estate.Sorted(j.old.Tests) {
		if is := j.new.Tests[t.ID]; is != nil {
			for _, term := range placesOf(t) {
				rules = append(rules, stays{"test " + t.ID, is.Source.Position, estate.Resources{term}, estate.Resources{term},
					false})
			}
		}
	}
	var reach []stays
	for _, d := range estate.Sorted(j.old.Delegations) {
		if is := j.new.Delegations[d.ID]; is != nil && d.On != nil && is.On != nil {
			reach = append(reach, stays{"delegation " + d.ID, is.Source.Position, d.On, is.On, false})
		}
	}
	var lists [2][]estate.Resources
	for _, s := range slices.Concat(rules, reach) {
		lists[0], lists[1] = append(lists[0], s.was), append(lists[1], s.is)
	}
	whole := differing.EachPlace(j.old, j.new, lists, func(was, is *estate.Resource) bool {
		if is == nil {
			return true // with what is gone nothing can be done
		}
		if was == nil {
			was = placeIn(j.old, is.Address)
		}
		for i := range rules {
			s := &rules[i]
			if !s.told && was != nil && j.was.Covers(s.was, was) && !j.is.Covers(s.is, is) {
				s.told = true
				j.breach(RuleKeepsPlaces, s.at, "%s is no longer about %s", s.what, is.Address).Where = is.Address.String()
			}
		}
		for i := range reach {
			s := &reach[i]
			if !s.told && j.is.Covers(s.is, is) && (was == nil || !j.was.Covers(s.was, was)) {
				s.told = true
				j.breach(Reaches, s.at, "%s reaches %s, too", s.what, is.Address).Where = is.Address.String()
			}
		}
		return true
	})
	if !whole {
		j.breach(RuleKeepsPlaces, diagnostic.Position{File: "hidden-gate.yaml", Line: 1, Column: 1},
			"there are too many places to tell whether rules stay about them")
	}
}

// placesOf lists the places that a test names.
func placesOf(t *estate.Test) (out []estate.ResourceTerm) {
	for _, s := range slices.Concat(t.Allowed, t.Denied) {
		out = append(out, s.Place)
	}
	for _, l := range t.Levels {
		out = append(out, l.Place)
	}
	return out
}

// people judges whom rules are about.
func (j *judge) people() {
	lost := func(was, is estate.Subjects) []string {
		var out []string
		for _, who := range j.was.Members(was) {
			p := who
			if j.new.Subject(p) == nil { // who may come again, with nothing
				p.ID, p.Kind = anyone, estate.IsPerson
			}
			if !j.is.Selects(is, p) {
				out = append(out, who.String())
			}
		}
		return out
	}
	for _, b := range estate.Sorted(j.old.Blocks) {
		if is := j.new.Blocks[b.ID]; is != nil {
			if names := lost(b.To, is.To); names != nil {
				b := j.breach(BlockStands, is.Source.Position, "block %s stops %s no more", b.ID, named(names))
				b.Who = named(names)
			}
		}
	}
	for _, g := range estate.Sorted(j.old.Guarantees) {
		is := j.new.Guarantees[g.ID]
		if is == nil {
			continue
		}
		names := lost(g.Subjects, is.Subjects)
		if verify.KindOf(g).Excepts {
			names = j.more(g.Subjects, is.Subjects, j.was)
		}
		if names != nil {
			j.breach(RuleKeepsPeople, is.Source.Position, "guarantee %s is about others now: %s", g.ID,
				named(names)).Who = named(names)
		}
	}
	for _, t := range estate.Sorted(j.old.Tests) {
		is := j.new.Tests[t.ID]
		if is == nil {
			continue
		}
		if names := lost(subjectsOf(t), subjectsOf(is)); names != nil {
			j.breach(RuleKeepsPeople, is.Source.Position, "test %s is no longer about %s", t.ID, named(names)).Who = named(names)
		}
	}
}

// subjectsOf lists the subjects that a test names.
func subjectsOf(t *estate.Test) estate.Subjects {
	who := slices.Clone(t.Who)
	for _, l := range t.Levels {
		who = append(who, estate.SubjectTerm{Principal: l.Subject})
	}
	return who
}

// more names those whom a list selects and an older one did not.
func (j *judge) more(was, is estate.Subjects, before *gate.Gate) []string {
	var out []string
	for _, p := range j.is.Members(is) {
		if before.Subject(p) != nil || !before.Selects(was, p) {
			out = append(out, p.String())
		}
	}
	return out
}

// powers judges who comes to approve, own, look after, hand out and be reached by what there is.
func (j *judge) powers() {
	tell := func(at diagnostic.Position, names []string, format string, args ...any) {
		if names != nil {
			j.breach(NoPower, at, format+": %s", append(args, named(names))...).Who = named(names)
		}
	}
	for _, g := range estate.Sorted(j.new.Grants) {
		if was := j.old.Grants[g.ID]; was != nil && was.OnRequest != nil && g.OnRequest != nil {
			tell(g.Source.Position, j.more(was.OnRequest.Approvers, g.OnRequest.Approvers, j.was),
				"grant %s is approved by others, too", g.ID)
		}
	}
	for _, g := range estate.Sorted(j.new.Groups) {
		if was := j.old.Groups[g.ID]; was != nil {
			tell(g.Source.Position, j.more(was.Stewards, g.Stewards, j.was), "group %s is looked after by others, too", g.ID)
		}
	}
	for _, d := range estate.Sorted(j.new.Delegations) {
		if was := j.old.Delegations[d.ID]; was != nil {
			tell(d.Source.Position, j.more(was.To, d.To, j.was), "delegation %s lets others hand out, too", d.ID)
			if d.ToMembersOf != nil {
				tell(d.Source.Position, j.more(was.ToMembersOf, d.ToMembersOf, j.between), "delegation %s reaches others, too",
					d.ID)
			}
		}
	}
	for _, owner := range j.owners() {
		list := estate.Subjects{{Principal: owner}}
		if g := j.new.Groups[owner.ID]; g != nil {
			tell(g.Source.Position, j.more(list, list, j.was), "group %s owns something, and others join it", owner.ID)
		}
	}
}

// owners lists the groups that own something in the old estate.
func (j *judge) owners() []estate.Principal {
	found := map[estate.Principal]bool{}
	note := func(p *estate.Principal) {
		if p != nil && p.Kind == estate.IsGroup {
			found[*p] = true
		}
	}
	note(j.old.Owner)
	j.old.EachHead(func(o *estate.Object) { note(o.Owner) })
	for _, p := range j.old.Tree.Owners {
		note(p)
	}
	var out []estate.Principal
	for p := range found {
		out = append(out, p)
	}
	slices.SortFunc(out, estate.Principal.Compare)
	return out
}
