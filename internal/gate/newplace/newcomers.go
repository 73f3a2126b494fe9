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
	f := factspace.Gather(e)
	terms := Terms(e, lists)
	keys, owners := keysAndOwners(&f, terms)
	m := maker{estate: e, patterns: patternsOf(terms), keys: keys, owners: owners, allOwners: f.Owner, in: in,
		taken: func(address string) bool { return e.Tree.Find(address) >= 0 }}
	return m.make()
}

// maker says what addresses are made up of.
type maker struct {
	estate    *estate.Estate
	patterns  []estate.Pattern
	keys      map[string]bool // of the tags by which what is inherited is told apart
	owners    map[estate.Principal]bool
	allOwners bool
	in        func(*estate.System) bool // the systems
	taken     func(address string) bool
	beside    func(address string) string // what else tells apart what is new below a listed resource; nil: nothing
}

// make makes them up.
func (m *maker) make() []estate.Address {
	e := m.estate
	if !slices.ContainsFunc(e.Tree.Systems, m.in) {
		return nil
	}
	n := newcomer{taken: m.taken, sets: lookup.NewSequences(), done: map[surroundings]*below{}}
	for _, tags := range e.Tree.Tags {
		n.tags = append(n.tags, tags.Name(func(key string) bool { return m.keys[key] }))
	}
	for i, o := range e.Tree.Owners {
		if !m.allOwners && (o == nil || !m.owners[*o]) {
			i = 0
		}
		n.owners = append(n.owners, i)
	}
	machines := make([]*placemap.Automaton, len(e.Tree.Systems))
	for i, s := range e.Tree.Systems {
		if m.in(s) {
			machines[i] = placemap.NewAutomaton(s, e.Folds(s), m.patterns, n.sets)
		}
	}
	type at struct {
		state uint32
		depth int
	}
	states := make([]at, e.Tree.Len())
	for i, row := range e.Tree.Rows {
		a := machines[row.System]
		if a == nil {
			continue
		}
		s := e.Tree.Systems[row.System]
		address := e.Tree.Address(i)
		if row.Parent == 0 {
			states[i] = at{a.Root(), 0}
		} else {
			above := states[row.Parent-1]
			states[i] = at{a.Step(above.state, address[len(e.Tree.Address(int(row.Parent-1)))+1:]), above.depth + 1}
		}
		n.machine, n.offer = a, e.Offer(s.Kind.ID)
		n.deepest = max(len(n.offer.Types)-1, 1) // by name a type is told right in the system
		h := surroundings{row.System, stage{states[i].state, min(states[i].depth, n.deepest), e.Tree.Types[row.Type]},
			n.tags[row.Tags], n.owners[row.Owner], ""}
		if m.beside != nil {
			h.beside = m.beside(address)
		}
		n.under(address, h)
	}
	return n.out
}

// newcomer makes up addresses.
type newcomer struct {
	taken   func(address string) bool
	sets    *lookup.Sequences
	tags    []string // of each of the tree's tags, what of them matters
	owners  []int
	machine *placemap.Automaton // of the system at hand
	offer   *estate.Offer
	deepest int // the depth from which on its types are the same, but for what they stand in
	done    map[surroundings]*below
	out     []estate.Address
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
		b = &below{names: n.segments(h.stage), seen: map[stage]bool{}}
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

func (n *newcomer) next(from stage, name string) stage {
	depth := min(from.depth+1, n.deepest)
	return stage{n.machine.Step(from.state, name), depth, n.offer.TypeOf(from.depth+1, name, from.typ)}
}

// segments are names that lead on from a stage to every other: those of the patterns, and right in a system those that
// tell a type.
func (n *newcomer) segments(from stage) []string {
	out := segments(n.machine, from.state)
	if from.depth > 0 {
		return out
	}
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
		a, _ := estate.ParseAddress(r.address) // segments gives sound ones alone
		n.out = append(n.out, a)
		for _, name := range n.segments(r.at) {
			if to := n.next(r.at, name); !b.seen[to] {
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

// maxForms bounds how many ways of a name are looked at; patterns that differ in more are beyond what anybody writes.
const maxForms = 1 << 14

// segments makes up names that lead from a state to every state that some name leads to: those that patterns spell out,
// and the shortest for each set of wildcards that can match together.
func segments(a *placemap.Automaton, state uint32) []string {
	var globs []string
	out := []string{}
	for _, p := range a.States[state].Positions {
		switch segment := a.Patterns[p.Pattern].Segments[p.At]; {
		case segment == "**" || segment == "*":
		case strings.Contains(segment, "*"):
			globs = append(globs, segment)
		default:
			out = append(out, segment)
		}
	}
	slices.Sort(globs)
	globs = slices.Compact(globs)
	slices.Sort(out)
	out = slices.Compact(out)
	return append(out, forms(globs, out)...)
}

// forms gives the shortest text for each set of globs that some text matches, and no others; none of the texts is one
// of those taken. It goes through the product of the globs' automata, breadth first.
func forms(globs, taken []string) (out []string) {
	symbols := append([]string{"new"}, symbolsOf(globs)...)
	type form struct {
		text string
		at   string
	}
	start := make([][]int, len(globs))
	for i := range globs {
		start[i] = closure(globs[i], []int{0})
	}
	seen, told := map[string]bool{name(start): true}, map[string]bool{}
	sets := map[string][][]int{name(start): start}
	for queue := []form{{"", name(start)}}; len(queue) > 0 && len(seen) < maxForms; queue = queue[1:] {
		f := queue[0]
		for _, symbol := range symbols {
			text, bare := f.text+symbol, f.text+symbol
			next := make([][]int, len(globs))
			for i, at := range sets[f.at] {
				next[i] = at
				for _, b := range []byte(symbol) {
					next[i] = advance(globs[i], next[i], b)
				}
			}
			if matched := accepted(globs, next); !told[matched] && !slices.Contains(taken, text) && sound("a:"+text) {
				told[matched] = true
				longer := slices.Clone(next) // frame-new is easier to read than frame-
				for i := range longer {
					for _, b := range []byte("new") {
						longer[i] = advance(globs[i], longer[i], b)
					}
				}
				if more := text + "new"; text != "new" && accepted(globs, longer) == matched && !slices.Contains(taken, more) {
					text = more
				}
				out = append(out, text)
			}
			if key := name(next); !seen[key] {
				seen[key] = true
				sets[key] = next
				queue = append(queue, form{bare, key})
			}
		}
	}
	return out
}

// symbolsOf lists the characters that occur in globs, percent-escapes as one, and one that does not.
func symbolsOf(globs []string) []string {
	var out []string
	all := strings.ReplaceAll(strings.Join(globs, ""), "*", "")
	for rest := all; rest != ""; {
		size := len(string([]rune(rest)[:1]))
		if rest[0] == '%' && len(rest) >= 3 {
			size = 3
		}
		out = append(out, rest[:size])
		rest = rest[size:]
	}
	for fresh := 'α'; ; fresh++ {
		if !strings.ContainsRune(all, fresh) {
			out = append(out, string(fresh))
			break
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// closure adds to the positions in a glob those behind a star.
func closure(glob string, at []int) []int {
	for i := 0; i < len(at); i++ {
		if at[i] < len(glob) && glob[at[i]] == '*' && !slices.Contains(at, at[i]+1) {
			at = append(at, at[i]+1)
		}
	}
	slices.Sort(at)
	return at
}

// advance goes on by one byte.
func advance(glob string, at []int, b byte) []int {
	var out []int
	for _, i := range at {
		if i < len(glob) && glob[i] == '*' {
			out = append(out, i)
		} else if i < len(glob) && glob[i] == b {
			out = append(out, i+1)
		}
	}
	slices.Sort(out)
	return closure(glob, slices.Compact(out))
}

// accepted tells which of the globs match.
func accepted(globs []string, at [][]int) string {
	out := make([]byte, len(globs))
	for i, g := range globs {
		if slices.Contains(at[i], len(g)) {
			out[i] = 1
		}
	}
	return string(out)
}

// name is a product of positions as a key.
func name(at [][]int) string {
	var b strings.Builder
	for _, list := range at {
		for _, i := range list {
			b.WriteString(strconv.Itoa(i))
			b.WriteByte(' ')
		}
		b.WriteByte(';')
	}
	return b.String()
}
