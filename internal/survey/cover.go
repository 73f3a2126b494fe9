package survey

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
	"hiddengate/internal/region"
)

// Watch says what a cover is worked out of.
type Watch struct {
	Since  clock.Instant
	What   func(*estate.Operation) bool
	Within estate.Resources // nil: everywhere
	Least  int              // how many people are enough
	Gate   *gate.Gate       // that tells the estate's places apart, if there is one
}

// Covered is an operation on some resources for which the same people stand, by standing grants.
type Covered struct {
	Operation *estate.Operation
	Coming    bool     // the places are such as no inventory lists and a system judges, one of each sort
	Places    []string // some of them; what is inside one of these is not named
	Inside    int      // how many are
	Count     int      // how many there are in all
	People    []estate.Principal
	Number    int      // how many people there are; People may be fewer
	Services  int      // services that can
	Lent      int      // people who can once it is lent
	Short     string   // when there are fewer than enough in the coming week, "" if never
	all       []string // the first resource of each pile
	piles     []*differing.Pile
}

// mostPlaces and mostPeople bound how many a row names.
const (
	mostPlaces = 8
	mostPeople = 6
)

// Reliance is somebody on whom operations depend: nobody else can do them.
type Reliance struct {
	Who        estate.Principal
	Operations []string
	Count      int // resources by operations
}

// Cover tells who can do each of some operations, and where: on what is listed, and on what is judged though it is not.
// Rows come by operation and place. It costs what going through the cells pile by pile does. Its error says that
// conditions are too complex.
func Cover(ctx context.Context, e *estate.Estate, w Watch) ([]Covered, error) {
	within := w.Within
	if within == nil {
		within = estate.Resources{{Everything: true}}
	}
	scene := differing.Scene{Which: gate.Standing, Base: w.Gate, Places: []estate.Resources{within}}
	if w.Gate == nil || w.Gate.Estate() != e {
		scene.Roster = membership.New(e)
	}
	c, err := newCounter(e, scene, w, within)
	if err != nil {
		return nil, err
	}
	if err := c.run(ctx); err != nil {
		return nil, err
	}
	if slices.ContainsFunc(estate.Sorted(e.Grants), func(g *estate.Grant) bool { return g.OnRequest != nil }) {
		scene.Which = gate.OnRequest
		lent, err := newCounter(e, scene, w, within)
		if err != nil {
			return nil, err
		}
		if err := lent.run(ctx); err != nil {
			return nil, err
		}
		c.lend(lent)
	}
	return c.tell(e), nil
}

// tell puts places together where the same people stand.
func (c *counter) tell(e *estate.Estate) []Covered {
	type key struct {
		op       string
		coming   bool
		set      [2]uint64
		number   int
		services int
		lent     int
		short    region.Region
	}
	texts := map[region.Region]string{}
	known := map[key]int{}
	var out []Covered
	for _, op := range slices.Sorted(maps.Keys(c.rows)) {
		for _, row := range c.rows[op] {
			h := row.holders
			k := key{op, !row.pile.Listed(), h.set, h.number, h.services, row.lent, h.short}
			n, ok := known[k]
			if !ok {
				text, ok := texts[h.short]
				if !ok {
					text = c.hours(h.short)
					texts[h.short] = text
				}
				n = len(out)
				known[k] = n
				out = append(out, Covered{Operation: e.Operations[op], Coming: k.coming, People: h.people, Number: h.number,
					Services: h.services, Lent: row.lent, Short: text})
			}
			out[n].take(row.pile)
		}
	}
	return out
}

// take adds a pile's resources to a row.
func (row *Covered) take(pile *differing.Pile) {
	row.all, row.piles = append(row.all, pile.First()), append(row.piles, pile)
	row.Count += pile.Len()
	for address := range pile.Addresses() {
		if slices.ContainsFunc(row.Places, func(top string) bool {
			return strings.HasPrefix(address, top+"/") || strings.HasPrefix(address, top+":")
		}) {
			row.Inside++
		} else if len(row.Places) < mostPlaces {
			row.Places = append(row.Places, address)
		}
	}
}

// Reliances lists the people on whom most depends, most first: what they alone can do where it is listed.
func Reliances(rows []Covered) (out []Reliance) {
	number := map[estate.Principal]int{}
	for _, r := range rows {
		if r.Number != 1 || r.Coming {
			continue
		}
		n, ok := number[r.People[0]]
		if !ok {
			n = len(out)
			number[r.People[0]] = n
			out = append(out, Reliance{Who: r.People[0]})
		}
		if !slices.Contains(out[n].Operations, r.Operation.Name) {
			out[n].Operations = append(out[n].Operations, r.Operation.Name)
		}
		out[n].Count += r.Count
	}
	slices.SortStableFunc(out, func(a, b Reliance) int {
		return cmp.Or(cmp.Compare(len(b.Operations), len(a.Operations)), cmp.Compare(b.Count, a.Count),
			strings.Compare(a.Who.ID, b.Who.ID))
	})
	return out
}

// Without gives the estate as it would be once some subjects have left.
func Without(e *estate.Estate, who []estate.Principal) *estate.Estate {
	var edits []estate.Edit
	for _, p := range who {
		if s := e.Subject(p); s != nil && s != estate.AnonymousSubject {
			one := *s
			one.Status = estate.Statuses[len(estate.Statuses)-1]
			edits = append(edits, estate.Put(p.Kind.Section(), &one))
		}
	}
	return e.With(edits...)
}

// Lost gives what nobody can do any more, of what somebody could: rows that have no people, without those in which
// nobody had any before.
func Lost(before, after []Covered) (out []Covered) {
	could := map[string]bool{}
	for _, r := range before {
		for _, at := range r.all {
			could[r.Operation.Name+" "+at] = r.Number > 0
		}
	}
	for _, r := range after {
		if r.Number > 0 {
			continue
		}
		one := r
		one.Places, one.Inside, one.Count, one.all = nil, 0, 0, nil
		for i, at := range r.all {
			if could[r.Operation.Name+" "+at] {
				one.take(r.piles[i])
			}
		}
		if one.Count > 0 {
			out = append(out, one)
		}
	}
	return out
}
