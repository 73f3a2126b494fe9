package target

import (
	"cmp"
	"fmt"
	"maps"
	"math/bits"
	"slices"
)

// set is a set of numbers.
type set []uint64

func newSet(size int) set { return make(set, (size+63)/64) }

func (s set) add(n int)      { s[n/64] |= 1 << (n % 64) }
func (s set) has(n int) bool { return s[n/64]&(1<<(n%64)) != 0 }

func (s set) count() (n int) {
	for _, word := range s {
		n += bits.OnesCount64(word)
	}
	return n
}

// within says whether all of it is in another.
func (s set) within(o set) bool {
	for i, word := range s {
		if word&^o[i] != 0 {
			return false
		}
	}
	return true
}

func (s set) and(o set) set {
	out := slices.Clone(s)
	for i := range out {
		out[i] &= o[i]
	}
	return out
}

func (s set) without(o set) set {
	out := slices.Clone(s)
	for i := range out {
		out[i] &^= o[i]
	}
	return out
}

func (s set) or(o set) {
	for i := range s {
		s[i] |= o[i]
	}
}

func (s set) each(do func(n int)) {
	for i, word := range s {
		for ; word != 0; word &= word - 1 {
			do(i*64 + bits.TrailingZeros64(word))
		}
	}
}

func (s set) key() string { return fmt.Sprint([]uint64(s)) }

// mining looks for rights that many have together. Rights that exactly the same subjects have are one atom: no group
// can tell them apart.
type mining struct {
	subjects []string
	atoms    [][]Right
	profiles []set // by subject: the atoms that it has
	covered  []set // by subject: those that it has by a group that was chosen
	chosen   []*common
}

// common is what some subjects have together.
type common struct {
	atoms   set
	members []int
}

// How many sorts of subjects, and how many sets of atoms, are looked at.
const (
	mostSorts = 400
	mostSets  = 6000
)

// mine finds the groups: frequent closed sets of rights, of which the one that saves most is taken, again and again
// (the greedy cover of Chvátal, "A Greedy Heuristic for the Set-Covering Problem", 1979, over the closed item sets of
// Pasquier et al., 1999).
func (a *adopting) mine() *mining {
	m := a.atomize()
	candidates := m.candidates()
	bound := make([]int, len(candidates)) // of each, what it saves at most: what is covered meanwhile makes that less
	for i, c := range candidates {
		_, bound[i] = m.gain(c.atoms)
	}
	order := make([]int, len(candidates))
	for i := range order {
		order[i] = i
	}
	for {
		slices.SortFunc(order, func(i, j int) int { return cmp.Or(cmp.Compare(bound[j], bound[i]), cmp.Compare(i, j)) })
		var best *common
		most := 0
		for _, i := range order {
			if bound[i] <= most {
				break // and so are those behind it
			}
			members, gain := m.gain(candidates[i].atoms)
			bound[i] = gain
			if len(members) > 1 && gain > most {
				most, best = gain, &common{candidates[i].atoms, members}
			}
		}
		if best == nil {
			m.thin()
			return m
		}
		best = m.whole(best, candidates)
		m.chosen = append(m.chosen, best)
		for _, n := range best.members {
			m.covered[n].or(best.atoms)
		}
	}
}

// thin takes from each group, the smallest first, what all of its members have by the others.
func (m *mining) thin() {
	order := slices.Clone(m.chosen)
	slices.SortStableFunc(order, func(x, y *common) int { return cmp.Compare(len(x.members), len(y.members)) })
	for _, c := range order {
		spare := slices.Clone(c.atoms)
		for _, s := range c.members {
			others := newSet(len(m.atoms))
			for _, o := range m.chosen {
				if o != c && slices.Contains(o.members, s) {
					others.or(o.atoms)
				}
			}
			spare = spare.and(others)
		}
		c.atoms = c.atoms.without(spare)
	}
	m.chosen = slices.DeleteFunc(m.chosen, func(c *common) bool { return c.atoms.count() == 0 })
}

// whole gives the largest set around one that most of its members have too: those who have but a part of it are
// likelier to lack something than the others are to have it by chance.
func (m *mining) whole(c *common, candidates []*common) *common {
	const most = 3 // of 4
	out := c
	for _, o := range candidates {
		if o.atoms.count() > out.atoms.count() && c.atoms.within(o.atoms) {
			if members, gain := m.gain(o.atoms); gain > 0 && 4*len(members) >= most*len(c.members) {
				out = &common{o.atoms, members}
			}
		}
	}
	return out
}

// gain lists who would get something by a group for a set of atoms, and tells how many single rights it would save,
// less what the group itself takes.
func (m *mining) gain(atoms set) (members []int, gain int) {
	for n, has := range m.profiles {
		if atoms.within(has) {
			if fresh := m.weight(atoms.without(m.covered[n])); fresh > 0 {
				members = append(members, n)
				gain += fresh - 1
			}
		}
	}
	return members, gain - 1
}

// weight is how many rights a set of atoms is.
func (m *mining) weight(atoms set) (n int) {
	atoms.each(func(atom int) { n += len(m.atoms[atom]) })
	return n
}

// flatten gives what each subject has, by whatever accounts, groups and for being there at all.
func (a *adopting) flatten() map[string]map[Right]bool {
	roles := map[string]*FoundGroup{}
	for i := range a.found.Groups {
		roles[a.found.Groups[i].Name] = &a.found.Groups[i]
	}
	out := map[string]map[Right]bool{}
	give := func(account, from string) {
		subject := a.with(nil, account)
		if subject == nil {
			return
		}
		if out[subject[0]] == nil {
			out[subject[0]] = map[Right]bool{}
		}
		for _, place := range a.found.All[from] {
			out[subject[0]][Right{everything, place}] = true
		}
		for _, x := range a.found.Rights[from] {
			out[subject[0]][x] = true
		}
	}
	var inside func(name, from string, seen map[string]bool)
	inside = func(name, from string, seen map[string]bool) {
		if seen[name] {
			return
		}
		seen[name] = true
		for _, account := range roles[name].Accounts {
			give(account, from)
		}
		for _, inner := range roles[name].Groups {
			if roles[inner] != nil {
				inside(inner, from, seen)
			}
		}
	}
	for _, name := range a.grantees() {
		switch {
		case name == Everybody:
			for _, account := range a.state.Accounts {
				if _, fits := a.owner(account.Name); fits && roles[account.Name] == nil && !account.Reserved {
					give(account.Name, Everybody)
				}
			}
		case roles[name] != nil:
			inside(name, name, map[string]bool{})
		default:
			give(name, name)
		}
	}
	for _, rights := range out { // what is part of everything says no more
		for x := range maps.Clone(rights) {
			if x.Native != everything && (rights[Right{everything, x.Place}] || rights[Right{everything, a.top()}]) ||
				x.Native == everything && x.Place != a.top() && rights[Right{everything, a.top()}] {
				delete(rights, x)
			}
		}
	}
	return out
}

// atomize puts rights together that exactly the same subjects have.
func (a *adopting) atomize() *mining {
	flat := a.flatten()
	m := &mining{subjects: slices.Sorted(maps.Keys(flat))}
	who := map[Right]set{}
	for n, subject := range m.subjects {
		for x := range flat[subject] {
			if who[x] == nil {
				who[x] = newSet(len(m.subjects))
			}
			who[x].add(n)
		}
	}
	byWho := map[string]int{}
	rights := slices.SortedFunc(maps.Keys(who), func(x, y Right) int {
		return cmp.Or(cmp.Compare(x.Place, y.Place), cmp.Compare(x.Native, y.Native))
	})
	var of []set
	for _, x := range rights {
		key := who[x].key()
		n, known := byWho[key]
		if !known {
			n = len(m.atoms)
			byWho[key] = n
			m.atoms = append(m.atoms, nil)
			of = append(of, who[x])
		}
		m.atoms[n] = append(m.atoms[n], x)
	}
	for range m.subjects {
		m.profiles = append(m.profiles, newSet(len(m.atoms)))
		m.covered = append(m.covered, newSet(len(m.atoms)))
	}
	for n, subjects := range of {
		subjects.each(func(s int) { m.profiles[s].add(n) })
	}
	return m
}

// candidates are sets of atoms that may make a group: what a sort of subjects has, what two sorts have in common, and
// what those have in common again. They come in an order that hangs on nothing but themselves.
func (m *mining) candidates() []*common {
	count := map[string]int{}
	byKey := map[string]set{}
	for _, p := range m.profiles {
		count[p.key()]++
		byKey[p.key()] = p
	}
	keys := slices.SortedFunc(maps.Keys(byKey), func(x, y string) int {
		return cmp.Or(cmp.Compare(count[y], count[x]), cmp.Compare(byKey[y].count(), byKey[x].count()), cmp.Compare(x, y))
	})
	keys = keys[:min(len(keys), mostSorts)]
	known := map[string]bool{}
	var sets []set
	add := func(s set) {
		if key := s.key(); s.count() > 0 && !known[key] && len(sets) < mostSets {
			known[key] = true
			sets = append(sets, s)
		}
	}
	for _, key := range keys {
		add(byKey[key])
	}
	for from, to := 0, len(sets); from < to && to < mostSets; from, to = to, len(sets) {
		for i := range to {
			for j := max(i+1, from); j < to; j++ {
				add(sets[i].and(sets[j]))
			}
		}
	}
	var out []*common
	for _, s := range sets {
		out = append(out, &common{atoms: s})
	}
	slices.SortStableFunc(out, func(x, y *common) int { return cmp.Compare(m.weight(y.atoms), m.weight(x.atoms)) })
	return out
}

// rights are those of a set of atoms: the places on which it is everything, and the others.
func (m *mining) rights(atoms set) (all []int, rights []Right) {
	atoms.each(func(n int) {
		for _, x := range m.atoms[n] {
			if x.Native == everything {
				all = append(all, x.Place)
			} else {
				rights = append(rights, x)
			}
		}
	})
	return all, rights
}

// few is how many members a group has at least of whom it is told who has something alone.
const few = 5

// apart tells who of a group has something that nobody else in it has, and who lacks but one thing of it.
func (m *mining) apart(c *common, name string, says func(Right) string) (out []string) {
	if len(c.members) < few {
		return nil
	}
	for n, rights := range m.atoms {
		var holders []int
		for _, s := range c.members {
			if m.profiles[s].has(n) {
				holders = append(holders, s)
			}
		}
		if len(holders) == 1 && !c.atoms.has(n) {
			out = append(out, fmt.Sprintf("%s is the only one of %d in %s with %s", m.subjects[holders[0]], len(c.members), name,
				says(rights[0])))
		}
	}
	for s, has := range m.profiles {
		if lacks := c.atoms.without(has); m.weight(lacks) == 1 && m.weight(c.atoms) > 2 {
			lacks.each(func(n int) {
				out = append(out, fmt.Sprintf("%s has all that %s has but %s", m.subjects[s], name, says(m.atoms[n][0])))
			})
		}
	}
	return out
}
