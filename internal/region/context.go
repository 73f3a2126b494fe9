package region

import (
	"net/netip"
	"slices"

	"hiddengate/internal/clock"
)

var (
	allTimes    = times{{clock.Beginning, clock.End, allMinutes}}
	lowestBound = []netip.Addr{lowest}
)

func compareAddr(a, b netip.Addr) int { return a.Compare(b) }

// Context says some of what a request can say; what it does not say is open.
type Context struct {
	space   *Space
	values  []value
	network netip.Addr
	time    clock.Instant
}

type state uint8

const (
	open state = iota
	given
	missing // a Text that is absent
)

type value struct {
	state state
	flag  bool
	text  string
}

// NewContext gives a context in which everything is open.
func (s *Space) NewContext() *Context { return &Context{space: s, values: make([]value, len(s.dims))} }

// Reset opens everything again.
func (c *Context) Reset() { clear(c.values) }

// Clone copies the context.
func (c *Context) Clone() *Context {
	d := *c
	d.values = slices.Clone(c.values)
	return &d
}

// SetFlag, SetText, SetAbsent, SetNetwork and SetTime say one thing; a name the space does not know is passed
// over, since no region depends on it. The address is unmapped.
func (c *Context) SetFlag(name string, yes bool) { c.set(name, value{state: given, flag: yes}) }

// SetText gives a Choice or Text its value.
func (c *Context) SetText(name, text string) { c.set(name, value{state: given, text: text}) }

// SetAbsent says that a Text has no value.
func (c *Context) SetAbsent(name string) { c.set(name, value{state: missing}) }

// SetNetwork says from which address.
func (c *Context) SetNetwork(a netip.Addr) {
	c.network = a.Unmap().WithZone("")
	c.values[len(c.values)-2].state = given
}

// SetTime says when.
func (c *Context) SetTime(at clock.Instant) {
	c.time = at
	c.values[len(c.values)-1].state = given
}

// CopyFrom makes the context say what another of the same space says, and nothing else.
func (c *Context) CopyFrom(d *Context) {
	copy(c.values, d.values)
	c.network, c.time = d.network, d.time
}

// FlagAt says a Flag by the number of its dimension.
func (c *Context) FlagAt(dim int, yes bool) { c.values[dim] = value{state: given, flag: yes} }

// ValueAt says a Choice or Text by the number of its dimension; the value may be empty.
func (c *Context) ValueAt(dim int, text string) { c.values[dim] = value{state: given, text: text} }

// TextAt says a Text by the number of its dimension, "" for absent.
func (c *Context) TextAt(dim int, text string) {
	c.values[dim] = value{state: given, text: text}
	if text == "" {
		c.values[dim].state = missing
	}
}

// Open forgets what was said of name.
func (c *Context) Open(name string) { c.set(name, value{}) }

func (c *Context) set(name string, v value) {
	if i, ok := c.space.byName[name]; ok {
		c.values[i] = v
	}
}

// Flag, Text, Network and Time read what is said; ok is false where it is open.
func (c *Context) Flag(name string) (yes, ok bool) {
	i, has := c.space.byName[name]
	return has && c.values[i].flag, has && c.values[i].state == given
}

// Text reads a Choice or Text; absent says that it has no value.
func (c *Context) Text(name string) (text string, absent, ok bool) {
	i, has := c.space.byName[name]
	if !has {
		return "", false, false
	}
	return c.values[i].text, c.values[i].state == missing, c.values[i].state != open
}

// Network reads the address.
func (c *Context) Network() (netip.Addr, bool) {
	return c.network, c.values[len(c.values)-2].state == given
}

// Time reads the time.
func (c *Context) Time() (clock.Instant, bool) {
	return c.time, c.values[len(c.values)-1].state == given
}

// follow gives where a node leads in the context.
func (s *Space) follow(n *node, c *Context) (Region, bool) {
	v := c.values[n.dim]
	if v.state == open {
		return 0, false
	}
	switch d := &s.dims[n.dim]; d.Kind {
	case Flag:
		if v.flag {
			return n.kids[1], true
		}
		return n.kids[0], true
	case Choice:
		i := slices.Index(d.Values, v.text)
		if i < 0 {
			return Empty, true // no such way: nothing holds of it
		}
		return n.kids[i], true
	case Text:
		if v.state == missing {
			return n.absent(), true
		}
		return n.text(v.text), true
	case Network:
		return n.kids[interval(n.bounds, c.network)], true
	}
	if n.times.has(s.zone, c.time) {
		return Full, true
	}
	return Empty, true
}

// Fix is r as it looks once what the context says is so: a region over what is open. It is Full if all of the
// context lies in r, and Empty if none does.
func (s *Space) Fix(r Region, c *Context) Region {
	return s.fix(r, c, map[Region]Region{})
}

func (s *Space) fix(r Region, c *Context, done map[Region]Region) Region {
	if r <= Full {
		return r
	}
	if f, ok := done[r]; ok {
		return f
	}
	n := s.nodes[r]
	var out Region
	if next, ok := s.follow(&n, c); ok {
		out = s.fix(next, c, done)
	} else if s.dims[n.dim].Kind == Time {
		out = r
	} else {
		m := n
		m.kids = make([]Region, len(n.kids))
		for i, k := range n.kids {
			m.kids[i] = s.fix(k, c, done)
		}
		out = s.make(m)
	}
	done[r] = out
	return out
}

// Witness gives a context of r in which everything r asks about is said, false if r is empty. It keeps to the
// plainest values: absent or some other text where that will do, the earliest time at or after from.
func (s *Space) Witness(r Region, from clock.Instant) (*Context, bool) {
	c := s.NewContext()
	return c, s.witness(r, from, c)
}

func (s *Space) witness(r Region, from clock.Instant, c *Context) bool {
	if r <= Full {
		return r == Full
	}
	n := s.nodes[r]
	d := s.dims[n.dim]
	switch d.Kind {
	case Time:
		at, ok := n.times.first(s.zone, from)
		if !ok {
			at, ok = n.times.first(s.zone, clock.Beginning)
		}
		if ok {
			c.SetTime(at)
		}
		return ok
	case Flag:
		for i, k := range n.kids {
			if s.witness(k, from, c) {
				c.SetFlag(d.Name, i == 1)
				return true
			}
		}
	case Choice:
		for i, k := range n.kids {
			if s.witness(k, from, c) {
				c.SetText(d.Name, d.Values[i])
				return true
			}
		}
	case Text:
		if s.witness(n.absent(), from, c) {
			c.SetAbsent(d.Name)
			return true
		}
		for i, l := range n.labels {
			if s.witness(n.kids[i], from, c) {
				c.SetText(d.Name, l)
				return true
			}
		}
		if s.witness(n.otherText(), from, c) {
			c.SetText(d.Name, otherThan(n.labels))
			return true
		}
	case Network:
		for i, k := range n.kids {
			if s.witness(k, from, c) {
				c.SetNetwork(n.bounds[i])
				return true
			}
		}
	}
	return false
}

// otherThan makes up a text that is none of the labels.
func otherThan(labels []string) string {
	text := "other"
	for slices.Contains(labels, text) {
		text += "-"
	}
	return text
}
