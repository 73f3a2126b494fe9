package gate

import (
	"maps"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/placemap"
	"hiddengate/internal/gate/unitrow"
	"hiddengate/internal/region"
)

// lending is a unit lent to a subject where a list of resources covers, within some marks.
type lending struct {
	on     int
	within placemap.Span
	unit   uint32
}

// lentKey names an on-request grant and somebody to whom it is lent.
type lentKey struct {
	grant   string
	subject estate.Principal
}

// lentFor is the marks within which such a grant is lent, and when.
type lentFor struct {
	within placemap.Span
	when   region.Region
}

// Lent says whether anything is lent to a subject, by number.
func (g *Gate) Lent(subject int) bool { return g.lent[uint32(subject)] != nil }

// WithLent gives the gate with what is lent laid over it, in place of what was. Rows are shared; where a place is lent
// that no list of the estate names, the estate is compiled anew.
func (g *Gate) WithLent(elevations []estate.Elevation) (*Gate, error) {
	if len(elevations) == 0 && len(g.lent) == 0 {
		return g, nil
	}
	for _, a := range marksOf(g.estate, elevations) {
		if _, ok := g.Places.Under(a); !ok {
			return CompileWith(g.estate, elevations, Options{Facts: g.Facts, Roster: g.Roster, Which: g.Which})
		}
	}
	f := *g
	f.lent, f.lentFor = map[uint32][]lending{}, map[lentKey][]lentFor{}
	f.inRoles = map[decisionKey]region.Region{}
	f.subjects = maps.Clone(g.subjects)
	units := unitrow.Further(g.Units)
	var bad error
	f.lend(units, elevations, func(_ *estate.Object, err error) {
		if bad == nil {
			bad = err
		}
	})
	f.Units = units.Units
	return &f, bad
}

// marksOf lists the places that elevations are confined to.
func marksOf(e *estate.Estate, elevations []estate.Elevation) (out []estate.Address) {
	for _, el := range elevations {
		if el.Within != (estate.Address{}) {
			out = append(out, e.Canonical(el.Within))
		}
	}
	return out
}

// lend lays elevations over the rows: those of on-request grants to whom they may be lent.
func (g *Gate) lend(m *unitrow.Maker, elevations []estate.Elevation, report func(*estate.Object, error)) {
	byGrant := map[string][]estate.Elevation{}
	for _, el := range elevations {
		byGrant[el.Grant] = append(byGrant[el.Grant], el)
	}
	for _, id := range slices.Sorted(maps.Keys(byGrant)) {
		gr := g.GrantOf(id)
		if gr == nil || !g.Which.counts(gr.Grant) || g.Which.asIfLent(gr.Grant) {
			continue
		}
		for _, el := range byGrant[id] {
			n := g.NumberOf(el.Subject)
			if n < 0 || !g.Selects(gr.To, el.Subject) {
				continue
			}
			one := lentFor{placemap.Span{To: ^uint32(0)}, g.space.Between(el.From, el.To)}
			if el.Within != (estate.Address{}) {
				one.within, _ = g.Places.Under(g.estate.Canonical(el.Within))
			}
			key := lentKey{id, el.Subject}
			g.lentFor[key] = append(g.lentFor[key], one)
			r, err := g.space.And(gr.Region, one.when)
			if err == nil {
				var units []uint32
				units, err = g.grantUnits(m, gr.Roles, r)
				for _, u := range units {
					g.lent[uint32(n)] = append(g.lent[uint32(n)], lending{gr.List, one.within, u})
				}
			}
			if err != nil {
				report(&gr.Object, err)
			}
		}
	}
}

// lentAt is when an on-request grant is lent to somebody at a spot.
func (g *Gate) lentAt(gr *CompiledGrant, p estate.Principal, at placemap.Spot) (region.Region, error) {
	var when []region.Region
	for _, l := range g.lentFor[lentKey{gr.ID, p}] {
		if at.Mark >= l.within.From && at.Mark < l.within.To {
			when = append(when, l.when)
		}
	}
	return g.space.Or(when...)
}

// lentAnywhere is when an on-request grant is lent to somebody in any place.
func (g *Gate) lentAnywhere(gr *CompiledGrant, p estate.Principal) (region.Region, error) {
	var when []region.Region
	for _, l := range g.lentFor[lentKey{gr.ID, p}] {
		when = append(when, l.when)
	}
	return g.space.Or(when...)
}

// isLent says whether an on-request grant is lent to the subject at a spot at the time of a request, or ever where that
// is open.
func (g *Gate) isLent(gr *CompiledGrant, p estate.Principal, at placemap.Spot, said *region.Context) (bool, error) {
	when, err := g.lentAt(gr, p, at)
	if err != nil || when == region.Empty || said == nil {
		return when != region.Empty, err
	}
	moment, timed := said.Time()
	if !timed {
		return true, nil
	}
	c := g.space.NewContext()
	c.SetTime(moment)
	return g.space.Judge(when, c) == region.All, nil
}
