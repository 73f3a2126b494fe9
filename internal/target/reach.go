package target

import (
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// restrain takes from a profile the natives that would give more inside a place than the policy does.
func (w *Wanted) restrain(p *profile, asker *gate.Asker) error {
	far := w.Carries.far()
	if far == 0 {
		return nil
	}
	for place, n := range p.sets {
		if n < 0 || w.sets[n].mask&far == 0 {
			continue
		}
		for k, native := range w.Carries.Natives {
			if w.mask(p, place)&far&(1<<k) == 0 {
				continue
			}
			allowed, err := w.allowsInside(p, place, &native, asker)
			if err != nil {
				return err
			}
			if !allowed {
				if p.without == nil {
					p.without = map[int]Mask{}
				}
				p.without[place] |= 1 << k
			}
		}
	}
	return nil
}

// far lists the natives that give something inside the place where they are had, as a mask.
func (c *Carries) far() (out Mask) {
	for k := range c.Natives {
		if c.Natives[k].Unlimited || c.Natives[k].Inside != nil {
			out |= 1 << k
		}
	}
	return out
}

// allowsInside says whether the policy allows, on all inside a place that it lists, what a native gives there.
func (w *Wanted) allowsInside(p *profile, place int, native *Native, asker *gate.Asker) (bool, error) {
	if native.Unlimited && !w.allowsAll(p, place) {
		return false, nil
	}
	for i := range w.State.Places { // what the policy decides nothing about, it gives to nobody
		if !w.Listed(i) && w.State.inside(i, place) && slices.ContainsFunc(native.Inside,
			func(o string) bool { return w.Carries.Of(o, &w.State.Places[i]) != 0 }) {
			return false, nil
		}
	}
	for _, t := range w.tables {
		if !w.State.inside(t.place, place) {
			continue
		}
		on := &Place{Type: w.State.Places[t.place].Type}
		if !w.allowsRows(p, t.place, func(o *estate.Operation) bool {
			return native.Unlimited || slices.Contains(native.Inside, o.Name) && w.Carries.Of(o.Name, on) != 0
		}) {
			return false, nil
		}
	}
	for _, row := range w.rowsInside(place) {
		has, err := asker.On(row)
		if err != nil {
			return false, err
		}
		on := &Place{Type: w.Gate.Estate().Tree.At(row).Type}
		for i, o := range has.Operations {
			if has.Outcomes[i] != gate.Allow && (native.Unlimited ||
				slices.Contains(native.Inside, o.Name) && w.Carries.Of(o.Name, on) != 0) {
				return false, nil
			}
		}
	}
	return true, nil
}

// rowsInside lists the rows of the estate inside a place.
func (w *Wanted) rowsInside(place int) []int {
	if out, known := w.inside[place]; known {
		return out
	}
	tree := w.Gate.Estate().Tree
	top := w.rows[place]
	out := []int{}
	if top < 0 { // nothing that is listed is inside what is not
		return out
	}
	for i := top + 1; i < tree.End(top); i++ {
		out = append(out, i)
	}
	w.inside[place] = out
	return out
}

// AllowsAll says whether the policy lets somebody do every operation on a place, now and without condition.
func (w *Wanted) AllowsAll(h *Holder, place int) bool { return w.allowsAll(h.profile, place) }

func (w *Wanted) allowsAll(p *profile, place int) bool {
	n := p.sets[place]
	return n >= 0 && w.allowsRows(p, place, func(*estate.Operation) bool { return true }) &&
		!slices.ContainsFunc(w.sets[n].Outcomes, func(o gate.Outcome) bool { return o != gate.Allow })
}
