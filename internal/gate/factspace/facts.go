// Package factspace says what conditions ask about: the dimensions of the regions that they come to, in one order.
package factspace

import (
	"maps"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/region"
)

// Facts are the names that conditions ask about. What concerns the subject and the resource (owner, same, their
// tags) are dimensions like the rest, the first of all, and are fixed once both are known.
type Facts struct {
	Same, Context, Subject, Resource map[string]bool
	Sames, Subjects, Resources       []keyed
	Attributes                       map[string]int // the dimensions of the request's attributes
	Owner                            bool
	Fixed                            int // how many dimensions concern the subject and the resource
}

// keyed is the dimension that asks about a tag.
type keyed struct {
	Key string
	Dim int
}

// Gather gathers what the conditions of some estates ask about.
func Gather(estates ...*estate.Estate) Facts {
	f := Facts{Same: map[string]bool{}, Context: map[string]bool{}, Subject: map[string]bool{},
		Resource: map[string]bool{}, Attributes: map[string]int{}}
	for i, e := range estates {
		if i == 0 || !estate.SameMap(e.Grants, estates[i-1].Grants) {
			for _, g := range e.Grants {
				g.When.Each(f.gather)
			}
		}
		for _, b := range e.Blocks {
			b.When.Each(f.gather)
		}
		for _, g := range e.Guarantees {
			g.Requires.Each(f.gather)
		}
	}
	return f
}

// ResourceValues gives, by key, the values of a resource's tags that the conditions of an estate name.
func ResourceValues(e *estate.Estate) map[string][]string {
	out := map[string][]string{}
	gather := func(c *estate.Condition) {
		for _, m := range c.Resource {
			out[m.Key] = append(out[m.Key], m.Values...)
		}
	}
	for _, g := range e.Grants {
		g.When.Each(gather)
	}
	for _, b := range e.Blocks {
		b.When.Each(gather)
	}
	return out
}

// Space makes the space of an estate's regions, or of several estates' that ask about the same.
func (f *Facts) Space(e *estate.Estate) *region.Space {
	return region.NewSpace(e.Zone, f.dimensions(), region.DefaultBudget)
}

func (f *Facts) gather(c *estate.Condition) {
	for _, k := range c.Same {
		f.Same[k] = true
	}
	for to, list := range map[*map[string]bool][]estate.Match{&f.Context: c.Context, &f.Subject: c.Subject,
		&f.Resource: c.Resource} {
		for _, m := range list {
			(*to)[m.Key] = true
		}
	}
	f.Owner = f.Owner || c.Owner != nil
}

// OwnerDim is the dimension that asks whether the subject owns the resource.
const OwnerDim = 0

// dimensions gives the order in which regions ask: what concerns the subject and the resource, then the request's
// yes/no facts, ways to sign in, attributes; the space adds network and time.
func (f *Facts) dimensions() []region.Dimension {
	dims := []region.Dimension{{Kind: region.Flag, Name: "owner", Phrases: [2]string{"not the owner", "the owner"}}}
	add := func(list *[]keyed, keys map[string]bool, dimension func(key string) region.Dimension) {
		for _, k := range slices.Sorted(maps.Keys(keys)) {
			*list = append(*list, keyed{k, len(dims)})
			dims = append(dims, dimension(k))
		}
	}
	add(&f.Sames, f.Same, func(k string) region.Dimension {
		return region.Dimension{Kind: region.Flag, Name: "same " + k,
			Phrases: [2]string{"not the same " + k, "the same " + k}}
	})
	add(&f.Subjects, f.Subject, func(k string) region.Dimension {
		return region.Dimension{Kind: region.Text, Name: "subject " + k, Label: "the subject's " + k}
	})
	add(&f.Resources, f.Resource, func(k string) region.Dimension {
		return region.Dimension{Kind: region.Text, Name: "resource " + k, Label: "the resource's " + k}
	})
	f.Fixed = len(dims)
	for _, f := range OrderedFacts {
		switch f.Kind {
		case estate.YesNo, estate.Carried:
			dims = append(dims, region.Dimension{Kind: region.Flag, Name: f.Name, Phrases: f.Phrases})
		case estate.Choice, estate.Ago:
			dims = append(dims, region.Dimension{Kind: region.Choice, Name: f.Name, Values: f.Words, Label: f.Phrase,
				Rising: f.Kind == estate.Ago})
		}
	}
	for _, k := range slices.Sorted(maps.Keys(f.Context)) {
		f.Attributes[k] = len(dims)
		dims = append(dims, region.Dimension{Kind: region.Text, Name: "context " + k, Label: k})
	}
	return dims
}

// OrderedFacts are the facts of a request in the order in which people would change them, and regions ask: what is so
// or not comes first.
var OrderedFacts = func() []*estate.Fact {
	out := slices.Clone(estate.Facts)
	slices.SortStableFunc(out, func(a, b *estate.Fact) int {
		rank := map[estate.FactKind]int{estate.YesNo: 0, estate.Carried: 0, estate.Choice: 1,
			estate.Ago: 2, estate.FromNetwork: 3}
		return rank[a.Kind] - rank[b.Kind]
	})
	return out
}()

// FixedNames lists the dimensions that a subject and a resource settle.
func (f *Facts) FixedNames() []string {
	names := []string{"owner"}
	for prefix, list := range map[string][]keyed{"same ": f.Sames, "subject ": f.Subjects, "resource ": f.Resources} {
		for _, k := range list {
			names = append(names, prefix+k.Key)
		}
	}
	slices.Sort(names[1:])
	return names
}

// Name is the same for tags that no condition tells apart.
func (f *Facts) Name(tags estate.Tags) string {
	return tags.Name(func(key string) bool { return f.Same[key] || f.Subject[key] || f.Resource[key] })
}

// Numbers gives each of some tags a number that those have too which no condition tells from them. known is of those
// that have one already, by Name.
func (f *Facts) Numbers(all []estate.Tags, known map[string]uint32) (out []uint32) {
	for _, tags := range all {
		key := f.Name(tags)
		n, ok := known[key]
		if !ok {
			n = uint32(len(known))
			known[key] = n
		}
		out = append(out, n)
	}
	return out
}
