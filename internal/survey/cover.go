package survey

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/counting"
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
// Rows come by operation and place. Its error says that conditions are too complex.
func Cover(ctx context.Context, e *estate.Estate, w Watch) ([]Covered, error) {
	within := w.Within
	if within == nil {
		within = estate.Resources{{Everything: true}}
	}
	roster := membership.New(e)
	scene := differing.Scene{Which: gate.Standing, Roster: roster, Base: w.Gate, Places: []estate.Resources{within}}
	standing, err := differing.CompileCells(e, scene)
	if err != nil {
		return nil, err
	}
	standing.Choose(w.What, within)
	c := counter{cells: standing, watch: w, rows: map[string][]*holdersOfPile{},
		moments: map[region.Region]region.Region{}}
	c.window = standing.Space().Between(w.Since, w.Since+clock.Instant(7*24*time.Hour/time.Microsecond))
	for _, pile := range standing.Piles() {
		for _, name := range pile.Operations() {
			if c.rows[name] == nil {
				c.rows[name] = make([]*holdersOfPile, standing.Numbers())
			}
			c.rows[name][pile.Number()] = &holdersOfPile{pile: pile,
				enough: counting.NewHeadcount(standing.Space(), max(1, w.Least), c.window)}
		}
	}
	if err := c.count(ctx); err != nil {
		return nil, err
	}
	if slices.ContainsFunc(estate.Sorted(e.Grants), func(g *estate.Grant) bool { return g.OnRequest != nil }) {
		scene.Which = gate.OnRequest
		lent, err := differing.CompileCells(e, scene)
		if err != nil {
			return nil, err
		}
		lent.Choose(w.What, within)
		if err := c.countLent(ctx, lent); err != nil {
			return nil, err
		}
	}
	return c.tell(e)
}

// holdersOfPile is who can do one operation on one pile.
type holdersOfPile struct {
	pile     *differing.Pile
	people   []estate.Principal
	number   int
	services int
	lent     int
	set      uint32 // all the people, as crowd.joined numbers them
	enough   *counting.Headcount
	class    int // of those that was counted last: a pile may come in parts
}

type counter struct {
	cells   *differing.Cells
	watch   Watch
	window  region.Region
	rows    map[string][]*holdersOfPile // of each operation, by the piles' numbers
	moments map[region.Region]region.Region
}

// classAtHand is the subjects of one class.
type classAtHand struct {
	class, people, services int
	first                   []estate.Principal // some of the people
	sets                    uint32             // how many sets of people have a number
	with                    map[uint32]uint32  // the numbers of sets with this class, by those without it
}

// next takes the subjects of an access, if they are others than before.
func (c *classAtHand) next(subjects []estate.Principal, last *estate.Principal) {
	if subjects[0] == *last {
		return
	}
	*last = subjects[0]
	*c = classAtHand{class: c.class + 1, first: c.first[:0], sets: c.sets, with: map[uint32]uint32{}}
	for _, who := range subjects {
		switch who.Kind {
		case estate.IsPerson:
			c.people++
			if len(c.first) < mostPeople {
				c.first = append(c.first, who)
			}
		case estate.IsService:
			c.services++
		}
	}
}

func (c *counter) count(ctx context.Context) error {
	space := c.cells.Space()
	var bad error
	var now classAtHand
	last := estate.Principal{Kind: -1}
	err := c.cells.Each(ctx, c.watch.Since, func(a differing.Access) bool {
		now.next(a.Subjects, &last)
		when, known := c.moments[a.Possible]
		if !known {
			if when, bad = space.Times(a.Possible); bad == nil {
				when, bad = space.And(when, c.window)
			}
			c.moments[a.Possible] = when
		}
		rows := c.rows[a.Operation]
		for _, pile := range a.Piles {
			h := rows[pile.Number()]
			if h == nil || h.class == now.class || bad != nil {
				continue
			}
			h.class = now.class
			if room := mostPeople - len(h.people); room > 0 {
				h.people = append(h.people, now.first[:min(room, len(now.first))]...)
			}
			h.number += now.people
			h.services += now.services
			h.set = now.joined(h.set)
			bad = h.enough.Add(now.people, when)
		}
		return bad == nil
	})
	if err == nil {
		err = bad
	}
	return err
}

// joined numbers the people of a row, by a number of their own, with those of the class at hand. Classes come in one
// order and hold nobody twice, so rows of the same people have the same number, and no others do.
func (c *classAtHand) joined(people uint32) uint32 {
	if c.people == 0 {
		return people
	}
	with, known := c.with[people]
	if !known {
		c.sets++
		with = c.sets
		c.with[people] = with
	}
	return with
}

// countLent counts those to whom it can be lent. The piles are the same: both are made of all grants, whichever count.
func (c *counter) countLent(ctx context.Context, lent *differing.Cells) error {
	var now classAtHand
	last := estate.Principal{Kind: -1}
	for _, rows := range c.rows {
		for _, h := range rows {
			if h != nil {
				h.class = 0
			}
		}
	}
	return lent.Each(ctx, c.watch.Since, func(a differing.Access) bool {
		now.next(a.Subjects, &last)
		rows := c.rows[a.Operation]
		for _, pile := range a.Piles {
			if h := rows[pile.Number()]; h != nil && h.class != now.class {
				h.class = now.class
				h.lent += now.people
			}
		}
		return true
	})
}

// tell puts places together where the same people stand.
func (c *counter) tell(e *estate.Estate) ([]Covered, error) {
	type key struct {
		op       string
		coming   bool
		set      uint32
		number   int
		services int
		lent     int
		short    string
	}
	texts := map[region.Region]string{}
	known := map[key]int{}
	var out []Covered
	for _, op := range slices.Sorted(maps.Keys(c.rows)) {
		for _, h := range c.rows[op] {
			if h == nil {
				continue
			}
			missing, err := h.enough.Short()
			if err != nil {
				return nil, err
			}
			text, ok := texts[missing]
			if !ok {
				text = c.hours(missing)
				texts[missing] = text
			}
			k := key{op, !h.pile.Listed(), h.set, h.number, h.services, h.lent, text}
			n, ok := known[k]
			if !ok {
				n = len(out)
				known[k] = n
				out = append(out, Covered{Operation: e.Operations[op], Coming: k.coming, People: h.people, Number: h.number,
					Services: h.services, Lent: h.lent, Short: text})
			}
			out[n].take(h.pile)
		}
	}
	return out, nil
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

// hours writes at which hours of the coming week people are short, minute by minute of local time.
func (c *counter) hours(missing region.Region) string {
	if missing == region.Empty {
		return ""
	}
	if missing == c.window {
		return "always"
	}
	var minutes [7 * 24 * 60]bool
	space := c.cells.Space()
	zone := space.Zone()
	ctx := space.NewContext()
	const minute = clock.Instant(time.Minute / time.Microsecond)
	for i := range clock.Instant(len(minutes)) {
		at := c.watch.Since + i*minute
		ctx.SetTime(at)
		if space.Judge(missing, ctx) == region.All {
			minutes[zone.WeekMinute(at)] = true
		}
	}
	return hoursText(minutes[:])
}

var days = []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

// hoursText writes minutes of the week as the files write hours: days with the same ones together.
func hoursText(minutes []bool) string {
	const day = 24 * 60
	var byDay [7]string
	for d := range 7 {
		var runs []string
		for from := 0; from < day; {
			if !minutes[d*day+from] {
				from++
				continue
			}
			to := from
			for to < day && minutes[d*day+to] {
				to++
			}
			runs = append(runs, clockText(from)+"-"+clockText(to))
			from = to
		}
		byDay[d] = strings.Join(runs, ", ")
	}
	var out []string
	for from := 0; from < 7; {
		to := from
		for to+1 < 7 && byDay[to+1] == byDay[from] {
			to++
		}
		name := days[from]
		switch {
		case from == 0 && to == 6:
			name = "daily"
		case to > from:
			name += "-" + days[to]
		}
		if byDay[from] != "" {
			out = append(out, name+" "+byDay[from])
		}
		from = to + 1
	}
	return strings.Join(out, "; ")
}

func clockText(minute int) string {
	return string([]byte{byte('0' + minute/600), byte('0' + minute/60%10), ':', byte('0' + minute%60/10),
		byte('0' + minute%10)})
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
