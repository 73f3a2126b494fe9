package gate

import (
	"fmt"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/region"
)

// Lack is an operation that subjects may do without one that it needs.
type Lack struct {
	Subjects  []estate.Principal
	Resource  *estate.Resource
	Operation string
	Need      string
	Grant     string // the first that gives the operation
}

// Lacking lists where somebody may do an operation and, in some of the same contexts, not one that it needs. Of
// resources that no grant or block tells apart it looks at one; subjects that none tells apart come together.
func (g *Gate) Lacking() []Lack {
	var out []Lack
	resources := g.representatives()
	covered := make([][]int, len(g.places.lists)) // by list, which of the resources
	for i, r := range resources {
		for _, n := range g.places.covering(g.spot(r)) {
			covered[n] = append(covered[n], i)
		}
	}
	alike := map[string][]*subject{}
	var classes []string
	for n := range g.people {
		s := g.numbered(n)
		if len(s.grants) > 0 {
			k := g.signature(s)
			if alike[k] == nil {
				classes = append(classes, k)
			}
			alike[k] = append(alike[k], s)
		}
	}
	for _, class := range classes {
		s := alike[class][0]
		var all []estate.Principal
		for _, one := range alike[class] {
			all = append(all, one.principal)
		}
		var reached []int
		for _, gr := range s.grants {
			reached = append(reached, covered[gr.on]...)
		}
		slices.Sort(reached)
		for _, i := range slices.Compact(reached) {
			r := resources[i]
			for _, o := range g.estate.Offer(r.System.Kind.ID).On(r.Type) {
				if len(o.Needs) == 0 {
					continue
				}
				has, err := g.allowed(s, o.Name, r, nil)
				if err != nil || has == region.Empty {
					continue
				}
				for _, need := range o.Needs {
					if !g.meets(s, r, need, has) {
						out = append(out, Lack{all, r, o.Name, need, g.giver(s, r, o.Name)})
					}
				}
			}
		}
	}
	return out
}

// meets says whether the needed operation, at the resource or the nearest place above where it is valid, is
// allowed in all of the region.
func (g *Gate) meets(s *subject, r *estate.Resource, need string, in region.Region) bool {
	for ; r != nil; r = r.Parent {
		if g.estate.Offer(r.System.Kind.ID).Valid(need, r.Type) == nil {
			continue
		}
		has, err := g.allowed(s, need, r, nil)
		if err != nil {
			return true // too complex to say
		}
		inside, err := g.space.Contains(has, in)
		return inside || err != nil
	}
	return true // it is valid nowhere above: nothing can be lacking
}

func (g *Gate) giver(s *subject, r *estate.Resource, operation string) string {
	known := g.known(s, r)
	for _, gr := range s.grants {
		if one, err := g.grantRegion(gr, s, operation, nil); g.places.covers(gr.on, g.spot(r)) && err == nil && g.space.Fix(one, known) != region.Empty {
			return gr.ID
		}
	}
	return ""
}

// signature is the same for subjects that no grant or block tells apart, but for what they own.
func (g *Gate) signature(s *subject) string {
	key := fmt.Sprint(g.class[s.number], s.active, g.facts.name(s.Tags))
	if g.facts.owner {
		key += s.principal.String()
	}
	return key
}

// name is the same for tags that no condition tells apart.
func (f *facts) name(tags estate.Tags) string {
	return tags.Name(func(key string) bool { return f.same[key] || f.subject[key] || f.resource[key] })
}

// representatives gives one resource for each way in which grants, blocks and types tell resources and what they
// stand in apart.
func (g *Gate) representatives() []*estate.Resource {
	type look struct {
		at    spot
		above int
		tags  string
		owner uint32
	}
	ids := map[look]int{}
	tree := g.estate.Tree
	tags := make([]string, len(tree.Tags))
	for i, t := range tree.Tags {
		tags[i] = g.facts.name(t)
	}
	told := g.places.toldApart()
	numbers := make([]int, tree.Len())
	var out []*estate.Resource
	for i, row := range tree.Rows {
		key := look{at: g.places.spots[i], above: -1, tags: tags[row.Tags]}
		key.at.mark = told[key.at.mark]
		if row.Parent > 0 {
			key.above = numbers[row.Parent-1]
		}
		if g.facts.owner {
			key.owner = row.Owner
		}
		id, known := ids[key]
		if !known {
			id = len(ids)
			ids[key] = id
			out = append(out, tree.At(i))
		}
		numbers[i] = id
	}
	return out
}

// Never says whether a condition and dates can never hold together.
func (g *Gate) Never(when *estate.Condition, starts, ends *estate.Moment) bool {
	r, err := g.entryRegion(when, starts, ends)
	return err == nil && r == region.Empty
}
