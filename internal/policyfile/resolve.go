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
	l.resolveNames("catalogs")
	if len(l.errors) == before {
		l.resolveKinds()
	}
	sound := len(l.errors) == before
	l.resolveNames("systems")
	for _, s := range e.Systems {
		sound = sound && e.Kinds[s.Kind.ID] != nil
	}
	if sound { // without sound kinds nothing can be said of what is in a system
		e.IndexKinds()
		l.resolveEntries()
		l.resolveTypes()
		l.resolveProfiles()
	}
	for _, section := range sectionNames()[2:] {
		l.resolveNames(section)
	}
	l.resolveListed()
	if o := l.settings.owner; o != nil {
		Naming{Subjects: estate.Subjects{*o}}.Each(func(n Name) { l.look(n, o.Position) })
	}
	for _, section := range sectionNames()[1:] {
		l.circles(section)
	}
}

func heads[T any](section map[string]T) []string {
	return slices.Sorted(maps.Keys(section))
}

// ids is heads, when it is asked for.
func ids[T any](section map[string]T) func() []string {
	return func() []string { return heads(section) }
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

// circles reports every entry of a section that is made of itself in the end, once for each circle.
func (l *loader) circles(section string) {
	if !nests(section) {
		return
	}
	what := estate.Singular(section)
	if section == "catalogs" {
		what = "kind"
	}
	next, known := map[string][]estate.Ref{}, map[string]bool{}
	var ids []string
	for _, o := range l.estate.Section(section) {
		ids, known[o.ID] = append(ids, o.ID), true
		EachNested(section, l.estate.Entry(section, o.ID), func(ref estate.Ref) { next[o.ID] = append(next[o.ID], ref) })
	}
	const (
		unseen = iota
		open
		done
	)
	state := map[string]int{}
	var path []string
	length := map[string]int{} // of the longest chain that an entry begins
	var visit func(id string)
	visit = func(id string) {
		state[id] = open
		path = append(path, id)
		for _, ref := range next[id] {
			switch state[ref.ID] {
			case open:
				way := append(slices.Clone(path[slices.Index(path, ref.ID):]), ref.ID)
				l.fail(ref.Position, "take one of them out", "%s %s leads back to itself: %s", what, ref.ID,
					strings.Join(way, " → "))
			case unseen:
				if known[ref.ID] {
					visit(ref.ID)
				}
			}
			if n := length[ref.ID] + 1; n > length[id] {
				if length[id] = n; n == MaxChain {
					l.fail(ref.Position, "let it name those at the end of the chain itself",
						"%s %s begins a chain of more than %d, each naming the next", what, id, MaxChain)
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

// resolveKinds sees that no kind is based on itself in the end, and that an operation means the same wherever it
// occurs.
func (l *loader) resolveKinds() {
	e := l.estate
	before := len(l.errors)
	if l.circles("catalogs"); len(l.errors) > before {
		return
	}
	types := map[string]bool{}
	for _, k := range estate.Sorted(e.Kinds) {
		for _, t := range k.Types {
			types[t] = true
		}
		for _, t := range slices.Concat(k.Named, k.Inside) {
			types[t.Value] = true
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
					l.fail(o.Position, "give it a name of its own", "%s is an operation of %s already, on which %s is based", o.Name,
						up.ID, k.ID)
				}
			}
			if first.Level != o.Level || first.HighRisk != o.HighRisk || first.Exclusive != o.Exclusive {
				l.fail(o.Position, "give it another name, or the same level, risk and exclusive", "%s means something else in %s",
					o.Name, byName[o.Name])
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
			eachPrincipal(p, at, func(n Name) { l.look(n, at) })
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

// resolveNames looks for what the entries of a section name.
func (l *loader) resolveNames(section string) {
	var unresolved []*estate.Object
	l.estate.Each(section, func(o *estate.Object) {
		if l.fresh == nil || l.fresh[o.Source.File] {
			unresolved = append(unresolved, o)
		}
	})
	slices.SortFunc(unresolved, func(a, b *estate.Object) int { return strings.Compare(a.ID, b.ID) })
	for _, o := range unresolved {
		entry := l.estate.Entry(section, o.ID)
		EachName(section, entry, func(_ string, n Name) { l.look(n, o.Source.Position) })
		if s, ok := entry.(*estate.System); ok {
			for _, r := range s.Resources {
				EachName("resources", r, func(_ string, n Name) { l.look(n, r.Source.Position) })
			}
		}
	}
}

// look reports a name that finds nothing; at is where its entry stands, for names whose place is not kept.
func (l *loader) look(n Name, at diagnostic.Position) {
	e, ref := l.estate, n.Ref
	if ref.Position.File == "" {
		ref.Position = at
	}
	switch n.Section {
	case NamesOperation:
		if !n.Unchecked {
			l.exists(l.operations()[ref.ID], ref, "operation", ids(l.operations()))
		}
	case NamesType:
		if types := l.types(); types != nil {
			l.exists(types[ref.ID], ref, "type of resource", ids(types))
		}
	case NamesFinding:
		l.exists(slices.Contains(estate.FindingCodes, ref.ID), ref, "finding", func() []string { return estate.FindingCodes })
	case "catalogs":
		l.exists(e.Kinds[ref.ID] != nil, ref, "kind", ids(e.Kinds))
	default:
		known := func() (out []string) {
			for _, o := range e.Section(n.Section) {
				out = append(out, o.ID)
			}
			return out
		}
		if e.Entry(n.Section, ref.ID) != nil {
			return
		}
		if help := l.misnamed(n); help != "" {
			l.fail(ref.Position, help, "there is no %s %q", estate.Singular(n.Section), ref.ID)
			return
		}
		l.exists(false, ref, estate.Singular(n.Section), known)
	}
}

// misnamed tells what to write where a name finds nothing because it lacks the word before it.
func (l *loader) misnamed(n Name) string {
	others := map[string][]string{"people": {"groups", "services"}, "systems": {"scopes"}}
	for _, other := range others[n.Section] {
		if l.estate.Entry(other, n.ID) != nil {
			return "write " + estate.Singular(other) + ":" + n.ID
		}
	}
	return ""
}

// operations gives the name of every operation of some kind.
func (l *loader) operations() map[string]bool {
	if l.knownOperations == nil {
		l.knownOperations = map[string]bool{}
		for _, k := range l.estate.Kinds {
			for _, o := range k.Operations {
				l.knownOperations[o.Name] = true
			}
		}
	}
	return l.knownOperations
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

// resolveListed makes those who are in groups by an inventory members of them.
func (l *loader) resolveListed() {
	e := l.estate
	for _, s := range l.listedPeople {
		for _, ref := range s.Groups {
			if g := e.Groups[ref.ID]; l.exists(g != nil, ref, "group", ids(e.Groups)) {
				g.Members = append(g.Members, estate.SubjectTerm{Principal: s.Principal(), Position: ref.Position})
			}
		}
		s.Groups = nil // they have become members
	}
}
