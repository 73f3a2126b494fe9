package gate

import (
	"fmt"
	"iter"
	"maps"
	"slices"
	"strings"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/factspace"
	"hiddengate/internal/gate/membership"
	"hiddengate/internal/gate/opset"
	"hiddengate/internal/gate/placemap"
	"hiddengate/internal/gate/unitrow"
	"hiddengate/internal/lookup"
	"hiddengate/internal/parallel"
	"hiddengate/internal/region"
)

// compiler makes a gate.
type compiler struct {
	*Gate
	bad    diagnostic.List
	marks  []estate.Address // that are marks too
	lists  []estate.Resources
	only   map[estate.Principal]bool
	asked  []uint32 // the numbers of those, in order
	roster *membership.Roster
	chosen *Entries
	placed *placemap.Map
	shares []unitrow.Share
	number map[string]uint32 // of lists of subjects
	who    [][]uint32        // of each list of subjects, the subjects
	units  *unitrow.Maker
	ofRole map[roleWithin][]uint32 // the units of a role alone
	// in the order of their ids, with the numbers of their lists of resources
	sortedGrants []*estate.Grant
	sortedBlocks []*estate.Block
	on           []int
}

// roleWithin is a role, by id, as a grant in force in a region gives it.
type roleWithin struct {
	role string
	when region.Region
}

// Options say how a gate is compiled. Their zero value, with the estate's own facts, is how one is that stands alone.
type Options struct {
	Facts factspace.Facts
	Space *region.Space      // nil: one of its own
	Marks []estate.Address   // that are marks too
	Lists []estate.Resources // that places are told apart by too
	Which Counting
	Only  map[estate.Principal]bool // subjects that are asked about; nil: all
	// Roster is that of the estate; nil: it is made
	Roster *membership.Roster
	// Entries are the grants and blocks that count; nil: all
	Entries *Entries
	// Places are those of an estate with the same systems, kinds and scopes, told apart by all these lists and marks; nil:
	// they are worked out
	Places *placemap.Map
}

// Counting says which grants count.
type Counting int

// Standing grants count, with those that are lent; on-request grants alone, as if they were in force; or both.
const (
	Standing Counting = iota
	OnRequest
	Both
)

// counts says whether a grant counts at all, and asIfLent whether it does without being lent.
func (c Counting) counts(gr *estate.Grant) bool { return c != OnRequest || gr.OnRequest != nil }

func (c Counting) asIfLent(gr *estate.Grant) bool { return gr.OnRequest == nil || c != Standing }

// newGate makes a gate that knows its estate's conditions and kinds, and nothing else yet.
func newGate(e *estate.Estate, o Options) *Gate {
	g := &Gate{
		estate: e, Normal: Normal{Roles: map[string]*CompiledRole{}}, subjects: map[int]*CompiledSubject{},
		named:   map[uint32]*entries{},
		inRoles: map[decisionKey]region.Region{}, coverAny: map[string]bool{}, lent: map[uint32][]lending{},
		lentFor: map[lentKey][]lentFor{},
		lists:   lookup.NewSequences(), roleSets: lookup.NewSequences(),
	}
	g.Facts, g.space, g.Which = o.Facts, o.Space, o.Which
	if g.space == nil {
		g.space = g.Facts.Space(e)
	}
	g.scratch = g.space.NewContext()
	if g.Classes = opset.New(e); o.Places != nil {
		g.Classes = o.Places.Classes
	}
	for _, s := range estate.Sorted(e.Separations) {
		if s.Session {
			g.sessions = append(g.sessions, s)
		}
	}
	return g
}

// ListsOf lists the lists of resources of grants and then blocks.
func ListsOf(grants []*estate.Grant, blocks []*estate.Block) []estate.Resources {
	on := make([]estate.Resources, 0, len(grants)+len(blocks))
	for _, gr := range grants {
		on = append(on, gr.On)
	}
	for _, b := range blocks {
		on = append(on, b.On)
	}
	return on
}

// Compile makes the gate of an estate. Its error is a diagnostic.List that names entries whose conditions are too
// complex.
func Compile(e *estate.Estate, elevations []estate.Elevation) (*Gate, error) {
	return CompileWith(e, elevations, Options{Facts: factspace.Gather(e)})
}

// CompileWith is Compile with options.
func CompileWith(e *estate.Estate, elevations []estate.Elevation, o Options) (*Gate, error) {
	g := newGate(e, o)
	c := &compiler{
		Gate:   g,
		number: map[string]uint32{},
		marks:  append(marksOf(e, elevations), o.Marks...),
		lists:  o.Lists,
		only:   o.Only,
		roster: o.Roster,
		chosen: o.Entries,
		placed: o.Places,
	}
	if n := len(g.Classes.Ops.List); n > MaxOperations {
		return nil, diagnostic.List{{Severity: diagnostic.Error,
			Message: fmt.Sprintf("the estate has %d operations; at most %d can be judged", n, MaxOperations)}}
	}
	if c.chosen == nil {
		c.chosen = &Entries{estate.Sorted(e.Grants), estate.Sorted(e.Blocks)}
	}
	c.units = unitrow.NewMaker(len(g.Classes.Ops.List))
	var placing parallel.Group
	placing.Go(c.place)
	c.subjects()
	for _, id := range slices.Sorted(maps.Keys(e.Roles)) {
		_, err := g.role(id)
		c.report("role", &e.Roles[id].Object, err)
	}
	placing.Wait()
	c.entries()
	g.lend(c.units, elevations, func(o *estate.Object, err error) { c.report("grant", o, err) })
	if len(c.bad) > 0 {
		return nil, c.bad.Sort()
	}
	c.classify()
	g.complete = o.Only == nil && o.Entries == nil && len(elevations) == 0
	return g, nil
}

func (c *compiler) report(what string, o *estate.Object, err error) {
	if err != nil {
		c.bad = append(c.bad, diagnostic.Diagnostic{
			Severity: diagnostic.Error, Position: o.Source.Position,
			Message: fmt.Sprintf("%s %s: %s", what, o.ID, err),
			Help:    "name fewer things in its conditions, or split it into several",
		})
	}
}

// subjects numbers the subjects.
func (c *compiler) subjects() {
	g := c.Gate
	if c.roster == nil {
		c.roster = membership.New(c.estate)
	}
	g.Roster = c.roster
	g.Rows.RowOf = lookup.Large[unitrow.Holder](len(g.All), len(g.All))
	windows := map[string]region.Region{} // most subjects have the same
	c.asked = numbersOf(g.Roster, c.only)
	for i := range c.answered() {
		s, h := g.All[i], &g.Rows.RowOf[i]
		if s.Status != estate.Statuses[0] {
			continue
		}
		key := datesOf(s)
		active, ok := windows[key]
		if !ok {
			var err error
			active, err = g.active(s)
			c.report("subject", &s.Object, err)
			windows[key] = active
		}
		h.Active = int32(active)
	}
}

// answered gives the numbers of those for whom the gate answers.
func (c *compiler) answered() iter.Seq[uint32] {
	if c.only != nil {
		return slices.Values(c.asked)
	}
	return func(yield func(uint32) bool) {
		for i := range uint32(len(c.All)) {
			if !yield(i) {
				return
			}
		}
	}
}

// datesOf is the same for subjects who are active at the same times.
func datesOf(s *estate.Subject) string {
	if s.Starts == nil && s.Ends == nil && s.Away == nil {
		return ""
	}
	key := ""
	add := func(m *estate.Moment) {
		if key += "/"; m != nil {
			key += m.Text
		}
	}
	add(s.Starts)
	add(s.Ends)
	for _, a := range s.Away {
		add(a.Starts)
		add(a.Ends)
	}
	return key
}

// active is the time within a subject's dates, less that in which it is away.
func (g *Gate) active(s *estate.Subject) (region.Region, error) {
	r, err := g.during(s.Starts, s.Ends)
	for _, a := range s.Away {
		if err != nil {
			return region.Empty, err
		}
		var away region.Region
		if away, err = g.during(a.Starts, a.Ends); err == nil {
			r, err = g.space.Minus(r, away)
		}
	}
	return r, err
}

// place finds where everything is that grants and blocks speak of. It touches nothing that subjects and roles need.
func (c *compiler) place() {
	c.sortedGrants, c.sortedBlocks = c.chosen.Grants, c.chosen.Blocks
	on := ListsOf(c.sortedGrants, c.sortedBlocks)
	if c.placed != nil {
		c.Places = c.placed
		for _, l := range on {
			n, _ := c.Places.NumberOf(l)
			c.on = append(c.on, n)
		}
		return
	}
	c.Places, c.on = placemap.New(c.estate, append(on, c.lists...), c.marks, c.Classes)
}

// Entries are grants and blocks by id.
type Entries struct {
	Grants []*estate.Grant
	Blocks []*estate.Block
}

// On gives those of them that hold where it is meant, as their lists tell.
func (e *Entries) On(meant func(estate.Resources) bool) *Entries {
	out := &Entries{}
	for _, g := range e.Grants {
		if meant(g.On) {
			out.Grants = append(out.Grants, g)
		}
	}
	for _, b := range e.Blocks {
		if meant(b.On) {
			out.Blocks = append(out.Blocks, b)
		}
	}
	return out
}

// EntriesFor lists the grants and blocks that name any of some subjects; all of them where only is nil.
func EntriesFor(e *estate.Estate, roster *membership.Roster, only map[estate.Principal]bool) *Entries {
	if only == nil {
		return &Entries{estate.Sorted(e.Grants), estate.Sorted(e.Blocks)}
	}
	asked := numbersOf(roster, only)
	known := map[string]bool{}
	selects := map[estate.Principal]bool{} // any of the few, by what a list of one entry says
	names := func(list estate.Subjects) bool {
		if len(asked) <= fewAsked && len(list) == 1 && !list[0].Not {
			is, ok := selects[list[0].Principal]
			if !ok {
				is = selectsAny(roster, list, asked)
				selects[list[0].Principal] = is
			}
			return is
		}
		if len(asked) <= fewAsked { // which takes no longer than telling what a list says
			return selectsAny(roster, list, asked)
		}
		key := membership.SubjectsKey(list)
		is, ok := known[key]
		if !ok {
			is = selectsAny(roster, list, asked)
			known[key] = is
		}
		return is
	}
	return EntriesTo(e, names)
}

// EntriesTo lists the grants and blocks of which the list of subjects is meant.
func EntriesTo(e *estate.Estate, meant func(estate.Subjects) bool) *Entries {
	out := &Entries{}
	for _, g := range e.Grants {
		if meant(g.To) {
			out.Grants = append(out.Grants, g)
		}
	}
	for _, b := range e.Blocks {
		if meant(b.To) {
			out.Blocks = append(out.Blocks, b)
		}
	}
	return out.sort()
}

// EntriesFor is the same for an estate that may be another than the gate's; what the gate knows of its own is not
// looked for.
func (g *Gate) EntriesFor(e *estate.Estate, roster *membership.Roster, only map[estate.Principal]bool) *Entries {
	if only == nil || roster != g.Roster || !g.complete {
		return EntriesFor(e, roster, only)
	}
	asked := numbersOf(roster, only)
	out, seen := &Entries{}, map[uint32]bool{}
	for _, n := range asked {
		for _, l := range g.lists.Get(g.ClassOf[n]) {
			if seen[l] || g.named[l] == nil {
				continue
			}
			seen[l] = true
			for _, gr := range g.named[l].grants {
				if e.Grants[gr.Grant.ID] == gr.Grant {
					out.Grants = append(out.Grants, gr.Grant)
				}
			}
			for _, b := range g.named[l].blocks {
				if e.Blocks[b.Block.ID] == b.Block {
					out.Blocks = append(out.Blocks, b.Block)
				}
			}
		}
	}
	if !estate.SameMap(e.Grants, g.estate.Grants) {
		for id, gr := range e.Grants {
			if gr != g.estate.Grants[id] && selectsAny(roster, gr.To, asked) {
				out.Grants = append(out.Grants, gr)
			}
		}
	}
	if !estate.SameMap(e.Blocks, g.estate.Blocks) {
		for id, b := range e.Blocks {
			if b != g.estate.Blocks[id] && selectsAny(roster, b.To, asked) {
				out.Blocks = append(out.Blocks, b)
			}
		}
	}
	return out.sort()
}

// sort puts them in order.
func (e *Entries) sort() *Entries {
	slices.SortFunc(e.Grants, func(a, b *estate.Grant) int { return strings.Compare(a.ID, b.ID) })
	slices.SortFunc(e.Blocks, func(a, b *estate.Block) int { return strings.Compare(a.ID, b.ID) })
	return e
}

// fewAsked is up to how many subjects are asked about one by one; for more, what a list selects is gone through.
const fewAsked = 8

// selectedOf gives those of some subjects, in order, whom a list selects.
func selectedOf(roster *membership.Roster, list estate.Subjects, asked []uint32) (out []uint32) {
	if len(asked) > fewAsked {
		return membership.Common(roster.Lists.Selected(list), asked)
	}
	for _, n := range asked {
		if roster.Lists.Selects(list, int(n)) {
			out = append(out, n)
		}
	}
	return out
}

// selectsAny says whether a list selects any of some subjects, in order.
func selectsAny(roster *membership.Roster, list estate.Subjects, asked []uint32) bool {
	if len(asked) > fewAsked {
		return membership.Meet(roster.Lists.Selected(list), asked)
	}
	return slices.ContainsFunc(asked, func(n uint32) bool { return roster.Lists.Selects(list, int(n)) })
}

// numbersOf gives the numbers of the subjects among some that a roster has, in order.
func numbersOf(roster *membership.Roster, some map[estate.Principal]bool) (out []uint32) {
	for p, is := range some {
		if n := roster.NumberOf(p); is && n >= 0 {
			out = append(out, uint32(n))
		}
	}
	slices.Sort(out)
	return out
}

// entries compiles grants and blocks.
func (c *compiler) entries() {
	g := c.Gate
	grants, blocks, which := c.sortedGrants, c.sortedBlocks, c.on
	for i, gr := range grants {
		compiled := &CompiledGrant{Grant: gr, Number: i, List: which[i]}
		var err error
		compiled.Region, err = g.EntryRegion(gr.When, gr.Starts, gr.Ends)
		c.report("grant", &gr.Object, err)
		to := c.list(gr.To)
		g.enterGrant(to, compiled)
		if !g.Which.counts(gr) {
			continue
		}
		if !g.Which.asIfLent(gr) {
			continue
		}
		units, err := c.unitsOf(gr, compiled.Region)
		c.report("grant", &gr.Object, err)
		for _, u := range units {
			c.give(to, compiled.List, u)
		}
	}
	for i, b := range blocks {
		compiled := &CompiledBlock{Block: b, Number: i, List: which[len(grants)+i]}
		var err error
		compiled.Region, err = g.EntryRegion(b.When, b.Starts, b.Ends)
		c.report("block", &b.Object, err)
		to := c.list(b.To)
		g.enterBlock(to, compiled)
		ops := g.Classes.Ops.NewSet()
		for n, o := range g.Classes.Ops.List {
			if b.Deny.Fit(o, c.estate.Edition) {
				ops.Add(uint32(n))
			}
		}
		if compiled.Region != region.Empty {
			c.give(to, compiled.List, c.units.Deny(ops, compiled.Region))
		}
	}
}

// unitsOf gives the units of a grant. Many grants of a large estate give the same role at the same times.
func (c *compiler) unitsOf(gr *estate.Grant, within region.Region) ([]uint32, error) {
	if len(gr.Roles) != 1 {
		return c.grantUnits(c.units, gr.Roles, within)
	}
	key := roleWithin{gr.Roles[0].ID, within}
	units, known := c.ofRole[key]
	if known {
		return units, nil
	}
	units, err := c.grantUnits(c.units, gr.Roles, within)
	if err == nil {
		if c.ofRole == nil {
			c.ofRole = map[roleWithin][]uint32{}
		}
		c.ofRole[key] = units
	}
	return units, err
}

// list gives a list of subjects its number.
func (c *compiler) list(l estate.Subjects) uint32 {
	key := membership.SubjectsKey(l)
	n, ok := c.number[key]
	if !ok {
		n = uint32(len(c.who))
		c.number[key] = n
		if c.only == nil {
			c.who = append(c.who, c.Lists.Selected(l))
		} else { // nobody else has anything, as far as this gate is asked
			c.who = append(c.who, selectedOf(c.Roster, l, c.asked))
		}
		c.shares = append(c.shares, unitrow.Share{})
	}
	return n
}

// give adds a unit to what a list of subjects has, where a list of resources covers.
func (c *compiler) give(to uint32, on int, unit uint32) {
	s := &c.shares[to]
	l := c.Places.Lists[on]
	for _, span := range l.Spans {
		s.Pieces = append(s.Pieces, unitrow.Piece{Span: span, Unit: unit})
	}
	if l.Trait >= 0 {
		s.Extras = append(s.Extras, unitrow.Extra{Trait: uint32(l.Trait), Unit: unit})
	}
}

// classify puts subjects whom the same lists have into one class, and makes the rows of the classes.
func (c *compiler) classify() {
	g := c.Gate
	counts := make([]uint32, len(g.All)+1)
	for _, who := range c.who {
		for _, i := range who {
			counts[i+1]++
		}
	}
	for i := range g.All {
		counts[i+1] += counts[i]
	}
	having := make([]uint32, counts[len(g.All)])
	next := slices.Clone(counts)
	for n, who := range c.who {
		for _, i := range who {
			having[next[i]] = uint32(n)
			next[i]++
		}
	}
	g.ClassOf = make([]uint32, len(g.All))
	nothing, known := uint32(0), false // the class of whoever has nothing
	for i := range g.All {
		has := having[counts[i]:counts[i+1]]
		if len(has) == 0 && known {
			g.ClassOf[i] = nothing
			continue
		}
		if g.ClassOf[i] = g.lists.Number(has); len(has) == 0 {
			nothing, known = g.ClassOf[i], true
		}
	}
	made := g.Rows.BuildAll(g.lists, c.shares, c.units)
	g.Units = c.units.Units
	several := make([]bool, len(made))
	if len(g.sessions) > 0 {
		for class := range several {
			several[class] = g.breaks(rolesOf(g.grantsOf(uint32(class)))) != nil
		}
	}
	for i := range g.Rows.RowOf {
		h, row := &g.Rows.RowOf[i], made[g.ClassOf[i]]
		h.Row, h.Steps, h.Extra, h.Extras = row.Row, row.Steps, row.Extra, row.Extras
		if several[g.ClassOf[i]] {
			h.Flags |= unitrow.Separated
		}
	}
}

// Bare gives the gate of an estate that is the same but for grants and blocks, of which it has none: nobody may
// do anything.
func (g *Gate) Bare(e *estate.Estate) *Gate {
	b := newGate(e, Options{Facts: g.Facts, Space: g.space, Which: g.Which, Places: g.Places})
	b.Roster, b.Places, b.Roles = g.Roster, g.Places, g.Roles
	b.ClassOf = make([]uint32, len(g.All))
	b.lists.Number(nil)
	units := unitrow.NewMaker(len(g.Classes.Ops.List))
	row := b.Rows.BuildAll(b.lists, nil, units)[0]
	b.Units = units.Units
	b.Rows.RowOf = lookup.Large[unitrow.Holder](len(g.All), len(g.All))
	for i := range b.Rows.RowOf {
		row.Active = g.Rows.RowOf[i].Active
		b.Rows.RowOf[i] = row
	}
	return b
}

// grantsOf lists the grants that name a class of subjects, by number.
func (g *Gate) grantsOf(class uint32) []*CompiledGrant {
	var out []*CompiledGrant
	for _, n := range g.lists.Get(class) {
		out = append(out, g.named[n].grants...)
	}
	slices.SortFunc(out, func(a, b *CompiledGrant) int { return a.Number - b.Number })
	return out
}

// subject gives what is known of a subject; nil if the estate does not know it.
func (g *Gate) subject(p estate.Principal) *CompiledSubject {
	n := g.NumberOf(p)
	if n < 0 {
		return nil
	}
	return g.Numbered(n)
}

// Numbered gives the subject of a number, looked at closely.
func (g *Gate) Numbered(n int) *CompiledSubject {
	s := g.subjects[n]
	if s == nil {
		h := &g.Rows.RowOf[n]
		s = &CompiledSubject{
			Subject: g.All[n], principal: g.SubjectOf(n), number: n, active: region.Region(h.Active),
			Grants: g.grantsOf(g.ClassOf[n]), single: h.Flags&unitrow.Separated == 0,
		}
		for _, l := range g.lists.Get(g.ClassOf[n]) {
			s.Blocks = append(s.Blocks, g.named[l].blocks...)
		}
		slices.SortFunc(s.Blocks, func(a, b *CompiledBlock) int { return a.Number - b.Number })
		if len(g.subjects) >= maxSubjects {
			clear(g.subjects)
		}
		g.subjects[n] = s
	}
	return s
}

// MaxOperations is how many operations an estate may have: the catalogs have some three hundred.
const MaxOperations = 1 << 12

// maxSubjects is how many subjects are kept that have been looked at closely.
const maxSubjects = 1 << 12
