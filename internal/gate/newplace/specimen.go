package newplace

import (
	"maps"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/factspace"
	"hiddengate/internal/gate/placemap"
	"hiddengate/internal/lookup"
)

// Specimen stands for all resources that may come and that nothing tells apart: what lists ask of a resource is said,
// and all else is open.
type Specimen struct {
	Address estate.Address
	Type    string
	Tags    estate.Tags // of the keys that lists ask about; one that is not here has no value
	// keys with a value that neither a list nor a condition names, and the values that those name
	Others map[string][]string
	Owner  *estate.Principal // nil: nobody whom lists name
	Kind   string            // of a system that is not there yet; "" where there is one
	Idle   bool              // nobody's access to it differs
	// it says nothing itself: type, tags and owner are those that it would have where it stands
	Inherit bool
}

// maxSpecimens bounds how many are made up. Estates that need more tell so many resources apart that nobody could read
// about them.
const maxSpecimens = 20_000

// maxIdle bounds how many are made up that serve to name places alone, since nobody's access to them differs.
const maxIdle = 5000

// workEach bounds, for each that may be made up, how many names are looked at for those that may differ, and how
// often a term is held against one of them; a tenth of it those that are idle, and those that inherit from what an
// edit lists.
const workEach = 1000

// sketch makes up specimens for two estates that are held against each other, or for one and itself.
type sketch struct {
	estates [2]*estate.Estate
	terms   [2][]estate.ResourceTerm // of lists, scopes taken apart, each once
	facts   *factspace.Facts
	// the values that conditions on a resource's tags name, or that tell subjects apart that have changed
	resource    map[string][]string
	owners      []estate.Principal // whose ownership means other subjects now
	given       map[string]bool    // of operations, whether some role has them
	handedBy    map[offered]uint32 // of those of a type, their number
	sets        map[string]uint32  // of names of operations
	buffer      []byte
	asking      estate.Resource // about which terms are asked
	within      *[2][]estate.Resources
	treesWithin bool                  // one of these covers, too, what the estates do not list alike
	wanted      []estate.ResourceTerm // of the lists that are looked at
	patterns    []estate.Pattern      // of the terms of both
	byIn        [2]map[uint32][]int   // of each of those patterns, by number, the terms
	asks        [2][]int              // of each term, the number of what it asks beside the address; -1: nothing
	asked       []estate.ResourceTerm // by that number
	ways        map[string][]Specimen // what has been made up for what is asked
	anywhere    [2][]int              // the terms without a pattern
	machines    [2]*machines          // of each estate
	part                              // which addresses are made up at the moment
	others      bool                  // which are those that no wanted term covers
	names       int                   // how many more names may be looked at
	crossed     int                   // how often a term may still be held against something
	out         []Specimen
	idle        int // of those
	most        int // how many others there may be
	inherit     int // and of those that inherit where the estates do not list the same; 0: no fewer
	full        bool
	whole       bool
	named       bool // all that are idle are there, too
}

// Basis says what may come for an old and a new estate, and by what it is told apart.
type Basis struct {
	Estates [2]*estate.Estate
	Lists   [2][]estate.Resources  // which tell it apart
	Within  *[2][]estate.Resources // lists of which one must cover it; nil: all is meant
	// TreesWithin says that one of these covers, too, what the estates do not list alike, and all within that.
	TreesWithin bool
	Facts       *factspace.Facts
	Most        int // how many are made up at the most, idle ones apart; maxSpecimens where it is 0
	// Inherit is how many of them may inherit from what the estates do not list alike, where TreesWithin is so, and how
	// many others may be in systems that one of them has alone; 0: no fewer.
	Inherit int
	Unsettled
}

// Specimens makes up specimens for what may come where something is meant; whole is false if there would be too many.
// Rest makes up all others, which are idle and serve to name places, and says whether with them all is there.
func Specimens(b Basis) (out []Specimen, whole bool, rest func() (more []Specimen, named bool)) {
	s := &sketch{estates: b.Estates, facts: b.Facts, resource: b.Values, owners: b.Owners, whole: !b.Many,
		given: map[string]bool{}, handedBy: map[offered]uint32{}, sets: map[string]uint32{},
		ways: map[string][]Specimen{}, within: b.Within, treesWithin: b.TreesWithin, named: true,
		most: b.Most, inherit: b.Inherit}
	if s.most == 0 {
		s.most = maxSpecimens
	}
	for k, e := range b.Estates {
		s.terms[k] = Terms(e, b.Lists[k])
		if b.Within != nil {
			s.wanted = append(s.wanted, Terms(e, b.Within[k])...)
		}
		for _, g := range e.Grants {
			s.conditions(g.When)
		}
		for _, block := range e.Blocks {
			s.conditions(block.When)
		}
	}
	for key, values := range s.resource { // in an order that is the same each time
		slices.Sort(values)
		s.resource[key] = slices.Compact(values)
	}
	s.index()
	if b.Within == nil {
		s.makeUp(part{}, s.most*workEach)
		return s.out, s.whole, func() ([]Specimen, bool) { return nil, s.whole }
	}
	s.makeUp(partOf(s.wanted, s.patterns, false), s.most*workEach)
	return s.out, s.whole, func() ([]Specimen, bool) {
		n := len(s.out)
		if s.others = true; s.whole {
			s.makeUp(partOf(s.wanted, s.patterns, true), s.most*workEach/10)
		}
		return s.out[n:], s.whole && s.named
	}
}

// index finds the terms of each pattern.
func (s *sketch) index() {
	s.patterns = patternsOf(s.terms[:]...)
	for k, e := range s.estates {
		s.machines[k] = newMachines(e, s.patterns)
	}
	number := map[string]uint32{}
	for i, p := range s.patterns {
		number[p.String()] = uint32(i)
	}
	asks := map[string]int{}
	for k, terms := range s.terms {
		s.byIn[k] = map[uint32][]int{}
		for i, t := range terms {
			s.asks[k] = append(s.asks[k], s.askedBy(t, asks))
			if t.In == nil {
				s.anywhere[k] = append(s.anywhere[k], i)
			} else {
				n := number[t.In.String()]
				s.byIn[k][n] = append(s.byIn[k][n], i)
			}
		}
	}
}

// makeUp makes up those at the addresses that are meant, with so much work.
func (s *sketch) makeUp(which part, work int) {
	s.part, s.names, s.crossed, s.full = which, work, work, false
	for _, some := range []func(){s.inherited, s.listed, s.systems} {
		if s.full {
			return
		}
		some()
	}
}

// tooMuch ends what is being made up.
func (s *sketch) tooMuch() {
	s.full = true
	if s.others {
		s.named = false
	} else {
		s.whole = false
	}
}

func (s *sketch) conditions(c *estate.Condition) {
	c.Each(func(c *estate.Condition) {
		for _, m := range c.Resource {
			s.resource[m.Key] = append(s.resource[m.Key], m.Values...)
		}
	})
}

// same says that both estates list the same.
func (s *sketch) same() bool {
	return s.estates[0].Tree == s.estates[1].Tree && estate.SameMap(s.estates[0].Systems, s.estates[1].Systems)
}

func (s *sketch) taken(address string) bool {
	return s.estates[0].Tree.Find(address) >= 0 || s.estates[1].Tree.Find(address) >= 0
}

// inherited makes up what says nothing itself: where the trees are the same, of systems that judge such; else of all.
func (s *sketch) inherited() {
	keys, owners := keysAndOwners(s.facts, s.terms[:]...)
	same, which := s.same(), s.part
	if !same && !s.treesWithin { // none of them is idle
		if s.others {
			return
		}
		which = part{}
	}
	seen := map[estate.Address]bool{}
	for k, e := range s.estates {
		if k == 0 && same {
			continue
		}
		m := maker{estate: e, machines: s.machines[k], keys: keys, owners: owners, taken: s.taken,
			part: which, work: &s.names, in: func(sys *estate.System) bool { return sys.Judge || !same && !s.others },
			allOwners: s.facts.Owner}
		if other := s.estates[1-k]; !same {
			m.beside = func(address string) string { return s.values(other, address, keys, owners) }
		}
		some := !same && s.treesWithin && s.inherit > 0 // so that there is work left for what does not inherit
		names, ways := s.names/10, s.inherit
		if some {
			m.work = &names
		}
		whole := m.each(func(one made) bool {
			if !seen[one.Address] {
				seen[one.Address] = true
				s.add(Specimen{Address: one.Address, Inherit: true})
				ways--
			}
			return !s.full && (!some || ways > 0)
		})
		switch {
		case some && (names < 0 || ways <= 0):
			s.whole = false
		case !whole:
			s.tooMuch()
		}
	}
}

// values is all that an address would inherit in an estate, as far as it matters.
func (s *sketch) values(e *estate.Estate, address string, keys map[string]bool,
	owners map[estate.Principal]bool) string {
	a, err := estate.ParseAddress(address)
	if err != nil || e.Systems[a.System] == nil {
		return ""
	}
	r := e.Listed(a)
	if r == nil {
		r = e.Unlisted(a)
	}
	text := r.System.Kind.ID + "\x00" + r.Tags.Name(func(key string) bool { return keys[key] })
	if r.Owner != nil && (s.facts.Owner || owners[*r.Owner]) {
		text += "\x00" + r.Owner.String()
	}
	return text
}

// listed makes up what is listed one day in a system that is there, with any type, tags and owner.
func (s *sketch) listed() {
	seen, fresh := map[estate.Address]bool{}, s.inherit
	for k := 1; k >= 0; k-- {
		e, other := s.estates[k], s.estates[1-k]
		if k == 0 && e.Tree == other.Tree {
			return
		}
		m := maker{estate: e, machines: s.machines[k], taken: s.taken, part: s.part,
			work: &s.names, in: func(*estate.System) bool { return true }}
		whole := m.each(func(one made) bool {
			if seen[one.Address] {
				return true
			}
			seen[one.Address] = true
			system := e.Systems[one.System]
			kinds := []string{system.Kind.ID}
			if sys := other.Systems[one.System]; sys != nil && sys.Kind.ID != kinds[0] {
				kinds = append(kinds, sys.Kind.ID)
			}
			describe := func() { s.described(one, e.Folds(system), "", kinds...) }
			if other.Systems[one.System] != nil || !s.treesWithin || s.inherit == 0 {
				describe()
			} else {
				s.few(&fresh, describe)
			}
			return !s.full
		})
		if !whole {
			s.tooMuch()
		}
	}
}

// few makes up as many as are left of what is in systems that one of the estates has alone: nearly all of it differs.
func (s *sketch) few(left *int, describe func()) {
	most, there := s.most, len(s.out)-s.idle
	if *left <= 0 || there >= most {
		s.whole = false
		return
	}
	s.most = min(most, there+*left)
	describe()
	*left -= len(s.out) - s.idle - there
	s.most, s.full = most, false
}

// systems makes up systems that are not there yet.
func (s *sketch) systems() {
	kinds, globs, names := map[string]bool{}, []string(nil), map[string]bool{}
	for k, terms := range s.terms {
		e := s.estates[k]
		for _, sys := range e.Systems {
			kinds[sys.Kind.ID] = true
		}
		for _, t := range terms {
			for _, id := range t.Kinds {
				kinds[id] = true
			}
			switch {
			case t.In == nil:
			case strings.Contains(t.In.System, "*"):
				globs = append(globs, t.In.System)
			case s.estates[0].Systems[t.In.System] == nil && s.estates[1].Systems[t.In.System] == nil:
				names[t.In.System] = true
			}
		}
	}
	slices.Sort(globs)
	all := slices.Sorted(maps.Keys(names))
	taken := append(slices.Clone(all), s.systemIDs()...)
	slices.Sort(taken)
	more, whole := forms(slices.Compact(globs), taken)
	if all = append(all, more...); !whole {
		s.tooMuch()
	}
	for _, id := range all {
		if estate.CheckID(id) != nil {
			continue
		}
		a := placemap.NewAutomaton(&estate.System{Object: estate.Object{ID: id}}, false, s.patterns, lookup.NewSequences())
		for _, one := range s.pathsOf(newMachine(a)) {
			one.System = id
			for _, kind := range slices.Sorted(maps.Keys(kinds)) {
				if s.described(one, false, kind, kind); s.full {
					return
				}
			}
		}
	}
}

func (s *sketch) systemIDs() (out []string) {
	for _, e := range s.estates {
		for id := range e.Systems {
			out = append(out, id)
		}
	}
	return out
}

// maxPaths bounds how many ways into a system are made up that is not there yet.
const maxPaths = 256

// pathsOf makes up a path for each state of an automaton that is meant, the system itself first.
func (s *sketch) pathsOf(m *machine) (out []made) {
	type reached struct {
		path  string
		state uint32
	}
	seen := map[uint32]bool{}
	for queue := []reached{{"", m.Root()}}; len(queue) > 0 && len(out) < maxPaths; queue = queue[1:] {
		r := queue[0]
		if s.meant(m.Automaton, r.state) {
			out = append(out, made{estate.Address{Path: r.path}, m.Automaton, r.state})
		}
		names := m.segments(r.state)
		if s.names -= len(names); s.names < 0 {
			s.tooMuch()
			return out
		}
		for _, name := range names {
			to := m.Step(r.state, name)
			if seen[to] || !s.leads(m.Automaton, to) {
				continue
			}
			seen[to] = true
			queue = append(queue, reached{strings.TrimPrefix(r.path+"/"+name, "/"), to})
		}
	}
	return out
}

// add takes a specimen. One that none of the lists covers which are looked at is idle.
func (s *sketch) add(one Specimen) {
	if s.within != nil && (!one.Inherit || s.same() || s.treesWithin) {
		one.Idle = true
		for k, e := range s.estates {
			if r := one.In(e); r != nil && one.Idle {
				one.Idle = !slices.ContainsFunc(s.within[k], func(l estate.Resources) bool { return placemap.Covers(e, l, r) })
			}
		}
	}
	switch {
	case one.Idle && s.idle >= maxIdle:
		s.named = false
		s.full = s.others // among the others nothing else can come
		return
	case one.Idle:
		s.idle++
	case len(s.out)-s.idle >= s.most:
		s.whole, s.full = false, true
		return
	}
	s.out = append(s.out, one)
}

// described makes up a specimen at an address for each way in which the terms that can select it, and the conditions,
// tell type, tags and owner apart. fold says that the address's automaton ignores case.
func (s *sketch) described(at made, fold bool, kind string, kinds ...string) {
	a := at.Address
	w := ways{kinds: kinds}
	for k, terms := range s.terms {
		e := s.estates[k]
		sys := systemOf(e, a.System, kind)
		if sys == nil {
			continue
		}
		w.kind[k] = sys.Kind.ID
		folds := e.Folds(sys)
		for _, i := range s.selecting(k, at, fold == folds) {
			t, asks := &terms[i], s.asks[k][i]
			if asks < 0 || slices.Contains(w.asked, asks) ||
				t.In != nil && (t.Exactly && !t.In.Matches(a, folds) || !t.Exactly && !t.In.Covers(a, folds)) ||
				t.Kinds != nil && !slices.ContainsFunc(t.Kinds, e.Offer(sys.Kind.ID).Is) {
				continue
			}
			w.asked = append(w.asked, asks)
		}
		for _, kind := range kinds {
			if o := e.Offer(kind); o != nil {
				w.types = append(w.types, o.TypeOf(a.Depth(), a.Name(), typeAbove(e, o, a))) // the likeliest first
			}
		}
	}
	for _, e := range s.estates {
		for _, kind := range kinds {
			if o := e.Offer(kind); o != nil && a.Path != "" { // a system's own type is the first
				w.types = append(w.types, o.AllTypes...)
			}
		}
	}
	w.types = unique(w.types)
	for _, one := range s.waysOf(&w) {
		if s.crossed--; s.crossed < 0 {
			s.tooMuch()
		}
		if s.full {
			return
		}
		one.Address, one.Kind = a, kind
		s.add(one)
	}
}

// selecting gives the terms of an estate that can select something at an address, by number. alike says that the
// estate reads the address as its automaton does.
func (s *sketch) selecting(k int, at made, alike bool) []int {
	var out []int
	if alike {
		out = slices.Clone(s.anywhere[k])
		for _, n := range at.machine.Covered(at.state) {
			out = append(out, s.byIn[k][n]...)
		}
		slices.Sort(out)
	} else {
		for i := range s.terms[k] {
			out = append(out, i)
		}
	}
	s.crossed -= len(out)
	return out
}

// typeAbove gives the type of what an address stands in, in a system that there may not be yet.
func typeAbove(e *estate.Estate, o *estate.Offer, a estate.Address) string {
	parent, ok := a.Parent()
	switch {
	case !ok:
		return ""
	case e.Systems[a.System] == nil:
		t := o.Types[0]
		if parent.Path == "" {
			return t
		}
		for depth, name := range strings.Split(parent.Path, "/") {
			t = o.TypeOf(depth+1, name, t)
		}
		return t
	}
	if r := e.Listed(parent); r != nil {
		return r.Type
	}
	return e.Unlisted(parent).Type
}

// Facts is the same for what may come if conditions can't tell it apart.
func (s *Specimen) Facts(f *factspace.Facts) string {
	var b strings.Builder
	b.WriteString(s.Tags.Name(func(key string) bool { return f.Same[key] || f.Resource[key] }))
	for _, key := range slices.Sorted(maps.Keys(s.Others)) {
		b.WriteString(key + "\x01" + strings.Join(s.Others[key], "\x02") + "\x00")
	}
	if f.Owner && s.Owner != nil {
		b.WriteString("\x03" + s.Owner.String())
	}
	return b.String()
}

func unique(list []string) (out []string) {
	for _, s := range list {
		if !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

func uniqueOwners(list []*estate.Principal) (out []*estate.Principal) {
	for _, p := range list {
		if !slices.ContainsFunc(out, func(o *estate.Principal) bool { return o == p || o != nil && p != nil && *o == *p }) {
			out = append(out, p)
		}
	}
	return out
}

// systemOf finds a system, or makes one up of a kind; nil where there is none.
func systemOf(e *estate.Estate, id, kind string) *estate.System {
	if sys := e.Systems[id]; sys != nil || kind == "" {
		return sys
	}
	if e.Kinds[kind] == nil {
		return nil
	}
	return &estate.System{Object: estate.Object{ID: id}, Kind: estate.Ref{ID: kind}}
}

// In gives the resource as it would be in an estate; nil where its system is not, or lists something at the address.
func (s *Specimen) In(e *estate.Estate) *estate.Resource {
	sys := systemOf(e, s.Address.System, s.Kind)
	if sys == nil {
		return nil
	}
	if s.Inherit {
		if a := e.Canonical(s.Address); a != s.Address || e.Listed(a) != nil {
			return nil
		}
		return e.Unlisted(s.Address)
	}
	return &estate.Resource{Address: s.Address, System: sys, Index: -1, Type: s.Type, Tags: s.allTags(), Owner: s.Owner}
}

// allTags gives its tags with values that no list names where that is what they are.
func (s *Specimen) allTags() estate.Tags {
	tags := s.Tags
	for _, key := range slices.Sorted(maps.Keys(s.Others)) {
		tags = append(slices.Clone(tags), estate.Tag{Key: key, Value: "\x00"}) // which no list names
	}
	return tags
}

// Unsettled is what can't stay open of what may come, since it means other subjects in the one estate than in the
// other.
type Unsettled struct {
	Owners []estate.Principal // groups that own something, with other members
	// by key of a tag that resource and subject may share, the values of subjects whose tags are others
	Values map[string][]string
	Many   bool // there are more than are looked at
}
