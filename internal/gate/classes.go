package gate

import "hiddengate/internal/estate"

// classes numbers the ways in which operations can be valid on a resource: one for each kind and type that occurs.
type classes struct {
	estate  *estate.Estate
	numbers map[[2]string]uint32
	rows    [][]uint32 // of the tree's systems and types, one more than the class; 0 where it is not known yet
	valid   []opset    // of each class
	types   []string   // of each class
	kinds   []string
	ops     *operations
}

// operations numbers the operations by name.
type operations struct {
	list   []*estate.Operation
	number map[string]uint32
}

// opset is a set of operations, by number.
type opset []uint64

func (o *operations) set() opset { return make(opset, (len(o.list)+63)/64) }

func (s opset) add(i uint32) { s[i/64] |= 1 << (i % 64) }

func (s opset) has(i uint32) bool { return s[i/64]&(1<<(i%64)) != 0 }

// meets says whether two sets have any in common.
func (s opset) meets(o opset) bool {
	for w := range s {
		if s[w]&o[w] != 0 {
			return true
		}
	}
	return false
}

func newClasses(e *estate.Estate) *classes {
	c := &classes{estate: e, numbers: map[[2]string]uint32{}, rows: make([][]uint32, len(e.Tree.Systems)),
		ops: &operations{number: map[string]uint32{}}}
	for i, o := range estate.Sorted(e.Operations) {
		c.ops.list = append(c.ops.list, o)
		c.ops.number[o.Name] = uint32(i)
	}
	return c
}

func (c *classes) number(kind, typ string) uint32 {
	key := [2]string{kind, typ}
	n, ok := c.numbers[key]
	if !ok {
		n = uint32(len(c.valid))
		c.numbers[key] = n
		set := c.ops.set()
		for _, o := range c.estate.Offer(kind).On(typ) {
			set.add(c.ops.number[o.Name])
		}
		c.valid, c.types, c.kinds = append(c.valid, set), append(c.types, typ), append(c.kinds, kind)
	}
	return n
}

// of gives the class of a type of resource in a system, both by their number in the tree.
func (c *classes) of(system uint32, typ uint16) uint32 {
	known := c.rows[system]
	if int(typ) < len(known) && known[typ] > 0 {
		return known[typ] - 1
	}
	for int(typ) >= len(known) {
		known = append(known, 0)
	}
	c.rows[system] = known
	n := c.number(c.estate.Tree.Systems[system].Kind.ID, c.estate.Tree.Types[typ])
	known[typ] = n + 1
	return n
}
