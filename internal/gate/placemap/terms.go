package placemap

import (
	"math/bits"
	"slices"

	"hiddengate/internal/estate"
)

// terms are those of the lists that traits tell, and of the scopes that these name, by what they ask for: what a
// resource has tells at once which of them cover it, whatever the number of lists. Sets of terms have a bit for each.
type terms struct {
	all       []*estate.ResourceTerm
	of        []int // of each, the bit of the scope or list in which it stands
	anywhere  []uint64
	byPattern [][]int
	untagged  []uint64
	byTag     map[estate.Tag][]int // those whose first key may have this value
	unowned   []uint64
	byOwner   map[estate.Principal][]int
	naming    [][]naming     // of each scope, by its bit, where it is named
	scopes    map[string]int // their bits; a scope has a higher one than those that it names
	lists     int            // the bit of the first list, which begins a word
}

// naming is where a scope is named, and whether it is taken away there.
type naming struct {
	in  int
	not bool
}

// newTerms takes lists apart; numbers gives those of the patterns.
func newTerms(e *estate.Estate, lists []estate.Resources, numbers map[string]uint32) *terms {
	t := &terms{byPattern: make([][]int, len(numbers)), byTag: map[estate.Tag][]int{},
		byOwner: map[estate.Principal][]int{}, scopes: map[string]int{}}
	for _, l := range lists {
		t.enterScopes(e, l)
	}
	t.lists = (len(t.scopes) + 63) / 64 * 64
	for id, bit := range t.scopes {
		t.enter(e.Scopes[id].Resources, bit)
	}
	for i, l := range lists {
		t.enter(l, t.lists+i)
	}
	t.anywhere, t.untagged, t.unowned = t.set(), t.set(), t.set()
	for i, term := range t.all {
		if term.In == nil {
			add(t.anywhere, i)
		} else {
			n := numbers[term.In.String()]
			t.byPattern[n] = append(t.byPattern[n], i)
		}
		if len(term.Tags) == 0 {
			add(t.untagged, i)
		} else {
			for _, value := range term.Tags[0].Values {
				tag := estate.Tag{Key: term.Tags[0].Key, Value: value}
				t.byTag[tag] = append(t.byTag[tag], i)
			}
		}
		if term.Owners == nil {
			add(t.unowned, i)
		}
		for _, o := range term.Owners {
			t.byOwner[o] = append(t.byOwner[o], i)
		}
	}
	return t
}

// enterScopes gives bits to the scopes that a list names, and to those that they name before them.
func (t *terms) enterScopes(e *estate.Estate, l estate.Resources) {
	for i := range l {
		if id := l[i].Scope; id != "" {
			if _, is := t.scopes[id]; !is {
				t.enterScopes(e, e.Scopes[id].Resources)
				t.scopes[id] = len(t.naming)
				t.naming = append(t.naming, nil)
			}
		}
	}
}

func (t *terms) enter(l estate.Resources, bit int) {
	for i := range l {
		if id := l[i].Scope; id != "" {
			t.naming[t.scopes[id]] = append(t.naming[t.scopes[id]], naming{bit, l[i].Not})
		} else {
			t.all, t.of = append(t.all, &l[i]), append(t.of, bit)
		}
	}
}

// set gives an empty set of terms.
func (t *terms) set() []uint64 { return make([]uint64, (len(t.all)+63)/64) }

func add(set []uint64, i int)      { set[i/64] |= 1 << (i % 64) }
func has(set []uint64, i int) bool { return set[i/64]&(1<<(i%64)) != 0 }

// judging is what judging takes that only one may use at a time.
type judging struct {
	in, out []uint64 // the scopes and lists that cover the resource by a term, and that take it away
	// the terms that something fits, as far as they ask for it; by kind and type, by the tags that lists ask about, and
	// by owner
	byType  map[[2]string][]uint64
	byTags  map[string][]uint64
	byOwner map[estate.Principal][]uint64
}

// maxFitting bounds how many sets of terms are kept for tags, and for owners.
const maxFitting = 1 << 12

// judge works out the trait of a resource that stands under a set of patterns.
func (t *Traits) judge(r *estate.Resource, patterns uint32) uint32 {
	terms, j := t.terms(), &t.judging
	if j.in == nil {
		words := terms.lists/64 + t.words
		*j = judging{make([]uint64, words), make([]uint64, words), map[[2]string][]uint64{}, map[string][]uint64{},
			map[estate.Principal][]uint64{}}
	}
	clear(j.in)
	clear(j.out)
	byType, byTags, byOwner := t.fittingType(r), t.fittingTags(r), t.fittingOwner(r)
	for i, word := range terms.anywhere {
		for word &= byType[i] & byTags[i] & byOwner[i]; word != 0; word &= word - 1 {
			j.enter(terms, 64*i+bits.TrailingZeros64(word))
		}
	}
	for _, p := range t.sets.Get(patterns) {
		for _, i := range terms.byPattern[p&^here] {
			if (p&here != 0 || !terms.all[i].Exactly) && has(byType, i) && has(byTags, i) && has(byOwner, i) {
				j.enter(terms, i)
			}
		}
	}
	for bit, named := range terms.naming { // scopes that one names come before it
		if has(j.in, bit) && !has(j.out, bit) {
			for _, n := range named {
				j.put(n.in, n.not)
			}
		}
	}
	covering := j.in[terms.lists/64:]
	for i := range covering {
		covering[i] &^= j.out[terms.lists/64+i]
	}
	return t.numberOf(covering)
}

func (j *judging) enter(t *terms, term int) { j.put(t.of[term], t.all[term].Not) }

func (j *judging) put(bit int, not bool) {
	if not {
		add(j.out, bit)
	} else {
		add(j.in, bit)
	}
}

// fittingType gives the terms that a resource's kind and type fit.
func (t *Traits) fittingType(r *estate.Resource) []uint64 {
	kind := r.System.Kind.ID
	return fitting(t.judging.byType, [2]string{kind, r.Type}, func() []uint64 {
		out, is := t.terms().set(), t.Estate.Offer(kind).Is
		for i, term := range t.terms().all {
			if (term.Kinds == nil || slices.ContainsFunc(term.Kinds, is)) &&
				(term.Types == nil || slices.Contains(term.Types, r.Type)) {
				add(out, i)
			}
		}
		return out
	})
}

// fittingTags gives the terms that a resource's tags fit.
func (t *Traits) fittingTags(r *estate.Resource) []uint64 {
	key := r.Tags.Name(func(key string) bool { return t.keys[key] })
	return fitting(t.judging.byTags, key, func() []uint64 {
		out := slices.Clone(t.terms().untagged)
		for _, tag := range r.Tags {
			for _, i := range t.terms().byTag[tag] {
				if estate.Fits(t.terms().all[i].Tags, r.Tags) {
					add(out, i)
				}
			}
		}
		return out
	})
}

// fittingOwner gives the terms that a resource's owner fits.
func (t *Traits) fittingOwner(r *estate.Resource) []uint64 {
	var owner estate.Principal // none
	if r.Owner != nil && t.owners[*r.Owner] {
		owner = *r.Owner
	}
	return fitting(t.judging.byOwner, owner, func() []uint64 {
		out := slices.Clone(t.terms().unowned)
		for _, i := range t.terms().byOwner[owner] {
			add(out, i)
		}
		return out
	})
}

// fitting gives what is kept under a key, or else makes it.
func fitting[K comparable](kept map[K][]uint64, key K, make func() []uint64) []uint64 {
	out, is := kept[key]
	if !is {
		if len(kept) >= maxFitting {
			clear(kept)
		}
		out = make()
		kept[key] = out
	}
	return out
}
