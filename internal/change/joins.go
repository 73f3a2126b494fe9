package change

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"hiddengate/internal/estate"
)

// mayEdit says whether a delegation lets the author fill a group.
func mayEdit(d *estate.Delegation, id string) bool {
	return slices.ContainsFunc(d.MayEdit,
		func(t estate.SubjectTerm) bool { return !t.Not && t.Kind == estate.IsGroup && t.ID == id })
}

// delegations lists those of the old estate. The stewards of a group may fill it with anybody, themselves too, and so
// each group that has some counts as a delegation to them.
func (j *judge) delegations() []*estate.Delegation {
	out := estate.Sorted(j.old.Delegations)
	for _, g := range estate.Sorted(j.old.Groups) {
		if len(g.Stewards) > 0 {
			out = append(out, &estate.Delegation{Object: estate.Object{ID: "stewards of " + g.ID, Source: g.Source},
				To: g.Stewards, ToSelf: true,
				MayEdit: estate.InGroup(g.ID)})
		}
	}
	return out
}

// edited lists the groups whose members change, and which the author may edit.
func (j *judge) edited() (all []string) {
	for _, was := range estate.Sorted(j.old.Groups) {
		after := j.new.Groups[was.ID]
		if after != nil && after != was && !same(after.Members, was.Members) &&
			slices.ContainsFunc(j.delegations(), func(d *estate.Delegation) bool {
				return mayEdit(d, was.ID) && j.was.Selects(d.To, j.by)
			}) {
			all = append(all, was.ID)
		}
	}
	return all
}

// withMembers gives the old estate with the new members of some groups, as far as those are known in it; the old one
// itself if there are none.
func (j *judge) withMembers(groups []string) *estate.Estate {
	if groups == nil {
		return j.old
	}
	var grown []estate.Edit
	for _, id := range groups {
		with := *j.old.Groups[id]
		with.Members = nil
		for _, m := range j.new.Groups[id].Members {
			if m.Kind == estate.IsEveryone || m.Kind == estate.IsAnonymous || m.Kind == estate.IsGroup &&
				j.old.Groups[m.ID] != nil || j.old.Subject(m.Principal) != nil {
				with.Members = append(with.Members, m)
			}
		}
		grown = append(grown, estate.Put("groups", &with))
	}
	return j.old.With(grown...)
}

// held is an operation of somebody.
type held struct {
	who       estate.Principal
	operation string
}

// gainsOf lists what some subjects may do in one estate somewhere and might not in another, with the place in words.
func (j *judge) gainsOf(was, is *estate.Estate) (map[held]string, error) {
	effect, err := Of(j.ctx, was, is, How{Since: j.now, apart: j.apart(), all: true})
	if err != nil {
		return nil, err
	}
	all := map[held]string{}
	err = j.eachGain(effect, func(l *Line, who estate.Principal, op string) {
		if one := (held{who, op}); all[one] == "" {
			all[one] = effect.Where(l)
		}
	})
	return all, err
}

// members judges the memberships that the author may edit: nobody goes beyond the ceiling of the delegations that let
// the author edit the group through which they get something, and nobody joins themselves.
func (j *judge) members() error {
	edited := j.edited()
	if edited == nil {
		return nil
	}
	gains, err := j.gainsOf(j.old, j.grown)
	if err != nil {
		return err
	}
	whole := map[held]string(nil) // what is gained in the end
	beyond := map[string]map[held]string{}
	for _, one := range slices.SortedFunc(maps.Keys(gains), func(a, b held) int {
		return strings.Compare(a.who.String()+" "+a.operation, b.who.String()+" "+b.operation)
	}) {
		// left says whether something of it is left without the groups that these delegations let the author edit.
		left := func(which func(*delegation) bool) (bool, error) {
			groups := j.editedBy(edited, which)
			if len(groups) == len(edited) {
				return false, nil
			}
			key := strings.Join(groups, " ")
			if beyond[key] == nil {
				if beyond[key], err = j.gainsOf(j.withMembers(groups), j.grown); err != nil {
					return false, err
				}
			}
			_, is := beyond[key][one]
			return is, nil
		}
		within := func(d *delegation) bool { return j.within(d, one.operation) }
		is, err := left(func(d *delegation) bool { return within(d) && (d.ToSelf || !j.own(one.who)) })
		if err != nil {
			return err
		}
		if !is {
			continue
		}
		if whole == nil {
			if whole, err = j.gainsOf(j.old, j.new); err != nil {
				return err
			}
		}
		if _, is := whole[one]; !is {
			continue // what a group gave may be taken from it by the same change
		}
		rule, text := JoinCeiling, "beyond what may be handed out"
		if is, err = left(within); err != nil {
			return err
		} else if !is {
			rule, text = NotToSelf, "and nobody gives to themselves"
		}
		b := j.breach(rule, positionOf(one.who, j.new, j.old), "%s gets %s on %s by joining a group, %s", one.who,
			one.operation, gains[one], text)
		b.Who, b.Where, b.Operation = one.who.String(), gains[one], one.operation
		b.Would = fmt.Sprintf("a delegation to %s with may-edit for the group, and within for %s", j.by, one.operation)
	}
	return nil
}

// editedBy gives those of some groups that one of certain delegations lets the author edit.
func (j *judge) editedBy(groups []string, which func(*delegation) bool) (out []string) {
	for _, id := range groups {
		if slices.ContainsFunc(j.may, func(d *delegation) bool { return mayEdit(d.Delegation, id) && which(d) }) {
			out = append(out, id)
		}
	}
	return out
}
