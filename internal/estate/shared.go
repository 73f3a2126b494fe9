package estate

import "slices"

// ListsAs says whether a tree lists the same resources as another, with the same types, tags and owners, in the same
// order. same compares what files say beyond that of some resources.
func (t *Tree) ListsAs(other *Tree, same func(a, b *Entry) bool) bool {
	return t == other || slices.EqualFunc(t.Entries, other.Entries, same) &&
		t.ListsAsRenamed(other, func(id string) string { return id }, sameOwner)
}

func sameOwner(p Principal) Principal { return p }

// ListsAsRenamed says whether a tree lists what another one does, once the systems and owners of that have other ids.
// What files say beyond types, tags and owners it does not look at.
func (t *Tree) ListsAsRenamed(other *Tree, system func(string) string, owner func(Principal) Principal) bool {
	if t.Len() != other.Len() {
		return false
	}
	types, tags, owners := t.numbersIn(other, owner)
	for from := 0; from < other.Len(); from = other.End(from) {
		id := system(other.Address(from))
		to := t.Find(id)
		if to < 0 || t.End(to)-to != other.End(from)-from {
			return false
		}
		path := [2]int{len(id), len(other.Address(from))}
		for i := range other.End(from) - from {
			a, b := &t.Rows[to+i], &other.Rows[from+i]
			if a.Parent > 0 && int(a.Parent)-to != int(b.Parent)-from || (a.Parent == 0) != (b.Parent == 0) ||
				tags[a.Tags] != int(b.Tags) || owners[a.Owner] != int(b.Owner) || types[a.Type] != int(b.Type) ||
				t.Address(to + i)[path[0]:] != other.Address(from + i)[path[1]:] {
				return false
			}
		}
	}
	return true
}

func (p *Principal) orNobody() string {
	if p == nil {
		return ""
	}
	return p.String()
}

// numbersIn gives of a tree's types, tags and owners the numbers that they have in another one, whose owners have other
// ids; -1 where it has none such.
func (t *Tree) numbersIn(other *Tree, owner func(Principal) Principal) (types, tags, owners []int) {
	text := func(s string) string { return s }
	whole := func(tags Tags) string { return tags.Name(func(string) bool { return true }) }
	return numbersIn(t.Types, other.Types, text, text), numbersIn(t.Tags, other.Tags, whole, whole),
		numbersIn(t.Owners, other.Owners, (*Principal).orNobody, func(p *Principal) string {
			if p == nil {
				return p.orNobody()
			}
			now := owner(*p)
			return now.orNobody()
		})
}

// numbersIn gives of each item of a list its place in another, by their names; -1 where it has none there.
func numbersIn[T any](list, other []T, name, othersName func(T) string) []int {
	places := map[string]int{}
	for i, item := range other {
		places[othersName(item)] = i
	}
	out := make([]int, len(list))
	for i, item := range list {
		n, ok := places[name(item)]
		if out[i] = n; !ok {
			out[i] = -1
		}
	}
	return out
}

// PlacesAs says that an estate has the very resources, systems and kinds of another, and scopes that say the same:
// lists of resources that say the same mean the same in both.
func (e *Estate) PlacesAs(other *Estate) bool {
	return e.Tree == other.Tree && SameMap(e.Systems, other.Systems) && e.TermsAs(other)
}

// TermsAs says that an estate has the very kinds of another, and scopes that say the same: lists of resources that say
// the same ask the same of a resource in both.
func (e *Estate) TermsAs(other *Estate) bool {
	if !SameMap(e.Kinds, other.Kinds) || len(e.Scopes) != len(other.Scopes) {
		return false
	}
	for id, s := range e.Scopes {
		t := other.Scopes[id]
		if t == nil || s != t && !slices.EqualFunc(s.Resources, t.Resources,
			func(a, b ResourceTerm) bool { return a.String() == b.String() }) {
			return false
		}
	}
	return true
}

// SharingKinds gives the estate with the kinds of another, which must say the same.
func (e *Estate) SharingKinds(other *Estate) *Estate {
	out := *e
	out.Kinds, out.Operations, out.offers = other.Kinds, other.Operations, other.offers
	return &out
}

// SharingPlaces gives the estate with the kinds, systems, scopes and listed resources of another, which must say the
// same: what hangs on these alone is worked out once for both.
func (e *Estate) SharingPlaces(other *Estate) *Estate {
	out := *e
	out.Kinds, out.Systems, out.Scopes, out.Operations = other.Kinds, other.Systems, other.Scopes, other.Operations
	out.Listings, out.Tree, out.folding, out.offers = other.Listings, other.Tree, other.folding, other.offers
	return &out
}
