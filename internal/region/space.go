// Package region is the algebra of conditions: sets of contexts that can be united, intersected and subtracted
// exactly, and whose emptiness is decided. A region is a hash-consed decision diagram (R. E. Bryant, "Graph-Based
// Algorithms for Boolean Function Manipulation", 1986, here with more than two ways out of a node) over one fixed
// order of dimensions. It knows no policy.
package region

import (
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"hiddengate/internal/clock"
)

// Region is a set of contexts of one Space. Empty and Full are the same in every Space.
type Region int32

// Empty holds no context, Full holds all.
const (
	Empty Region = 0
	Full  Region = 1
)

// ErrBudget says that an operation would have taken more steps than the space allows. In general, deciding
// whether a region is empty is as hard as satisfiability, so some conditions must be refused.
var ErrBudget = errors.New("the conditions are too complex to decide")

// Kind is what a dimension's values are.
type Kind int

// The kinds of dimension. A Flag is no or yes, a Choice one of a few texts, a Text any text or absent. Every
// space has one Network (an IPv4 or IPv6 address) and one Time dimension, the last two.
const (
	Flag Kind = iota
	Choice
	Text
	Network
	Time
)

// Dimension is one thing a context says. Phrases, for a Flag, are what prints for no and yes; Label, or else Name,
// prints for the rest.
type Dimension struct {
	Kind    Kind
	Name    string
	Values  []string // of a Choice
	Rising  bool     // of a Choice: each value is a time, and the last what is longer than those before it
	Phrases [2]string
	Label   string // prints in place of Name; of a Choice, before what it is
}

// Space owns regions over a fixed list of dimensions. It is not safe for concurrent use.
type Space struct {
	zone   *clock.Zone
	dims   []Dimension
	byName map[string]int
	nodes  []node
	unique map[string]Region
	memo   map[operands]Region
	budget int // steps an operation may take
	steps  int // steps the running operation has taken
	buffer []byte
	marks  []uint32 // of each node, the visit in which judging came by it
	visit  uint32
}

// node tells what remains of the context's set for each value of one dimension.
type node struct {
	dim int
	// kids: Flag: no, yes. Choice: one for each value. Text: one for each label, then any other text, then absent.
	// Network: one for each interval that begins at a bound.
	kids   []Region
	labels []string     // Text: sorted
	bounds []netip.Addr // Network: sorted, the first is the lowest address
	times  times        // Time
}

type operands struct {
	op   operation
	a, b Region
}

// DefaultBudget is how many steps one operation may take: some hundred milliseconds and some tens of MiB.
const DefaultBudget = 1 << 18

// NewSpace makes a space whose local times are in zone. dims come in the order in which regions test them;
// Network and Time are added behind them.
func NewSpace(zone *clock.Zone, dims []Dimension, budget int) *Space {
	s := &Space{zone: zone, budget: budget, byName: map[string]int{}, unique: map[string]Region{},
		memo: map[operands]Region{}}
	s.dims = append(slices.Clone(dims), Dimension{Kind: Network, Name: "network"}, Dimension{Kind: Time, Name: "time"})
	for i, d := range s.dims {
		if _, twice := s.byName[d.Name]; twice {
			panic("region: dimension named twice: " + d.Name)
		}
		s.byName[d.Name] = i
	}
	s.nodes = make([]node, 2) // the terminals
	s.nodes[Empty].dim, s.nodes[Full].dim = len(s.dims), len(s.dims)
	return s
}

// Fork gives a space that knows every region of this one, and on which another goroutine may work.
func (s *Space) Fork() *Space {
	f := *s
	f.nodes = s.nodes[:len(s.nodes):len(s.nodes)] // whoever adds the first node moves away
	f.unique, f.memo = maps.Clone(s.unique), map[operands]Region{}
	f.buffer, f.marks, f.visit = nil, nil, 0
	return &f
}

// Zone is the zone of the space's local times.
func (s *Space) Zone() *clock.Zone { return s.zone }

// Nodes counts the nodes the space holds.
func (s *Space) Nodes() int { return len(s.nodes) }

func (s *Space) index(name string, kind ...Kind) int {
	i, ok := s.byName[name]
	if !ok || !slices.Contains(kind, s.dims[i].Kind) {
		panic(fmt.Sprintf("region: no such dimension: %s", name))
	}
	return i
}

// Is is the set of contexts in which the flag has the value.
func (s *Space) Is(flag string, value bool) Region {
	kids := []Region{Full, Empty}
	if value {
		kids = []Region{Empty, Full}
	}
	return s.make(node{dim: s.index(flag, Flag), kids: kids})
}

// OneOf is the set of contexts in which the Choice or Text has one of the values.
func (s *Space) OneOf(name string, values ...string) Region {
	i := s.index(name, Choice, Text)
	if s.dims[i].Kind == Choice {
		kids := make([]Region, len(s.dims[i].Values))
		for k, v := range s.dims[i].Values {
			if slices.Contains(values, v) {
				kids[k] = Full
			}
		}
		return s.make(node{dim: i, kids: kids})
	}
	labels := slices.Clone(values)
	slices.Sort(labels)
	labels = slices.Compact(labels)
	kids := make([]Region, len(labels)+2)
	for k := range labels {
		kids[k] = Full
	}
	return s.make(node{dim: i, kids: kids, labels: labels})
}

// From is the set of contexts whose address lies in one of the prefixes. Mapped addresses count as IPv4.
func (s *Space) From(prefixes ...netip.Prefix) Region {
	bounds, inside := addressIntervals(prefixes)
	kids := make([]Region, len(bounds))
	for i, in := range inside {
		if in {
			kids[i] = Full
		}
	}
	return s.make(node{dim: s.index("network", Network), kids: kids, bounds: bounds})
}

// Between is the time from one instant until another, the latter excluded.
func (s *Space) Between(from, to clock.Instant) Region {
	return s.makeTimes(times{{max(from, clock.Beginning), min(to, clock.End), allMinutes}})
}

// Weekly is the time in which the local minute of the week lies in one of the sorted, disjoint runs [first, after).
func (s *Space) Weekly(runs [][2]int) Region {
	var m minutes
	for _, r := range runs {
		m = append(m, run{uint16(r[0]), uint16(r[1])})
	}
	return s.makeTimes(times{{clock.Beginning, clock.End, m}})
}

// Until is the time whose local date is d or earlier.
func (s *Space) Until(d clock.Date) Region {
	var t times
	for _, i := range s.zone.Until(d) {
		t = append(t, span{i.From, i.To, allMinutes})
	}
	return s.makeTimes(t)
}

func (s *Space) makeTimes(t times) Region {
	t = t.tidy(s.zone)
	switch {
	case len(t) == 0:
		return Empty
	case t.full():
		return Full
	}
	return s.intern(node{dim: len(s.dims) - 1, times: t})
}

// make reduces a node that tests a dimension other than time, and finds or adds it.
func (s *Space) make(n node) Region {
	switch s.dims[n.dim].Kind {
	case Text:
		n = dropPlainLabels(n)
	case Network:
		n = joinIntervals(n)
	}
	same := true
	for _, k := range n.kids[1:] {
		same = same && k == n.kids[0]
	}
	if same {
		return n.kids[0]
	}
	return s.intern(n)
}

// dropPlainLabels forgets the labels that lead where any other text leads.
func dropPlainLabels(n node) node {
	other := n.kids[len(n.labels)]
	out := node{dim: n.dim}
	for i, l := range n.labels {
		if n.kids[i] != other {
			out.labels = append(out.labels, l)
			out.kids = append(out.kids, n.kids[i])
		}
	}
	out.kids = append(out.kids, other, n.kids[len(n.labels)+1])
	return out
}

func joinIntervals(n node) node {
	out := node{dim: n.dim}
	for i, k := range n.kids {
		if i == 0 || k != out.kids[len(out.kids)-1] {
			out.kids = append(out.kids, k)
			out.bounds = append(out.bounds, n.bounds[i])
		}
	}
	return out
}

// intern gives the one Region for a reduced node.
func (s *Space) intern(n node) Region {
	b := binary.AppendUvarint(s.buffer[:0], uint64(n.dim))
	for _, k := range n.kids {
		b = binary.AppendUvarint(b, uint64(k))
	}
	for _, l := range n.labels {
		b = binary.AppendUvarint(b, uint64(len(l)))
		b = append(b, l...)
	}
	for _, a := range n.bounds {
		b = append(b, byte(a.BitLen()/32))
		b = append(b, a.AsSlice()...)
	}
	for _, t := range n.times {
		b = binary.AppendVarint(b, int64(t.from))
		b = binary.AppendVarint(b, int64(t.to))
		b = binary.AppendUvarint(b, uint64(len(t.minutes)))
		for _, r := range t.minutes {
			b = binary.AppendUvarint(b, uint64(r.first))
			b = binary.AppendUvarint(b, uint64(r.after))
		}
	}
	s.buffer = b
	if r, ok := s.unique[string(b)]; ok {
		return r
	}
	r := Region(len(s.nodes))
	s.nodes = append(s.nodes, n)
	s.unique[string(b)] = r
	return r
}

// Has says whether the space has a dimension of the name.
func (s *Space) Has(name string) bool {
	_, ok := s.byName[name]
	return ok
}
