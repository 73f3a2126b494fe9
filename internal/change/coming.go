package change

import (
	"maps"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/gate/newplace"
)

// place is what names some of what may come.
type place struct {
	text  string
	piles map[int]bool // what it has of that, by number
	name  string       // in the text
}

// candidates are places that may name what a line tells of what may come.
type candidates struct {
	list []place
	by   map[int][]int // of what may come, by number, the places that have it
}

// example is one of what may come that a place is told by.
type example struct {
	number  int // of its pile; of one to which nobody's access differs, another
	inherit bool
	*estate.Resource
	index int // among all
}

// comingSide is one of the estates of a pair.
type comingSide struct {
	pair *differing.Pair
	side differing.Side
}

// comingExamples are all that may come, as they would be in one estate.
type comingExamples struct {
	list   []example
	covers map[coveringTerm][]bool
	named  map[namedFor]*candidates
}

// namedFor is what candidates hang on.
type namedFor struct {
	examples string           // to which the operations apply, a bit for each
	subject  estate.Principal // whose lists name places; none, where those within which access differs do
}

// coveringTerm is a term as one of the estates reads it.
type coveringTerm struct {
	gate *gate.Gate
	text string
}

// covered says of each example whether a term covers it. It is asked of one term again and again.
func (c *comingExamples) covered(g *gate.Gate, t *estate.ResourceTerm, text string) []bool {
	key := coveringTerm{g, text}
	known := c.covers[key]
	if known == nil {
		for i := range c.list {
			known = append(known, g.CoversTerm(t, c.list[i].Resource))
		}
		c.covers[key] = known
	}
	return known
}

// comingIn gives all that may come, in one estate of a pair.
func (e *Effect) comingIn(s comingSide) *comingExamples {
	if known := e.coming[s]; known != nil {
		return known
	}
	out := &comingExamples{covers: map[coveringTerm][]bool{}, named: map[namedFor]*candidates{}}
	add := func(number int, inherit bool, r *estate.Resource) {
		if r != nil {
			out.list = append(out.list, example{number, inherit, r, len(out.list)})
		}
	}
	for _, p := range s.pair.Coming() {
		add(p.Number(), p.May().Inherit, p.Resource(s.side))
	}
	all, _ := s.pair.Idle()
	for i, idle := range all {
		add(-1-i, idle.Inherit, idle.In(s.pair.Gate(s.side).Estate()))
	}
	if e.coming == nil {
		e.coming = map[comingSide]*comingExamples{}
	}
	e.coming[s] = out
	return out
}

// examples lists what may come to which a line's operations apply, what the line is about and all else.
func (e *Effect) examples(l *Line) (out []example) {
	of := l.pair.Gate(l.side()).Estate()
	type place struct{ kind, typ string }
	applies := map[place]bool{}
	for _, x := range e.comingIn(comingSide{l.pair, l.side()}).list {
		at := place{x.System.Kind.ID, x.Type}
		is, known := applies[at]
		if !known {
			is = slices.ContainsFunc(l.Operations, func(op string) bool { return of.Offer(at.kind).Valid(op, at.typ) != nil })
			applies[at] = is
		}
		if is {
			out = append(out, x)
		}
	}
	return out
}

// comingPlaces names what a line tells of what may come: by the systems, addresses, patterns and selectors that
// select it and nothing else to which the operations apply, and the rest by examples.
func (e *Effect) comingPlaces(l *Line) []string {
	left := map[int]bool{}
	for p := range l.Piles.All() {
		left[p.Number()] = true
	}
	fit := e.candidates(l).fitting(left)
	var out []string
	for len(left) > 0 {
		best, most := -1, 0
		for i, c := range fit {
			n := 0
			for k := range c.piles {
				if left[k] {
					n++
				}
			}
			if n > most {
				best, most = i, n
			}
		}
		if best < 0 {
			break
		}
		out = append(out, fit[best].text)
		for k := range fit[best].piles {
			delete(left, k)
		}
	}
	if len(left) > 0 {
		for _, p := range l.pair.Coming() {
			if left[p.Number()] {
				out = append(out, "what is added like "+Described(p))
			}
		}
	}
	return out
}

// fitting gives those of the candidates that have nothing but what is wanted, or would without another one.
func (c *candidates) fitting(wanted map[int]bool) (fit []place) {
	var relevant []int
	for n := range wanted {
		relevant = append(relevant, c.by[n]...)
	}
	slices.Sort(relevant)
	for _, i := range slices.Compact(relevant) {
		one := &c.list[i]
		others := slices.DeleteFunc(slices.Collect(maps.Keys(one.piles)), func(n int) bool { return wanted[n] })
		if len(others) == 0 {
			fit = append(fit, *one)
			continue
		}
		for _, k := range c.by[others[0]] {
			not := &c.list[k]
			if not.hasAny(wanted) || slices.ContainsFunc(others, func(n int) bool { return !not.piles[n] }) {
				continue
			}
			less := place{one.text + ", but not " + not.name, maps.Clone(one.piles), ""}
			for n := range not.piles {
				delete(less.piles, n)
			}
			fit = append(fit, less)
			break
		}
	}
	return fit
}

// hasAny says that a place has some of what is wanted.
func (p *place) hasAny(wanted map[int]bool) bool {
	for n := range p.piles {
		if wanted[n] {
			return true
		}
	}
	return false
}

// side is the estate in which what the line tells can be done.
func (l *Line) side() differing.Side {
	if l.Way == Loses {
		return differing.Old
	}
	return differing.New
}

// AddedAnywhere stands for whatever may come.
const AddedAnywhere = "whatever is added, anywhere"

// AddedUnder stands for whatever may come in a place.
func AddedUnder(address string) string { return "whatever is added under " + address }

// added stands for whatever may come that a term covers.
func added(t estate.ResourceTerm) string {
	if under, ok := strings.CutPrefix(within(t), "under "); ok {
		return AddedUnder(under)
	}
	return "whatever is added that " + t.String() + " selects"
}

// within names what a term covers, behind "but not".
func within(t estate.ResourceTerm) string {
	if text := t.String(); strings.HasPrefix(text, "{") || t.Scope != "" {
		return "what " + text + " selects"
	}
	return "under " + t.String()
}

// candidates are what may name a line's places, those that say most in a word first.
func (e *Effect) candidates(l *Line) *candidates {
	among, all := e.comingIn(comingSide{l.pair, l.side()}), e.examples(l)
	bits := make([]byte, (len(among.list)+7)/8)
	for _, x := range all {
		bits[x.index/8] |= 1 << (x.index % 8)
	}
	_, named := l.pair.Idle()
	key := namedFor{examples: string(bits)}
	if named {
		key.subject = l.Subjects[0]
	}
	out := among.named[key]
	if out == nil {
		out = &candidates{by: map[int][]int{}}
		if named {
			out.list = e.named(l, among, all)
		} else {
			out.list = e.sure(l, among, all)
		}
		for i, p := range out.list {
			for n := range p.piles {
				out.by[n] = append(out.by[n], i)
			}
		}
		among.named[key] = out
	}
	return out
}

// named are what may name places where all that may come is known.
func (e *Effect) named(l *Line, among *comingExamples, all []example) []place {
	everything := place{AddedAnywhere, map[int]bool{}, "all that is added"}
	systems := map[string]*place{}
	for _, x := range all {
		everything.piles[x.number] = true
		if id := x.Address.System; l.pair.Gate(l.side()).Estate().Systems[id] != nil {
			if systems[id] == nil {
				systems[id] = &place{AddedUnder(id), map[int]bool{}, "under " + id}
			}
			systems[id].piles[x.number] = true
		}
	}
	out := []place{everything}
	for _, s := range estate.Sorted(systems) {
		out = append(out, *s)
	}
	seen := map[string]bool{}
	for _, g := range []*gate.Gate{l.pair.Gate(l.side()), l.pair.Gate(1 - l.side())} {
		for _, t := range newplace.Terms(g.Estate(), listsAbout(g, l.Subjects[0])) {
			text := t.String()
			if t.Everything || seen[text] {
				continue
			}
			seen[text] = true
			one, covered := place{added(t), map[int]bool{}, within(t)}, among.covered(g, &t, text)
			for _, x := range all {
				if covered[x.index] {
					one.piles[x.number] = true
				}
			}
			out = append(out, one)
		}
	}
	return append(out, inheriting(all)...)
}

// sure are what may name places where not all that may come is known: entries of the lists within which access
// differs, of such as take nothing away. Whatever one of those covers is looked at.
func (e *Effect) sure(l *Line, among *comingExamples, all []example) (out []place) {
	if e.within == nil {
		return nil
	}
	seen := map[string]bool{}
	for k, lists := range e.within {
		g := []*gate.Gate{l.pair.Old, l.pair.New}[k]
		for _, list := range lists {
			if slices.ContainsFunc(list, func(t estate.ResourceTerm) bool { return t.Not || t.Scope != "" }) {
				continue
			}
			for _, t := range list {
				text, name := t.String(), within(t)
				if seen[name] {
					continue
				}
				seen[name] = true
				one, covered := place{added(t), map[int]bool{}, name}, among.covered(g, &t, text)
				for _, x := range all {
					if x.number >= 0 && covered[x.index] {
						one.piles[x.number] = true
					}
				}
				out = append(out, one)
			}
		}
	}
	slices.SortFunc(out, func(a, b place) int { return strings.Compare(a.text, b.text) })
	return out
}

// listsAbout gives the lists of resources of the grants and blocks that name somebody.
func listsAbout(g *gate.Gate, who estate.Principal) (lists []estate.Resources) {
	for _, gr := range estate.Sorted(g.Estate().Grants) {
		if g.Selects(gr.To, who) {
			lists = append(lists, gr.On)
		}
	}
	for _, b := range estate.Sorted(g.Estate().Blocks) {
		if g.Selects(b.To, who) {
			lists = append(lists, b.On)
		}
	}
	return lists
}

// inheriting names what says nothing of itself by each listed resource from which it inherits.
func inheriting(all []example) (out []place) {
	at := map[string]int{}
	for _, x := range all {
		if !x.inherit {
			continue
		}
		for r := x.Parent; r != nil; r = r.Parent {
			text := r.Address.String()
			i, ok := at[text]
			if !ok {
				i = len(out)
				at[text] = i
				out = append(out, place{"what is added under " + text + " and inherits from it", map[int]bool{}, "under " + text})
			}
			out[i].piles[x.number] = true
		}
	}
	return out
}

// Described tells an example of what may come, with what lists ask of it.
func Described(p *differing.Pile) string {
	m := p.May()
	var parts []string
	if m.Kind != "" {
		parts = append(parts, "in a new system of kind "+m.Kind)
	}
	if !m.Inherit {
		parts = append(parts, "type "+m.Type)
		for _, t := range m.Tags {
			parts = append(parts, t.Key+": "+t.Value)
		}
		for key := range m.Others {
			parts = append(parts, key+": another")
		}
		slices.Sort(parts[len(parts)-len(m.Others):])
		if m.Owner != nil {
			parts = append(parts, "owner "+m.Owner.String())
		}
	}
	if parts == nil {
		return p.First()
	}
	return p.First() + " (" + strings.Join(parts, ", ") + ")"
}
