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
	watch      Watch
	window     region.Region
	operations []uint32
	lent       bool // the number of people is all that is asked for
	services   differing.Weights
	there      *differing.Attendance // who can, of the operation and pile at hand
	present    []present             // likewise, by when they can
	room       *differing.ClassRoom
	seeds      [2]maphash.Seed
	buffer     []byte
	times      map[region.Region]region.Region
	shorts     map[string]region.Region
	last       []lastHolders              // of each operation, on the pile before
	rows       map[string][]holdersOfPile // of each operation, by pile
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

func newCounter(e *estate.Estate, scene differing.Scene, w Watch, within estate.Resources) (*counter, error) {
	cells, err := differing.CompileCells(e, scene)
	if err != nil {
		return nil, err
	}
	cells.Choose(w.What, within)
	c := &counter{
		Cells: cells, watch: w, lent: scene.Which == gate.OnRequest, room: cells.NewRoom(),
		services: cells.Weights(estate.IsService), seeds: [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()},
		times:  map[region.Region]region.Region{},
		shorts: map[string]region.Region{}, last: make([]lastHolders, len(cells.Names())),
		rows: map[string][]holdersOfPile{},
	}
	c.window = cells.Space().Between(w.Since, w.Since+clock.Instant(7*24*time.Hour/time.Microsecond))
	for n, name := range cells.Names() {
		if w.What == nil || w.What(e.Operations[name]) {
			c.operations = append(c.operations, uint32(n))
		}
	}
	c.there = cells.NewAttendance(c.window)
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
				if last.holders, err = c.holders(bands); err != nil {
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
func (c *counter) holders(bands *differing.Bands) (*holders, error) {
	c.there.Begin()
	if told, err := c.there.AddTold(bands, c.timesOf); err != nil {
		return nil, err
	} else if !told {
		if err := c.addAll(bands.List); err != nil {
			return nil, err
		}
	}
	all := c.there.Present
	h := &holders{number: c.there.People.Sum(all), services: c.services.Sum(all)}
	if c.lent {
		return h, nil
	}
	for class := range all.All() {
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
	for i, w := range all {
		c.buffer = binary.LittleEndian.AppendUint64(c.buffer, w&c.there.People.Some[i])
	}
	for i, seed := range c.seeds {
		h.set[i] = maphash.Bytes(seed, c.buffer)
	}
	var err error
	h.short, err = c.short()
	return h, err
}

// addAll counts who has some of the bands, by when they can.
func (c *counter) addAll(bands []differing.Band) error {
	c.present = c.present[:0]
	c.room.Free()
	for _, b := range bands {
		when, err := c.timesOf(b.Possible)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(c.present, func(p present) bool { return p.when == when })
		if i < 0 {
			i = len(c.present)
			c.present = append(c.present, present{when, c.room.Empty()})
		}
		c.present[i].classes.AddAll(b.Classes)
	}
	for _, p := range c.present {
		if err := c.there.Add(p.when, p.classes); err != nil {
			return err
		}
	}
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

// short is when fewer people than enough are there.
func (c *counter) short() (region.Region, error) {
	least := max(1, c.watch.Least)
	slices.SortFunc(c.there.Counts, func(a, b differing.PeopleWhile) int { return int(a.When) - int(b.When) })
	var key []byte
	for _, n := range c.there.Counts {
		key = binary.AppendUvarint(binary.AppendUvarint(key, uint64(n.When)), uint64(min(n.People, least)))
	}
	out, ok := c.shorts[string(key)]
	if !ok {
		count := counting.NewHeadcount(c.Space(), least, c.window)
		for _, n := range c.there.Counts {
			if err := count.Add(n.People, n.When); err != nil {
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
