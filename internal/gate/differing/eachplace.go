package differing

import (
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/factspace"
	"hiddengate/internal/gate/newplace"
	"hiddengate/internal/region"
)

// EachPlace visits all resources that can ever be, as far as some lists of an old estate and of a new one tell them
// apart: those listed in either, and a specimen for each way in which one may come. Where an estate has no such
// resource it is nil. It stops when each returns false; whole is false if there are too many ways.
func EachPlace(before, after *estate.Estate, lists [2][]estate.Resources,
	each func(was, is *estate.Resource) bool) (whole bool) {
	for r := range after.Tree.All() {
		was := r
		if before.Tree != after.Tree {
			was = before.Listed(r.Address)
		}
		if !each(was, r) {
			return true
		}
	}
	for r := range before.Tree.All() {
		if before.Tree != after.Tree && after.Listed(r.Address) == nil && !each(r, nil) {
			return true
		}
	}
	return EachComing(before, after, lists, each)
}

// EachComing is EachPlace of what may come alone.
func EachComing(before, after *estate.Estate, lists [2][]estate.Resources,
	each func(was, is *estate.Resource) bool) (whole bool) {
	estates := [2]*estate.Estate{before, after}
	coming, whole, _ := newplace.Specimens(newplace.Basis{Estates: estates, Lists: lists, Facts: &factspace.Facts{},
		Unsettled: newplace.Unsettled{Values: map[string][]string{}}})
	for i := range coming {
		if was, is := coming[i].In(before), coming[i].In(after); (was != nil || is != nil) && !each(was, is) {
			return true
		}
	}
	return whole
}

// RoleGrows names the operations that a role has in the new estate when it had them not; of a new role all.
func (p *Pair) RoleGrows(id string) (out []string) {
	was, is := p.Old.Roles[id], p.New.Roles[id]
	if is == nil {
		return nil
	}
	for name, when := range is.Operations {
		before := region.Empty
		if was != nil {
			if r, ok := was.Operations[name]; ok {
				before = r
			}
		}
		if holds, err := p.New.Space().Contains(before, when); err != nil || !holds {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}
