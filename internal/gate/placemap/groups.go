package placemap

// Groups are the listed resources by spot, in the order of the first of each.
type Groups struct {
	Spots []Spot
	ends  []uint32 // of each spot's rows
	rows  []int32  // of the tree
}

// Rows lists the resources of a spot, by its place among Spots. The slice must not be changed.
func (g *Groups) Rows(i int) []int32 {
	start := uint32(0)
	if i > 0 {
		start = g.ends[i-1]
	}
	return g.rows[start:g.ends[i]:g.ends[i]]
}

// Groups gives the listed resources by spot. It is worked out once.
func (p *Map) Groups() *Groups {
	if p.groups != nil {
		return p.groups
	}
	g := &Groups{}
	number, of := map[Spot]uint32{}, make([]uint32, len(p.Spots))
	count := 0
	for row, spot := range p.Spots {
		if !p.KnowsRow(row) {
			continue
		}
		count++
		if row > 0 && p.KnowsRow(row-1) && spot == p.Spots[row-1] {
			of[row] = of[row-1]
		} else {
			n, ok := number[spot]
			if !ok {
				n = uint32(len(g.Spots))
				number[spot] = n
				g.Spots, g.ends = append(g.Spots, spot), append(g.ends, 0)
			}
			of[row] = n
		}
		g.ends[of[row]]++
	}
	at := make([]uint32, len(g.ends)) // where the next row of each goes
	for n := range g.ends {
		if n > 0 {
			at[n] = g.ends[n-1]
			g.ends[n] += at[n]
		}
	}
	g.rows = make([]int32, count)
	for row, n := range of {
		if !p.KnowsRow(row) {
			continue
		}
		g.rows[at[n]] = int32(row)
		at[n]++
	}
	p.groups = g
	return g
}
