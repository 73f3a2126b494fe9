package policyfile

import (
	"maps"
	"slices"
	"strings"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

// resolve sees that every name finds what it names, that nothing goes round in circles, and indexes the estate.
func (l *loader) resolve() {
	e := l.estate
	before := len(l.errors)
	l.resolveKinds()
	sound := len(l.errors) == before
	for _, s := range estate.Sorted(e.Systems) {
		if s.Kind.ID == "" {
			sound = false // which has been said
		} else if !l.exists(e.Kinds[s.Kind.ID] != nil, s.Kind, "kind", ids(e.Kinds)) {
			sound = false
		}
	}
	if sound { // without sound kinds nothing can be said of what is in a system
		e.IndexKinds()
		l.resolveEntries()
		l.resolveTypes()
	}
	l.resolveSubjects()
	l.resolvePolicy()
	if o := l.settings.owner; o != nil {
		l.principal(o.Principal, o.Position)
	}
	l.resolveHeads()
	l.circles("group", heads(e.Groups), func(id string) []estate.Ref { return groupRefs(e.Groups[id].Members) })
	l.circles("role", heads(e.Roles), func(id string) []estate.Ref { return e.Roles[id].Include })
	l.circles("scope", heads(e.Scopes), func(id string) []estate.Ref { return scopeRefs(e.Scopes[id]) })
}

func scopeRefs(s *estate.Scope) []estate.Ref {
	var refs []estate.Ref
	for _, t := range s.Resources {
		if t.Scope != "" {
			refs = append(refs, estate.Ref{ID: t.Scope, Position: t.Position})
		}
	}
	return refs
}

func heads[T any](section map[string]T) []string {
	return slices.Sorted(maps.Keys(section))
}

// ids is heads, when it is asked for.
func ids[T any](section map[string]T) func() []string {
	return func() []string { return heads(section) }
}

func groupRefs(list estate.Subjects) []estate.Ref {
	var refs []estate.Ref
	for _, t := range list {
		if t.Kind == estate.IsGroup {
			refs = append(refs, estate.Ref{ID: t.ID, Position: t.Position})
		}
	}
	return refs
}

// maxHelped is how many errors get a nearest name: among many names each takes a while to find.
const maxHelped = 50

// exists reports a name that finds nothing; known lists what there is, which is asked for only then.
func (l *loader) exists(found bool, ref estate.Ref, what string, known func() []string) bool {
	if !found {
		help := ""
		if len(l.errors) < maxHelped {
			help = nearestHelp(ref.ID, known())
		}
		l.fail(ref.Position, help, "there is no %s %q", what, ref.ID)
	}
	return found
}

// circles reports every entry that leads back to itself, once for each circle.
func (l *loader) circles(what string, ids []string, next func(string) []estate.Ref) {
	const (
		unseen = iota
		open
		done
	)
	state, known := map[string]int{}, map[string]bool{}
	for _, id := range ids {
		known[id] = true
	}
	var path []string
	length := map[string]int{} // of the longest chain that an entry begins
	var visit func(id string)
	visit = func(id string) {
		state[id] = open
		path = append(path, id)
		for _, ref := range next(id) {
			switch state[ref.ID] {
			case open:
				way := append(slices.Clone(path[slices.Index(path, ref.ID):]), ref.ID)
				l.fail(ref.Position, "take one of them out", "%s %s leads back to itself: %s", what, ref.ID, strings.Join(way, " → "))
			case unseen:
				if known[ref.ID] {
					visit(ref.ID)
				}
			}
			if n := length[ref.ID] + 1; n > length[id] {
				if length[id] = n; n == MaxChain {
					l.fail(ref.Position, "let it name those at the end of the chain itself", "%s %s begins a chain of more than %d, each naming the next", what, id, MaxChain)
				}
			}
		}
		path = path[:len(path)-1]
		state[id] = done
	}
	for _, id := range ids {
		if state[id] == unseen {
			visit(id)
		}
	}
}

// resolveKinds sees that kinds build on kinds and that an operation means the same wherever it occurs.
func (l *loader) resolveKinds() {
	e := l.estate
	before := len(l.errors)
	for _, k := range estate.Sorted(e.Kinds) {
		if k.BasedOn.ID != "" {
			l.exists(e.Kinds[k.BasedOn.ID] != nil, k.BasedOn, "kind", ids(e.Kinds))
		}
	}
	l.circles("kind", heads(e.Kinds), func(id string) []estate.Ref {
		if ref := e.Kinds[id].BasedOn; ref.ID != "" {
			return []estate.Ref{ref}
		}
		return nil
	})
	if len(l.errors) > before {
		return
	}
	types := map[string]bool{}
	for _, k := range estate.Sorted(e.Kinds) {
		for _, t := range k.Types {
			types[t] = true
		}
		for _, o := range k.Operations {
			for _, t := range o.Types {
				types[t] = true
			}
		}
		if len(types) > MaxTypes {
			l.fail(k.Source.Position, "let tags tell resources apart", "the kinds have more than %d types of resource", MaxTypes)
			return
		}
	}
	meaning := map[string]*estate.Operation{}
	byName := map[string]string{}
	kinds := e.SortedKinds()
	for _, k := range kinds {
		for _, o := range k.Operations {
			first := meaning[o.Name]
			if first == nil {
				meaning[o.Name], byName[o.Name] = o, k.ID
				continue
			}
			for up := e.Kinds[k.BasedOn.ID]; up != nil; up = e.Kinds[up.BasedOn.ID] {
				if slices.ContainsFunc(up.Operations, func(u *estate.Operation) bool { return u.Name == o.Name }) {
					l.fail(o.Position, "give it a name of its own", "%s is an operation of %s already, on which %s is based", o.Name, up.ID, k.ID)
				}
			}
			if first.Level != o.Level || first.HighRisk != o.HighRisk || first.Exclusive != o.Exclusive {
				l.fail(o.Position, "give it another name, or the same level, risk and exclusive", "%s means something else in %s", o.Name, byName[o.Name])
			}
		}
	}
	for _, k := range kinds {
		for _, o := range k.Operations {
			for _, need := range o.Needs {
				l.exists(meaning[need] != nil, estate.Ref{ID: need, Position: o.Position}, "operation", ids(meaning))
			}
		}
	}
}

// resolveEntries gives listed resources their full, canonical addresses, each once.
func (l *loader) resolveEntries() {
	e := l.estate
	for _, s := range e.Systems {
		for _, entry := range s.Resources {
			entry.Address.System = s.ID
			if e.Folds(s) {
				entry.Address.Path = estate.Fold(entry.Address.Path)
			}
		}
	}
	e.CheckListings(func(at diagnostic.Position, what, id string, s *estate.System) {
		switch what {
		case "system":
			l.fail(at, nearestHelp(id, heads(e.Systems)), "there is no system %q", id)
		case "type":
			l.wrongType(at, s, id)
		case "owner":
			p, _ := estate.ParsePrincipal(id)
			l.principal(p, at)
		}
	})
	for _, t := range e.IndexResources() {
		l.fail(t.Second, "list it once; the first stands in "+t.First.Short(), "%s is listed twice", t.Address)
	}
}

func (l *loader) wrongType(at diagnostic.Position, s *estate.System, typ string) {
	all := l.estate.Offer(s.Kind.ID).AllTypes
	l.fail(at, nearestHelp(typ, all), "a %s has no resources of type %q", s.Kind.ID, typ)
}

func (l *loader) resolveTypes() {
	for _, s := range l.estate.Systems {
		offer := l.estate.Offer(s.Kind.ID)
		for _, entry := range s.Resources {
			if entry.Type != "" && !slices.Contains(offer.AllTypes, entry.Type) {
				l.wrongType(entry.Source.Position, s, entry.Type)
			}
		}
	}
}

func (l *loader) principal(p estate.Principal, at diagnostic.Position) {
	e := l.estate
	ref := estate.Ref{ID: p.ID, Position: at}
	switch p.Kind {
	case estate.IsPerson:
		if e.People[p.ID] == nil && (e.Groups[p.ID] != nil || e.Services[p.ID] != nil) {
			help := "write group:" + p.ID
			if e.Groups[p.ID] == nil {
				help = "write service:" + p.ID
			}
			l.fail(at, help, "there is no person %q", p.ID)
			return
		}
		l.exists(e.People[p.ID] != nil, ref, "person", ids(e.People))
	case estate.IsService:
		l.exists(e.Services[p.ID] != nil, ref, "service", ids(e.Services))
	case estate.IsGroup:
		l.exists(e.Groups[p.ID] != nil, ref, "group", ids(e.Groups))
	}
}

func (l *loader) subjects(list estate.Subjects) {
	for _, t := range list {
		l.principal(t.Principal, t.Position)
	}
}

func (l *loader) roleRefs(refs []estate.Ref) {
	for _, ref := range refs {
		l.exists(l.estate.Roles[ref.ID] != nil, ref, "role", ids(l.estate.Roles))
	}
}

func (l *loader) place(t estate.ResourceTerm) {
	e := l.estate
	if t.Scope != "" {
		l.exists(e.Scopes[t.Scope] != nil, estate.Ref{ID: t.Scope, Position: t.Position}, "scope", ids(e.Scopes))
	}
	if t.In != nil && !strings.Contains(t.In.System, "*") && e.Systems[t.In.System] == nil {
		help := nearestHelp(t.In.System, heads(e.Systems))
		if e.Scopes[t.In.System] != nil && len(t.In.Segments) == 0 {
			help = "write scope:" + t.In.System
		}
		l.fail(t.Position, help, "there is no system %q", t.In.System)
	}
	for _, k := range t.Kinds {
		l.exists(e.Kinds[k] != nil, estate.Ref{ID: k, Position: t.Position}, "kind", ids(e.Kinds))
	}
	for _, typ := range t.Types {
		if l.types() == nil {
			break
		}
		l.exists(l.types()[typ], estate.Ref{ID: typ, Position: t.Position}, "type of resource", ids(l.types()))
	}
	for _, o := range t.Owners {
		l.principal(o, t.Position)
	}
}

// types gives every type of resource that some kind has; nil if the kinds are not sound.
func (l *loader) types() map[string]bool {
	if l.knownTypes == nil && l.estate.Operations != nil {
		l.knownTypes = map[string]bool{}
		for _, k := range l.estate.Kinds {
			for _, t := range l.estate.Offer(k.ID).AllTypes {
				l.knownTypes[t] = true
			}
		}
	}
	return l.knownTypes
}

func (l *loader) places(list estate.Resources) {
	for _, t := range list {
		l.place(t)
	}
}

// unresolved lists the entries of a section that have yet to be resolved, by id.
func unresolved[T any, P interface {
	*T
	estate.Head
}](l *loader, section map[string]P) []P {
	if l.fresh == nil {
		return estate.Sorted(section)
	}
	some := map[string]P{}
	for id, entry := range section {
		if !l.isResolved(entry.Head()) {
			some[id] = entry
		}
	}
	return estate.Sorted(some)
}

func (l *loader) isResolved(o *estate.Object) bool { return l.fresh != nil && !l.fresh[o.Source.File] }

func (l *loader) resolveSubjects() {
	e := l.estate
	for _, g := range unresolved(l, e.Groups) {
		l.subjects(g.Members)
		l.subjects(g.Stewards)
	}
	for _, s := range l.listedPeople {
		for _, ref := range s.Groups {
			if g := e.Groups[ref.ID]; l.exists(g != nil, ref, "group", ids(e.Groups)) {
				g.Members = append(g.Members, estate.SubjectTerm{Principal: s.Principal(), Position: ref.Position})
			}
		}
		s.Groups = nil // they have become members
	}
}

func (l *loader) resolvePolicy() {
	e := l.estate
	for _, s := range unresolved(l, e.Systems) {
		l.roleRefs(s.Precedence)
	}
	for _, r := range unresolved(l, e.Roles) {
		l.roleRefs(r.Include)
	}
	for _, s := range unresolved(l, e.Scopes) {
		l.places(s.Resources)
	}
	for _, g := range unresolved(l, e.Grants) {
		l.subjects(g.To)
		l.roleRefs(g.Roles)
		for _, a := range g.Acknowledged {
			l.roleRefs([]estate.Ref{a.Role})
		}
		l.places(g.On)
		if g.OnRequest != nil {
			l.subjects(g.OnRequest.Approvers)
		}
	}
	for _, b := range unresolved(l, e.Blocks) {
		l.subjects(b.To)
		l.places(b.On)
	}
	for _, s := range unresolved(l, e.Separations) {
		l.roleRefs(s.Roles)
	}
	for _, d := range unresolved(l, e.Delegations) {
		l.subjects(d.To)
		l.subjects(d.ToMembersOf)
		l.subjects(d.MayEdit)
		l.roleRefs(d.MayGrant)
		l.places(d.On)
	}
	for _, t := range unresolved(l, e.Tests) {
		l.subjects(t.Who)
		l.roleRefs(t.Given.Roles)
		for _, s := range slices.Concat(t.Allowed, t.Denied) {
			l.place(s.Place)
		}
		for _, rule := range t.Levels {
			l.principal(rule.Subject, rule.Position)
			l.place(rule.Place)
		}
	}
	for _, g := range unresolved(l, e.Guarantees) {
		l.subjects(g.Subjects)
		l.places(g.On)
	}
}

// resolveHeads looks at what every entry may carry.
func (l *loader) resolveHeads() {
	e := l.estate
	check := func(o *estate.Object) {
		if l.isResolved(o) {
			return
		}
		if o.Owner != nil {
			l.principal(*o.Owner, o.Source.Position)
		}
		for _, a := range o.Accept {
			l.exists(slices.Contains(estate.FindingCodes, a.Finding), estate.Ref{ID: a.Finding, Position: o.Source.Position}, "finding", func() []string { return estate.FindingCodes })
		}
	}
	e.EachHead(check)
	for _, s := range unresolved(l, e.Systems) {
		for _, entry := range s.Resources {
			check(&entry.Object)
		}
	}
}
