// Package change tells what the difference of two estates does to everybody's access, as a person would say it.
package change

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/gate/membership"
	"hiddengate/internal/gate/placemap"
	"hiddengate/internal/region"
)

// Way is what happens to somebody's access.
type Way int

// The ways, in the order in which they are told.
const (
	Gains   Way = iota // may what they might not
	Wider              // may it under more conditions than before
	Other              // may it under other conditions
	Narrows            // may it under fewer conditions
	Loses              // may it no more
	Alike              // may it as before; told where two subjects are compared
)

// More says whether somebody gets something that they had not.
func (w Way) More() bool { return w == Gains || w == Wider || w == Other }

// Word names the way as other programs read it: gained, lost or changed.
func (w Way) Word() string {
	switch w {
	case Gains:
		return "gained"
	case Loses:
		return "lost"
	}
	return "changed"
}

// Line is one change, the same for all subjects, operations and resources that it names.
type Line struct {
	Way        Way
	OnRequest  bool // it is about what can be lent
	Subjects   []estate.Principal
	Operations []string
	Piles      *differing.Piles
	Old, New   differing.Cell
	pair       *differing.Pair
	where      []string // the places, where they are known already
}

// Effect is what an edit does.
type Effect struct {
	Lines []Line
	// Coming tells the same of what may come: what an inventory lists one day, and what a system judges that none lists.
	Coming []Line
	// of which one covers whatever may come that anybody's access differs to; nil: anything may
	within        *[2][]estate.Resources
	relisted      estate.Resources // where the estates list other resources, if it is few places
	near          *placemap.Near   // what lies there, once somebody asks
	ComingInPart  bool             // there are too many ways in which something may come to look at all
	Before, After *estate.Estate
	Gates         *differing.Pair          // of what is allowed, where anybody's access can differ
	compiled      differing.Estates        // of which they were compiled
	whole         *[2]*gate.Gate           // that answer about everything; nil until somebody asks
	since         clock.Instant            // from when on it tells what differs
	base          *gate.Gate               // of one of the estates, or with the same places perhaps; nil: none
	newBase       *gate.Gate               // the same of the new one, once it is asked for, where it can be had from base
	places        map[namedPlaces][]string // that have been worked out already
	coming        map[comingSide]*comingExamples
	// afterwards and before, the grants that name a subject by itself
	direct     [2]map[estate.Principal][]*estate.Grant
	goes       map[goingTo][]*estate.Grant  // by whom they go to, once somebody asks
	altered    altered                      // the entries that are not the same
	scopes     map[string]bool              // those among them, and those that are made of such; nil until it is asked for
	others     map[estate.Principal]bool    // those whose access can differ; nil for everybody
	linesAbout map[estate.Principal][]*Line // of each subject, once somebody asks
	bearings   map[string]bearing           // of tests, by id, once somebody asks
	part       map[*estate.Estate]*havePart // of either estate, likewise
	only       map[estate.Principal]bool    // those who are looked at; nil for everybody
	other      estate.Principal             // where two subjects are compared, the second
	alone      *Renaming                    // nothing but its id is otherwise, and there are no gates; else nil
	// the gates answer only for those whose access can differ, and for whom tests are about
	Part bool
	// Beyond counts those whose access can differ and who were not looked at.
	Beyond int
}

// mostComing is how many ways in which something may come an effect tells apart. Nobody reads of more.
const mostComing = 1000

// How says how an effect is worked out.
type How struct {
	Since clock.Instant // from when on
	Gate  *gate.Gate    // of the old estate, if there is one
	// Beside is, where there is none, a gate of the new estate or of another that may have the same places; nil: there is
	// none of such either.
	Beside *gate.Gate
	// up to how many people everybody is looked at: the constant Few where it is 0, and nobody but who can be concerned
	// where it is below
	Few int
	// Most is how many are looked at of those whose access can differ: the first ones, people first; 0: all of them. Of
	// some alone no consequences are told.
	Most int
	// Listed looks at what is there alone, and not at what may come.
	Listed bool
	// Renamed is an entry that the edit gives another id; nil: none. What was so of the one id and is so of the other is
	// no change.
	Renamed *Renaming
	apart   [2][]estate.Resources // lists of the old estate and of the new one that tell apart what may come
	// as many ways in which something may come are looked at as there can be: who judges has to know them
	all bool
}

// Of works out what differs between two estates from an instant on.
func Of(ctx context.Context, before, after *estate.Estate, how How) (*Effect, error) {
	if how.Few == 0 {
		how.Few = Few
	}
	few := max(how.Few, 0)
	altered := alteredIn(before, after)
	if before.Tree != after.Tree && before.Edition == after.Edition && !altered.any("catalogs", "systems", "scopes") &&
		after.Tree.ListsAs(before.Tree, func(a, b *estate.Entry) bool { return same(a, b) }) {
		after = after.SharingPlaces(before)
	} else if before.Tree != after.Tree && before.Edition == after.Edition && !altered.any("catalogs") {
		after = after.SharingKinds(before)
	}
	base := how.Gate
	var known *membership.Roster
	if base != nil {
		known = base.Roster
	} else if base = how.Beside; base != nil {
		known = base.Roster.For(before)
	}
	e := &Effect{Before: before, After: after, since: how.Since, base: base, altered: altered}
	if how.Renamed != nil && how.Renamed.alone(before, after, altered) {
		e.alone, e.others, e.only = how.Renamed, map[estate.Principal]bool{}, map[estate.Principal]bool{}
		return e, nil
	}
	altered, after = withoutUnnamedScopes(before, after, altered, few)
	rosters := rostersOf(before, after, altered, known)
	change := edit{before: before, after: after, altered: altered, rosters: rosters, few: few, known: e.known()}
	others := change.differing()
	only, within := change.touched(others), change.concerned()
	where := within
	if how.all { // whoever judges asks about any
		where = nil
	}
	if others == nil && within != nil && len(within[0])+len(within[1]) == 0 {
		others = map[estate.Principal]bool{} // nothing is another by which anybody has access
	}
	if how.Most > 0 && len(others) > how.Most {
		first := slices.SortedFunc(maps.Keys(others), estate.Principal.Compare)
		e.Beyond = len(first) - how.Most
		others = map[estate.Principal]bool{}
		for _, p := range first[:how.Most] {
			others[p] = true
		}
		only = others
	}
	e.within, e.others, e.only = within, others, only
	if within != nil {
		e.relisted = change.relisted
	}
	e.Part = only != nil || len(after.People) > few
	most := mostComing
	if how.all {
		most = 0
	}
	for _, which := range []gate.Counting{gate.Standing, gate.OnRequest} {
		nobody := others != nil && len(others) == 0
		if which == gate.OnRequest && !e.Gates.Lends {
			break
		}
		may := &differing.Coming{Apart: how.apart, Within: within, TreesWithin: within != nil, Most: most,
			For: others, Near: where != nil, Inherit: most * Few / max(Few, len(after.People))}
		if within != nil && before.Tree != after.Tree {
			for k := range may.Apart { // by the places in which the trees differ, too
				may.Apart[k] = slices.Concat(may.Apart[k], within[k])
			}
		}
		if nobody || how.Listed {
			may = nil
		}
		of := differing.Estates{Before: before, After: after, Which: which, Only: only, Rosters: rosters, Base: base,
			Coming: may, Where: where, Entries: e.compiled.Entries}
		pair, err := differing.CompilePair(of)
		if err != nil {
			return nil, err
		}
		if which == gate.Standing {
			e.Gates, e.compiled = pair, of
			if e.compiled.Entries = pair.Entries; !pair.Part {
				e.compiled.Where = nil
			}
		}
		if nobody {
			break
		}
		e.ComingInPart = e.ComingInPart || may != nil && !pair.Whole
		g := newGatherer(pair, which == gate.OnRequest)
		if err := pair.Differences(ctx, how.Since, g.take); err != nil {
			return nil, err
		}
		there, coming := g.finish()
		e.Lines, e.Coming = append(e.Lines, there...), append(e.Coming, coming...)
	}
	if how.Renamed != nil {
		e.renamed(*how.Renamed)
	}
	return e, nil
}

// everywhere gives gates of both estates that answer about all places, for those who are looked at.
func (e *Effect) everywhere() ([2]*gate.Gate, error) {
	if e.compiled.Where == nil {
		return [2]*gate.Gate{e.Gates.Old, e.Gates.New}, nil
	}
	if g := e.newGate(); g != nil {
		return [2]*gate.Gate{e.base, g}, nil
	}
	if e.whole == nil {
		of := e.compiled
		of.Where = nil
		gates, err := differing.CompileGates(of)
		if err != nil {
			return gates, err
		}
		e.whole = &gates
	}
	return *e.whole, nil
}

// newGate gives the gate at hand as that of the new estate, where that differs by what it lists alone; else nil.
func (e *Effect) newGate() *gate.Gate {
	if e.known() && e.base.Estate() == e.Before && e.base.Which == gate.Standing && e.newBase == nil {
		e.newBase = e.base.Relisted(e.After)
	}
	return e.newBase
}

// baseOf gives a gate that is at hand where one of the estates is asked about.
func (e *Effect) baseOf(k differing.Side) *gate.Gate {
	if g := e.newGate(); g != nil && k == differing.New {
		return g
	}
	return e.base
}

// concerns says whether anybody's access to a resource can differ.
func (e *Effect) concerns(r *estate.Resource) bool {
	where := e.compiled.Where
	if where == nil {
		return true
	}
	for k, of := range []*estate.Estate{e.Before, e.After} {
		if slices.ContainsFunc(where[k], func(l estate.Resources) bool { return placemap.Covers(of, l, r) }) {
			return true
		}
	}
	return false
}

// Between works out how what one subject may do differs from what another may, from an instant on: what the other gains
// is the other's alone, what is lost the one's. Base is a gate that may have the same places; nil: there is none.
func Between(ctx context.Context, e *estate.Estate, one, other estate.Principal, since clock.Instant, base *gate.Gate,
) (*Effect, error) {
	altered := alteredIn(e, e)
	var known *membership.Roster
	if base != nil {
		known = base.Roster.For(e)
	}
	rosters := rostersOf(e, e, altered, known)
	pair, err := differing.CompilePair(differing.Estates{Before: e, After: e, Base: base,
		Only: map[estate.Principal]bool{one: true, other: true}, Rosters: rosters})
	if err != nil {
		return nil, err
	}
	out := &Effect{Before: e, After: e, altered: altered, Gates: pair, other: other}
	g := newGatherer(pair, false)
	if err := pair.Between(one, other, since, func(d differing.Difference) { g.take(d) }); err != nil {
		return nil, err
	}
	out.Lines, _ = g.finish()
	return out, nil
}

// coming says that a line is about what may come.
func (l *Line) coming() bool { return l.Piles.First().May() != nil }

func sorted(out []Line) []Line {
	slices.SortStableFunc(out, func(a, b Line) int {
		return cmp.Or(int(a.Way)-int(b.Way), a.Subjects[0].Compare(b.Subjects[0]),
			strings.Compare(a.Piles.First().First(), b.Piles.First().First()), slices.Compare(a.Operations, b.Operations))
	})
	return out
}

// way tells what becomes of a cell.
func (g *gatherer) way(was, is differing.Cell) Way {
	switch {
	case was == is:
		return Alike
	case was.Possible == region.Empty:
		return Gains
	case is.Possible == region.Empty:
		return Loses
	}
	s := g.pair.Space()
	holds := func(a, b differing.Cell) bool {
		one, err := s.Contains(a.Sure, b.Sure)
		two, errTwo := s.Contains(a.Possible, b.Possible)
		return err == nil && errTwo == nil && one && two
	}
	switch {
	case holds(is, was):
		return Wider
	case holds(was, is):
		return Narrows
	}
	return Other
}

// Was tells when it might be done before.
func (l *Line) Was() string { return l.text(l.Old) }

// Is tells when it may be done now.
func (l *Line) Is() string { return l.text(l.New) }

// text tells when a cell is so; what is over by now is not spoken of.
func (l *Line) text(c differing.Cell) string {
	text := l.pair.Space().Text(l.pair.Ever(c.Possible), 3)
	if c.Sure != c.Possible {
		text += " (in some sessions)"
	}
	return text
}

// Empty says that nobody's access changes, now or to what may come.
func (e *Effect) Empty() bool { return len(e.Lines)+len(e.Coming) == 0 }

// Unlisted lists the systems that decide about addresses in no inventory in one of the estates and refuse those in the
// other: who may do what on these is what they may on what is added there.
func (e *Effect) Unlisted() (decided, refused []string) {
	for _, id := range e.altered["systems"] {
		switch was, is := e.Before.Systems[id], e.After.Systems[id]; {
		case was == nil || is == nil || was.Judge == is.Judge:
		case is.Judge:
			decided = append(decided, id)
		default:
			refused = append(refused, id)
		}
	}
	slices.Sort(decided)
	slices.Sort(refused)
	return decided, refused
}

// ownAccount says that a line gives an operation that does no more than open accounts, and those of its subject alone:
// whoever sets their own password gets to nothing further.
func (l *Line) ownAccount(o *estate.Operation) bool {
	if o.Caution() != "opens accounts" {
		return false
	}
	if s := l.pair.Space(); s.Has("owner") {
		if own, err := s.Contains(s.Is("owner", true), l.New.Possible); err == nil && own {
			return true
		}
	}
	for p := range l.Piles.All() {
		r, g := p.Resource(differing.New), l.pair.New
		if r == nil || slices.ContainsFunc(l.Subjects,
			func(s estate.Principal) bool { return !g.Owns(g.NumberOf(s), r.Owner) }) {
			return false
		}
	}
	return true
}

// Handed lists the operations that somebody gets who had them not, each once: those that need a second look, the
// gravest first, and those with a notice, by name.
func (e *Effect) Handed() (grave, noticed []*estate.Operation) {
	graves, notices := map[*estate.Operation]bool{}, map[*estate.Operation]bool{}
	for _, l := range slices.Concat(e.Lines, e.Coming) {
		if !l.Way.More() {
			continue
		}
		for _, name := range l.Operations {
			o := e.After.Operations[name]
			if o == nil {
				continue
			}
			if o.Caution() != "" && !graves[o] && !l.ownAccount(o) {
				graves[o] = true
				grave = append(grave, o)
			}
			if o.Notice != "" && !notices[o] {
				notices[o] = true
				noticed = append(noticed, o)
			}
		}
	}
	slices.SortFunc(grave, Graver)
	slices.SortFunc(noticed, func(a, b *estate.Operation) int { return strings.Compare(a.Name, b.Name) })
	return grave, noticed
}
