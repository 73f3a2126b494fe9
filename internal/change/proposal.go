package change

import (
	"cmp"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// proposal is a fix that has not been tried.
type proposal struct {
	kind     string
	commands []string
	edits    []estate.Edit
	made     *estate.Estate // with the edits, where these hang on one another; nil: it is made when it is tried
	shared   bool           // it is of what several get
	last     bool           // it takes a limit from everybody, and so comes last
	breadth  func() int     // about how much it would give, in subjects times operations times resources; nil: little
}

// mostTried bounds how many edits are tried. Where more might do it, mostWeighed of those that could be broad are held
// against each other.
const (
	mostTried   = 12
	mostWeighed = 256
)

// narrowest leaves of some proposals those that are to be tried, in their order.
func narrowest(all []proposal) (out []proposal) {
	if len(all) <= mostTried {
		return all
	}
	left, breadth := mostTried, make([]int, len(all))
	var broad []int // by number
	for i := range all {
		switch {
		case all[i].breadth == nil:
			left--
		case len(broad) < mostWeighed:
			broad, breadth[i] = append(broad, i), all[i].breadth()
		}
	}
	slices.SortStableFunc(broad, func(a, b int) int { return cmp.Compare(breadth[a], breadth[b]) })
	broad = broad[:max(0, min(left, len(broad)))]
	for i := range all {
		if all[i].breadth == nil || slices.Contains(broad, i) {
			out = append(out, all[i])
		}
	}
	return out[:min(len(out), mostTried)]
}

// breadths tells about how much is given by grants. Nobody's access is looked at, so that it takes little.
type breadths struct {
	estate *estate.Estate
	gate   *gate.Gate
	to     map[string][]*estate.Grant // by group; nil until it is asked for, as those that follow
	in     map[string][]string        // by group, the groups that list it as a member
	of     map[string][]*estate.Grant // by role
	on     map[string][]*estate.Grant // by scope
}

func (b *breadths) gather() {
	if b.to != nil {
		return
	}
	b.to, b.in = map[string][]*estate.Grant{}, map[string][]string{}
	b.of, b.on = map[string][]*estate.Grant{}, map[string][]*estate.Grant{}
	for _, gr := range b.estate.Grants {
		for _, t := range gr.To {
			if t.Kind == estate.IsGroup && !t.Not {
				b.to[t.ID] = append(b.to[t.ID], gr)
			}
		}
		for _, role := range gr.Roles {
			b.of[role.ID] = append(b.of[role.ID], gr)
		}
		for _, t := range gr.On {
			if t.Scope != "" && !t.Not {
				b.on[t.Scope] = append(b.on[t.Scope], gr)
			}
		}
	}
	for id, group := range b.estate.Groups {
		for _, m := range group.Members {
			if m.Kind == estate.IsGroup && !m.Not {
				b.in[m.ID] = append(b.in[m.ID], id)
			}
		}
	}
}

// operations counts those that a grant's roles have, one that two of them have twice.
func (b *breadths) operations(gr *estate.Grant) (count int) {
	for _, role := range gr.Roles {
		count += len(b.gate.RoleOperations(role.ID))
	}
	return count
}

// grant is what one more subject of a grant gets.
func (b *breadths) grant(gr *estate.Grant) int { return b.operations(gr) * b.gate.Count(gr.On) }

// group is what one more member of a group gets.
func (b *breadths) group(id string) (sum int) {
	b.gather()
	seen := map[string]bool{id: true}
	for queue := []string{id}; len(queue) > 0; queue = queue[1:] {
		for _, gr := range b.to[queue[0]] {
			sum += b.grant(gr)
		}
		for _, outer := range b.in[queue[0]] {
			if !seen[outer] {
				seen[outer] = true
				queue = append(queue, outer)
			}
		}
	}
	return sum
}

// place is what everybody of some grants gets on one more resource.
func (b *breadths) place(grants ...*estate.Grant) (sum int) {
	for _, gr := range grants {
		sum += b.gate.CountMembers(gr.To) * b.operations(gr)
	}
	return sum
}

// scope is the same of all grants on a scope.
func (b *breadths) scope(id string) int {
	b.gather()
	return b.place(b.on[id]...)
}

// operation is what everybody gets who has a role, where it has one operation more.
func (b *breadths) operation(role string) (sum int) {
	b.gather()
	for _, gr := range b.of[role] {
		sum += b.gate.CountMembers(gr.To) * b.gate.Count(gr.On)
	}
	return sum
}
