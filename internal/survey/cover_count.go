package survey

import (
	"context"
	"encoding/binary"
	"hash/maphash"
	"slices"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/counting"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/region"
)

// counter counts who can do each of some operations on each pile.
type counter struct {
	*differing.Cells
	watch            Watch
	window           region.Region
	operations       []uint32
	lent             bool // the number of people is all that is asked for
	people, services weights
	active           differing.Activity
	while            []numberWhile      // of each activity, who is there of the operation and pile at hand
	whiles           []int              // the activities of whom anybody is
	numbers          []int              // of people, of each class
	all, some        differing.ClassSet // who can, of the operation and pile at hand; some of them
	present          []present          // likewise, by when they can
	counts           []numberAt
	room             []differing.ClassSet
	seeds            [2]maphash.Seed
	buffer           []byte
	times            map[region.Region]region.Region
	both             map[[2]region.Region]region.Region
	shorts           map[string]region.Region
	last             []lastHolders              // of each operation, on the pile before
	rows             map[string][]holdersOfPile // of each operation, by pile
}

// holders is who can do an operation on a pile.
type holders struct {
	people   []estate.Principal // some of them
	number   int
	services int
	set      [2]uint64     // a number of the people: others have another, but for a chance in 2 to the power of 128
	short    region.Region // when there are fewer than enough
}

// lastHolders is the holders that some bands came to.
type lastHolders struct {
	serial  uint64
	holders *holders
}

type holdersOfPile struct {
	pile    *differing.Pile
	holders *holders
	lent    int
}

// present is classes who are there at some times.
type present struct {
	when    region.Region
	classes differing.ClassSet
}

// numberAt is a number of people who are there at some times.
type numberAt struct {
	when   region.Region
	people int
}

// numberWhile is a number of people of one activity, if it is known when they are there.
type numberWhile struct {
	numberAt
	known bool
}

func newCounter(e *estate.Estate, scene differing.Scene, w Watch, within estate.Resources) (*counter, error) {
	cells, err := differing.CompileCells(e, scene)
	if err != nil {
		return nil, err
	}
	cells.Choose(w.What, within)
	c := &counter{
		Cells: cells, watch: w, active: cells.Activity(), lent: scene.Which == gate.OnRequest,
		all: cells.NewClassSet(), some: cells.NewClassSet(), seeds: [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()},
		times: map[region.Region]region.Region{}, both: map[[2]region.Region]region.Region{},
		shorts: map[string]region.Region{}, last: make([]lastHolders, len(cells.Names())),
		rows: map[string][]holdersOfPile{},
	}
	c.window = cells.Space().Between(w.Since, w.Since+clock.Instant(7*24*time.Hour/time.Microsecond))
	for n, name := range cells.Names() {
		if w.What == nil || w.What(e.Operations[name]) {
			c.operations = append(c.operations, uint32(n))
		}
	}
	people, services := make([]int, cells.Classes()), make([]int, cells.Classes())
	for class := range uint32(cells.Classes()) {
		for _, who := range cells.Class(class) {
			switch who.Kind {
			case estate.IsPerson:
				people[class]++
			case estate.IsService:
				services[class]++
			}
		}
	}
	c.numbers, c.while = people, make([]numberWhile, len(c.active.Times))
	c.people, c.services = newWeights(people, len(c.all)), newWeights(services, len(c.all))
	return c, nil
}

// run counts on every pile.
func (c *counter) run(ctx context.Context) error {
	return c.ByPile(ctx, c.watch.Since, func(pile *differing.Pile, on *differing.OnPile) error {
		for _, operation := range c.operations {
			if !pile.Valid(operation) {
				continue
			}
			name := c.Names()[operation]
			bands, err := on.Of(operation)
			if err != nil {
				return err
			}
			last := &c.last[operation]
			if last.serial != bands.Serial {
				if last.holders, err = c.holders(bands.List); err != nil {
					return err
				}
				last.serial = bands.Serial
			}
			c.rows[name] = append(c.rows[name], holdersOfPile{pile: pile, holders: last.holders})
		}
		return nil
	})
}

// lend takes over how many people can by what is lent. The piles are the same: both are made of all grants, whichever
// count.
func (c *counter) lend(lent *counter) {
	for name, rows := range c.rows {
		for i := range rows {
			rows[i].lent = lent.rows[name][i].holders.number
		}
	}
}

// holders puts together who has some of the bands.
func (c *counter) holders(bands []differing.Band) (*holders, error) {
	c.present = c.present[:0]
	for _, b := range bands {
		when, err := c.timesOf(b.Possible)
		if err != nil {
			return nil, err
		}
		i := slices.IndexFunc(c.present, func(p present) bool { return p.when == when })
		if i < 0 {
			i = len(c.present)
			if i == len(c.room) {
				c.room = append(c.room, c.NewClassSet())
			}
			c.present = append(c.present, present{when, c.room[i]})
			clear(c.room[i])
		}
		c.present[i].classes.AddAll(b.Classes)
	}
	clear(c.all)
	c.counts = c.counts[:0]
	for _, p := range c.present {
		if err := c.add(p); err != nil {
			return nil, err
		}
	}
	h := &holders{number: c.people.sum(c.all), services: c.services.sum(c.all)}
	if c.lent {
		return h, nil
	}
	for class := range c.all.All() {
		for _, who := range c.Class(class) {
			if who.Kind == estate.IsPerson && len(h.people) < mostPeople {
				h.people = append(h.people, who)
			}
		}
		if len(h.people) == mostPeople {
			break
		}
	}
	c.buffer = c.buffer[:0]
	for i, w := range c.all {
		c.buffer = binary.LittleEndian.AppendUint64(c.buffer, w&c.people.some[i])
	}
	for i, seed := range c.seeds {
		h.set[i] = maphash.Bytes(seed, c.buffer)
	}
	var err error
	h.short, err = c.short()
	return h, err
}

// add counts those who are there at some times, while they are active.
func (c *counter) add(p present) error {
	if c.some.SetBut(p.classes, c.active.Partly) {
		c.all.AddAll(c.some)
		if err := c.count(p.when, c.people.sum(c.some)); err != nil {
			return err
		}
	}
	if !c.some.SetTo(p.classes, c.active.Partly) {
		return nil
	}
	c.whiles = c.whiles[:0]
	for class := range c.some.All() {
		n := c.active.Of[class]
		one := &c.while[n]
		if !one.known {
			when, err := c.and(p.when, c.active.Times[n])
			if err != nil {
				return err
			}
			*one = numberWhile{numberAt{when: when}, true}
			c.whiles = append(c.whiles, n)
		}
		if one.when != region.Empty {
			c.all.Add(class)
			one.people += c.numbers[class]
		}
	}
	for _, n := range c.whiles {
		one := c.while[n]
		c.while[n].known = false
		if err := c.count(one.when, one.people); err != nil {
			return err
		}
	}
	return nil
}

// count counts people who are there at some times.
func (c *counter) count(when region.Region, people int) error {
	when, err := c.and(when, c.window)
	if err != nil || when == region.Empty || people == 0 {
		return err
	}
	i := slices.IndexFunc(c.counts, func(n numberAt) bool { return n.when == when })
	if i < 0 {
		i = len(c.counts)
		c.counts = append(c.counts, numberAt{when: when})
	}
	c.counts[i].people += people
	return nil
}

// timesOf gives the times of a region.
func (c *counter) timesOf(r region.Region) (region.Region, error) {
	out, ok := c.times[r]
	if !ok {
		var err error
		if out, err = c.Space().Times(r); err != nil {
			return out, err
		}
		c.times[r] = out
	}
	return out, nil
}

// mostPairs bounds what is remembered of two regions: some tens of megabytes.
const mostPairs = 1 << 20

func (c *counter) and(a, b region.Region) (region.Region, error) {
	key := [2]region.Region{a, b}
	out, ok := c.both[key]
	if !ok {
		var err error
		if out, err = c.Space().And(a, b); err != nil {
			return out, err
		}
		if len(c.both) >= mostPairs {
			clear(c.both)
		}
		c.both[key] = out
	}
	return out, nil
}

// short is when fewer people than enough are there.
func (c *counter) short() (region.Region, error) {
	least := max(1, c.watch.Least)
	slices.SortFunc(c.counts, func(a, b numberAt) int { return int(a.when) - int(b.when) })
	var key []byte
	for _, n := range c.counts {
		key = binary.AppendUvarint(binary.AppendUvarint(key, uint64(n.when)), uint64(min(n.people, least)))
	}
	out, ok := c.shorts[string(key)]
	if !ok {
		count := counting.NewHeadcount(c.Space(), least, c.window)
		for _, n := range c.counts {
			if err := count.Add(n.people, n.when); err != nil {
				return out, err
			}
		}
		var err error
		if out, err = count.Short(); err != nil {
			return out, err
		}
		c.shorts[string(key)] = out
	}
	return out, nil
}
