package target

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/estate"
)

// Proposal is a structure of groups that together have exactly what a system gives.
type Proposal struct {
	*Adopted
	Shorter  bool     // there is a structure, and fewer grants by it; else it is what Adopt writes
	Replaced int      // how many grants there are: of each role and account, one for each sort of right
	Single   int      // how many of the proposal's grants go to subjects rather than to groups
	Apart    []string // what does not fit the structure, in words
}

// everything stands in rights for whatever can be done on a place.
const everything = -1

// Propose looks for groups of subjects who have the same, and writes what a system gives by them. like names a group or
// tag that some subjects are like; "" for none. Where no structure makes it shorter, it is what Adopt writes.
func Propose(system string, carries *Carries, state *State, found *Found,
	owner func(account string) (estate.Principal, bool), like func(subjects []string) string) *Proposal {
	plain := Adopt(system, carries, state, found, owner)
	out := &Proposal{Adopted: plain}
	a := newAdopting(system, carries, state, found, owner)
	for _, name := range a.grantees() {
		out.Replaced += len(a.sharesOf(found.All[name], found.Rights[name]))
	}
	for _, g := range plain.Grants {
		if !slices.ContainsFunc(g.To, isGroup) {
			out.Single++
		}
	}
	m := a.mine()
	single := &gathering{}
	grouped := 0
	for _, c := range m.chosen {
		id := a.nameGroup(m, c, like)
		var one gathering
		for _, s := range a.sharesOf(m.rights(c.atoms)) {
			one.add(s, "group:"+id)
			grouped++
		}
		a.write(&one)
		out.Apart = append(out.Apart, m.apart(c, "group:"+id, func(x Right) string { return a.says(x) })...)
	}
	for n, subject := range m.subjects {
		for _, s := range a.sharesOf(m.rights(m.profiles[n].without(m.covered[n]))) {
			single.add(s, subject)
		}
	}
	a.write(single)
	if len(m.chosen) == 0 || len(a.out.Grants) >= out.Replaced {
		out.Apart = nil
		return out
	}
	out.Shorter = true
	out.Single = len(a.out.Grants) - grouped
	out.Adopted = a.done()
	return out
}

func isGroup(subject string) bool { return strings.HasPrefix(subject, "group:") }

// grantees lists whoever has something, everybody among them.
func (a *adopting) grantees() []string {
	names := map[string]bool{}
	for name := range a.found.Rights {
		names[name] = true
	}
	for name := range a.found.All {
		names[name] = true
	}
	var out []string
	for name := range names {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// says names a right in words.
func (a *adopting) says(x Right) string {
	at := a.state.Address(a.system, x.Place).String()
	if x.Native == everything {
		return "everything on " + at
	}
	return a.carries.Natives[x.Native].Name + " on " + at
}

// nameGroup makes a group of whoever has the same, named by whom it is like, or by what it has.
func (a *adopting) nameGroup(m *mining, c *common, like func([]string) string) string {
	var members []string
	for _, n := range c.members {
		members = append(members, m.subjects[n])
	}
	all, rights := m.rights(c.atoms)
	what := ""
	switch {
	case len(all) > 0:
		what = a.says(Right{everything, all[0]})
	default:
		what = a.says(rights[0])
	}
	if more := len(all) + len(rights) - 1; more > 0 {
		what += fmt.Sprintf(" and %d more", more)
	}
	as := like(members)
	title := fmt.Sprintf("%d who have %s", len(members), what)
	base := as
	if as == "" {
		base = a.commonName(all, rights)
	} else {
		title = "Those of " + as + ": " + what
	}
	id := a.id(strings.TrimPrefix(base, "group:"))
	a.out.Groups = append(a.out.Groups, AdoptedGroup{ID: id, Title: title, Members: members})
	return id
}

// commonName names what some rights have in common: the native that most of them are, and the place that is above all.
func (a *adopting) commonName(all []int, rights []Right) string {
	count := map[string]int{}
	for _, x := range rights {
		count[strings.ToLower(a.carries.Natives[x.Native].Name)]++
	}
	word := "everything"
	if len(all) == 0 {
		words := make([]string, 0, len(count))
		for w := range count {
			words = append(words, w)
		}
		word = slices.MaxFunc(words, func(x, y string) int {
			return cmp.Or(cmp.Compare(count[x], count[y]), strings.Compare(y, x))
		})
	}
	var above []string
	first := true
	for _, place := range slices.Concat(all, placesOf(rights)) {
		segments := strings.Split(a.state.Places[place].Path, "/")
		if first {
			above, first = segments, false
		}
		n := 0
		for n < min(len(above), len(segments)) && above[n] == segments[n] {
			n++
		}
		above = above[:n]
	}
	if len(above) == 0 || above[0] == "" {
		return word
	}
	return word + "-" + strings.Join(above, "-")
}

func placesOf(rights []Right) (out []int) {
	for _, x := range rights {
		out = append(out, x.Place)
	}
	return out
}
