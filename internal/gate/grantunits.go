package gate

import (
	"maps"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/opset"
	"hiddengate/internal/gate/unitrow"
	"hiddengate/internal/region"
)

// windows groups a role's operations by the time in which the role has them.
func (g *Gate) windows(roles []estate.Ref) (map[region.Region]opset.Set, error) {
	out := map[region.Region]opset.Set{}
	held := map[string]region.Region{}
	if len(roles) == 1 {
		held = g.Roles[roles[0].ID].Operations
	} else {
		for _, ref := range roles {
			for name, when := range g.Roles[ref.ID].Operations {
				r, err := g.space.Or(held[name], when)
				if err != nil {
					return nil, err
				}
				held[name] = r
			}
		}
	}
	for name, when := range held {
		if out[when] == nil {
			out[when] = g.Classes.Ops.NewSet()
		}
		out[when].Add(g.Classes.Ops.Number[name])
	}
	return out, nil
}

// grantUnits makes the units of a grant's roles within a region.
func (g *Gate) grantUnits(m *unitrow.Maker, roles []estate.Ref, within region.Region) ([]uint32, error) {
	windows, err := g.windows(roles)
	if err != nil {
		return nil, err
	}
	var out []uint32
	for _, when := range slices.Sorted(maps.Keys(windows)) {
		r, err := g.space.And(within, when)
		if err != nil {
			return nil, err
		}
		if r != region.Empty {
			out = append(out, m.Give(windows[when], r))
		}
	}
	return out, nil
}
