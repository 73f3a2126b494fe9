package unitrow

import (
	"cmp"
	"slices"

	"hiddengate/internal/lookup"
)

// merger brings the events of the shares of one class after another into one order. Most classes have most of their
// shares in common with the one before, such as those of lists that name everyone: what the one has and the other has
// not is put in or left out.
type merger struct {
	shares []Share
	of     []uint32 // the shares of the class before
	events []uint64 // and their events
	spare  []uint64
	more   []uint64 // events that come in
	less   []uint64 // and go
	heads  [][]uint64
	in     []uint32
	out    []uint32
}

// merge gives the events of some shares, whose numbers are in order, until it is asked for the next.
func (m *merger) merge(of []uint32) []uint64 {
	m.compare(of)
	m.of = of
	if change := m.count(m.in) + m.count(m.out); 2*change > len(m.events) {
		m.events = m.gather(m.events[:0], of)
		return m.events
	}
	m.more, m.less = m.gather(m.more[:0], m.in), m.gather(m.less[:0], m.out)
	next, more, less := m.spare[:0], m.more, m.less
	for _, e := range m.events {
		for len(more) > 0 && more[0] < e {
			next, more = append(next, more[0]), more[1:]
		}
		if len(less) > 0 && less[0] == e {
			less = less[1:]
			continue
		}
		next = append(next, e)
	}
	m.events, m.spare = append(next, more...), m.events
	return m.events
}

// compare finds which shares come in, and which go.
func (m *merger) compare(of []uint32) {
	m.in, m.out = m.in[:0], m.out[:0]
	was := m.of
	for _, n := range of {
		for len(was) > 0 && was[0] < n {
			m.out, was = append(m.out, was[0]), was[1:]
		}
		if len(was) > 0 && was[0] == n {
			was = was[1:]
			continue
		}
		m.in = append(m.in, n)
	}
	m.out = append(m.out, was...)
}

func (m *merger) count(of []uint32) (n int) {
	for _, s := range of {
		n += len(m.shares[s].events)
	}
	return n
}

// maxMerged is up to how many shares it pays to compare the next event of each.
const maxMerged = 16

// gather adds the events of some shares, each of which is sorted, to a list in one order.
func (m *merger) gather(to []uint64, of []uint32) []uint64 {
	if len(of) > maxMerged {
		for _, n := range of {
			to = append(to, m.shares[n].events...)
		}
		slices.Sort(to)
		return to
	}
	m.heads = m.heads[:0]
	for _, n := range of {
		if e := m.shares[n].events; len(e) > 0 {
			m.heads = append(m.heads, e)
		}
	}
	for len(m.heads) > 0 {
		least := 0
		for i := range m.heads {
			if m.heads[i][0] < m.heads[least][0] {
				least = i
			}
		}
		to = append(to, m.heads[least][0])
		if m.heads[least] = m.heads[least][1:]; len(m.heads[least]) == 0 {
			m.heads = slices.Delete(m.heads, least, least+1)
		}
	}
	return to
}

// alikeTogether orders classes so that those stand together that have the shares with the most events in common.
func alikeTogether(classes *lookup.Sequences, shares []Share) []uint32 {
	type largest [3]uint32 // shares, the one with the most events first
	of := make([]largest, classes.Len())
	order := make([]uint32, classes.Len())
	for c := range order {
		order[c] = uint32(c)
		var most [3]int
		for _, n := range classes.Get(uint32(c)) {
			share, events := n, len(shares[n].events)
			for i := range most {
				if events > most[i] {
					most[i], events = events, most[i]
					of[c][i], share = share, of[c][i]
				}
			}
		}
	}
	slices.SortStableFunc(order, func(a, b uint32) int {
		return cmp.Or(cmp.Compare(of[a][0], of[b][0]), cmp.Compare(of[a][1], of[b][1]), cmp.Compare(of[a][2], of[b][2]))
	})
	return order
}
