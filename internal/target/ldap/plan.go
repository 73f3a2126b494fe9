package ldap

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"hiddengate/internal/target"
)

// change is what is changed about one group, in one step.
type change struct {
	DN        string   `json:"dn"`
	Attribute string   `json:"attribute"`
	Add       []string `json:"add,omitempty"`
	Remove    []string `json:"remove,omitempty"`
}

// together is how many members one statement names at most, so that it can be read.
const together = 10

// Plan says whom each group has to take up and leave. Whoever is in no care of the policy's stays.
func (s *snapshot) Plan(a *target.Arrangement) *target.Plan {
	plan := &target.Plan{}
	from := grantsOf(a)
	var changes []change
	for _, g := range s.groups {
		if !a.Listed(g.place) {
			continue
		}
		one := change{DN: g.dn, Attribute: g.attribute}
		added := map[string][]string{} // by the grants, whom they add
		for _, h := range a.Holders {
			p := s.people[h.Account]
			if p == nil {
				continue
			}
			wanted := a.Mask(h, g.place)&(1<<belonging) != 0
			written, has := g.has(p)
			switch {
			case wanted && g.listed(p) == "":
				plan.Left = append(plan.Left, fmt.Sprintf("%s has no uid, by which %s lists its members", p.dn, g.dn))
			case wanted && !has:
				by := strings.Join(from[held{h.Account, g.place}], " ")
				added[by] = append(added[by], g.listed(p))
			case !wanted && has:
				one.Remove = append(one.Remove, written)
			}
		}
		tell(plan, g, &one, added)
		if len(one.Add)+len(one.Remove) > 0 {
			changes = append(changes, one)
		}
	}
	s.leaveNested(a, plan)
	for _, h := range a.Holders {
		if s.people[h.Account] == nil {
			plan.Left = append(plan.Left, fmt.Sprintf("%s has no entry in the directory: make one, which hgate does not",
				h.Account))
		}
	}
	text, err := json.Marshal(changes)
	if err != nil { // it has texts and nothing else
		panic(err)
	}
	plan.Script = string(text)
	return plan
}

// leaveNested tells which listed groups have other groups as members: who belongs to those may be taken to belong to
// these, by whoever asks.
func (s *snapshot) leaveNested(a *target.Arrangement, plan *target.Plan) {
	groups := map[string]bool{}
	for _, g := range s.groups {
		groups[told(g.dn)] = true
	}
	for _, g := range s.groups {
		for _, m := range g.members {
			if !g.byUser && a.Listed(g.place) && groups[told(m)] && told(m) != told(g.dn) {
				plan.Left = append(plan.Left, fmt.Sprintf("%s has the group %s as a member: some systems let in whoever "+
					"belongs to that", g.dn, m))
			}
		}
	}
}

// tell says what is changed about a group. One that lists distinguished names has a member always: where it has nobody,
// it lists itself.
func tell(plan *target.Plan, g *group, one *change, added map[string][]string) {
	say := func(do target.Doing, members, grants []string, why string) {
		for some := range slices.Chunk(members, together) {
			plan.Statements = append(plan.Statements, target.Statement{Do: do, Grants: grants, Why: why,
				Text: fmt.Sprintf("%s of %s: %s", g.attribute, g.dn, strings.Join(some, "; "))})
		}
	}
	say(target.Remove, one.Remove, nil, "no grant puts it there")
	for _, by := range slices.Sorted(maps.Keys(added)) {
		say(target.Add, added[by], strings.Fields(by), "")
		one.Add = append(one.Add, added[by]...)
	}
	itself, lists := g.written[g.told(g.dn)]
	switch {
	case g.byUser:
	case len(one.Add) > 0 && lists:
		one.Remove = append(one.Remove, itself)
	case len(one.Add) == 0 && len(one.Remove) > 0 && len(one.Remove) == len(g.members):
		one.Add = append(one.Add, g.dn)
	}
}

// held is a membership.
type held struct {
	account string
	place   int
}

// grantsOf lists the grants by which accounts belong to groups.
func grantsOf(a *target.Arrangement) map[held][]string {
	out := map[held][]string{}
	for _, r := range a.Roles {
		for _, x := range r.Rights {
			for _, account := range r.Members {
				out[held{account, x.Place}] = append(out[held{account, x.Place}], r.Grant)
			}
		}
	}
	for account, all := range a.Direct {
		for _, x := range all {
			out[held{account, x.Place}] = append(out[held{account, x.Place}], x.Grants...)
		}
	}
	for k, grants := range out {
		out[k] = slices.Compact(slices.Sorted(slices.Values(grants)))
	}
	return out
}
