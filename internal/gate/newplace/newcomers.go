// Package newplace makes up one resource for each way in which one that is not there yet can differ from all
// others, for lists of resources: by its address alone (newcomers), or by its type, tags and owner too
// (specimens).
package newplace

import (
	"slices"
	"strconv"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/factspace"
	"hiddengate/internal/gate/placemap"
	"hiddengate/internal/lookup"
)

// ForLists makes up addresses that no inventory lists, of systems that judge such: one for each way in which a new
// resource can differ from others by the patterns and addresses of some lists, by its type, or by what it inherits from
// the listed resource above it.
func ForLists(e *estate.Estate, lists []estate.Resources) []estate.Address {
	return mayCome(e, lists, func(s *estate.System) bool { return s.Judge })
}

// Newcomers gives, of every system, addresses in no inventory that a list selects: one for each way in which they can
// come to be.
func Newcomers(e *estate.Estate, list estate.Resources) []estate.Address {
	all := mayCome(e, []estate.Resources{list}, func(*estate.System) bool { return true })
	return slices.DeleteFunc(all, func(a estate.Address) bool { return !placemap.Covers(e, list, e.Unlisted(a)) })
}

// mayCome makes up addresses in some systems.
func mayCome(e *estate.Estate, lists []estate.Resources, in func(*estate.System) bool) []estate.Address {
	if !slices.ContainsFunc(e.Tree.Systems, in) {
		return nil
	}
	f := factspace.Gather(e)
	terms := Terms(e, lists)
	keys, owners := keysAndOwners(&f, terms)
	m := maker{estate: e, machines: newMachines(e, patternsOf(terms)), keys: keys, owners: owners,
		allOwners: f.Owner, in: in,
		taken: func(address string) bool { return e.Tree.Find(address) >= 0 }}
	return m.make()
}

// maker says what addresses are made up of.
type maker struct {
	estate    *estate.Estate
	keys      map[string]bool // of the tags by which what is inherited is told apart
	owners    map[estate.Principal]bool
	allOwners bool
	in        func(*estate.System) bool // the systems
	taken     func(address string) bool
	beside    func(address string) string // what else tells apart what is new below a listed resource; nil: nothing
	part                                  // which of them are made up
	work      *int                        // how many more names may be looked at; nil: any number
	machines  *machines                   // of the systems, by the patterns by which addresses are made up
}

// machines is the automata of an estate's systems by some patterns, each made once it is asked for.
type machines struct {
	estate   *estate.Estate
	patterns []estate.Pattern
	of       []*machine        // by the number of the system
	sets     *lookup.Sequences // of patterns
}

func newMachines(e *estate.Estate, patterns []estate.Pattern) *machines {
	return &machines{e, patterns, make([]*machine, len(e.Tree.Systems)), lookup.NewSequences()}
}

// get gives that of a system.
func (m *machines) get(system uint32) *machine {
	if m.of[system] == nil {
		s := m.estate.Tree.Systems[system]
		m.of[system] = newMachine(placemap.NewAutomaton(s, m.estate.Folds(s), m.patterns, m.sets))
	}
	return m.of[system]
}

// made is an address that is made up, with its state in the automaton of its system.
type made struct {
	estate.Address
	machine *placemap.Automaton
	state   uint32
}

// make makes them up.
func (m *maker) make() (out []estate.Address) {
	m.each(func(one made) bool {
		out = append(out, one.Address)
		return true
	})
	return out
}

// each makes them up one by one, until yield returns false; whole is false if there was too much to look at.
func (m *maker) each(yield func(made) bool) (whole bool) {
	e := m.estate
	if !slices.ContainsFunc(e.Tree.Systems, m.in) {
		return true
	}
	n := newcomer{maker: m, done: map[surroundings]*below{}, yield: yield}
	for _, tags := range e.Tree.Tags {
		n.tags = append(n.tags, tags.Name(func(key string) bool { return m.keys[key] }))
	}
	for i, o := range e.Tree.Owners {
		if !m.allOwners && (o == nil || !m.owners[*o]) {
			i = 0
		}
		n.ownerOf = append(n.ownerOf, i)
	}
	in := make([]bool, len(e.Tree.Systems))
	for i, s := range e.Tree.Systems {
		in[i] = m.in(s)
	}
	type at struct {
		row   int
		state uint32
		depth int
	}
	var above []at // what the resource at hand stands in, and itself
	for i := range m.rows(e) {
		row := e.Tree.Rows[i]
		if !in[row.System] {
			continue
		}
		a, s := m.machines.get(row.System), e.Tree.Systems[row.System]
		address, here := e.Tree.Address(i), at{row: i}
		if row.Parent == 0 {
			above, here.state = above[:0], a.Root()
		} else {
			for above[len(above)-1].row != int(row.Parent)-1 {
				above = above[:len(above)-1]
			}
			parent := above[len(above)-1]
			here.state = a.Step(parent.state, address[len(e.Tree.Address(parent.row))+1:])
			here.depth = parent.depth + 1
		}
		above = append(above, here)
		if !m.leads(a.Automaton, here.state) {
			continue
		}
		n.machine, n.offer = a, e.Offer(s.Kind.ID)
		n.deepest = max(len(n.offer.Types)-1, 1) // by name a type is told right in the system
		h := surroundings{row.System, stage{here.state, min(here.depth, n.deepest), e.Tree.Types[row.Type]},
			n.tags[row.Tags], n.ownerOf[row.Owner], ""}
		if m.beside != nil {
			h.beside = m.beside(address)
		}
		if n.under(address, h); n.stopped {
			break
		}
	}
	return !n.tooMuch && !n.sparse
}

// newcomer makes up addresses.
type newcomer struct {
	*maker
	tags    []string // of each of the tree's tags, what of them matters
	ownerOf []int
	machine *machine // of the system at hand
	offer   *estate.Offer
	deepest int // the depth from which on its types are the same, but for what they stand in
	done    map[surroundings]*below
	yield   func(made) bool
	stopped bool // nobody wants more, or there is too much
	tooMuch bool
	sparse  bool // some names were not looked for
}

// surroundings is all that can tell what is new below one listed resource from what is new below another.
type surroundings struct {
	system uint32
	stage
	tags   string
	owner  int
	beside string
}

// stage is how far an address has come in the patterns, its depth and its type.
type stage struct {
	state uint32
	depth int
	typ   string
}

// below is what has been made up below listed resources that are alike.
type below struct {
	names []string // of segments that tell
	seen  map[stage]bool
	open  int // how many of the names have led nowhere yet: what they name is listed
}

// under makes up addresses below a listed resource, unless there are such below another that is alike.
func (n *newcomer) under(address string, h surroundings) {
	b := n.done[h]
	if b == nil {
		b = &below{names: n.leading(h.stage), seen: map[stage]bool{}}
		b.open = len(b.names)
		n.done[h] = b
	}
	if b.open == 0 {
		return
	}
	sep := "/"
	if !strings.Contains(address, ":") {
		sep = ":"
	}
	b.open = 0
	for _, name := range b.names {
		to := n.next(h.stage, name)
		if n.spend(1); n.stopped {
			return
		}
		if b.seen[to] {
			continue
		}
		if free, ok := n.unlisted(address+sep, h.stage, name); ok {
			n.below(b, address+sep+free, to)
		} else {
			b.open++
		}
	}
}

// spend counts what is looked at.
func (n *newcomer) spend(names int) {
	if n.work == nil {
		return
	}
	if *n.work -= names; *n.work < 0 {
		n.stopped, n.tooMuch = true, true
	}
}

// leading gives the names that lead on from a stage to what is meant.
func (n *newcomer) leading(from stage) (out []string) {
	all := n.segments(from)
	n.spend(len(all))
	for _, name := range all {
		if n.leads(n.machine.Automaton, n.next(from, name).state) {
			out = append(out, name)
		}
	}
	return out
}

func (n *newcomer) next(from stage, name string) stage {
	depth := min(from.depth+1, n.deepest)
	return stage{n.machine.Step(from.state, name), depth, n.offer.TypeOf(from.depth+1, name, from.typ)}
}

// segments are names that lead on from a stage to every other: those of the patterns, and right in a system those that
// tell a type.
func (n *newcomer) segments(from stage) []string {
	out := n.machine.segments(from.state)
	n.sparse = n.sparse || n.machine.sparse
	if from.depth > 0 {
		return out
	}
	out = slices.Clip(out)
	for _, name := range n.offer.Names() {
		if !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// unlisted gives a name like the one given, for the patterns and the type, under which nothing is listed; ok is false
// if there is none.
func (n *newcomer) unlisted(above string, from stage, name string) (string, bool) {
	if !n.taken(above + name) {
		return name, true
	}
	to := n.next(from, name)
	for count := 1; count <= 1000; count *= 10 {
		more := "new" + strings.TrimPrefix(strconv.Itoa(count), "1")
		for at := len(name); at >= 0; at-- {
			other := name[:at] + more + name[at:]
			if n.next(from, other) == to && !n.taken(above+other) && sound(above+other) {
				return other, true
			}
		}
	}
	return "", false
}

// below takes an address, and one for each further way that leads on from it.
func (n *newcomer) below(b *below, address string, at stage) {
	b.seen[at] = true
	type reached struct {
		address string
		at      stage
	}
	for queue := []reached{{address, at}}; len(queue) > 0; queue = queue[1:] {
		r := queue[0]
		if n.meant(n.machine.Automaton, r.at.state) {
			a, _ := estate.ParseAddress(r.address) // segments gives sound ones alone
			if !n.yield(made{a, n.machine.Automaton, r.at.state}) {
				n.stopped = true
			}
		}
		names := n.segments(r.at)
		if n.spend(len(names)); n.stopped {
			return
		}
		for _, name := range names {
			if to := n.next(r.at, name); !b.seen[to] && n.leads(n.machine.Automaton, to.state) {
				b.seen[to] = true
				queue = append(queue, reached{r.address + "/" + name, to})
			}
		}
	}
}

// sound says that a text is an address, as canonical.
func sound(address string) bool {
	a, err := estate.ParseAddress(address)
	return err == nil && a.String() == address
}
