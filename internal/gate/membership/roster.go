// Package membership numbers the subjects of an estate and tells who is in its groups and lists of subjects.
package membership

import (
	"math/rand/v2"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/lookup"
)

// Roster numbers the subjects of an estate and tells who is in its groups and lists. Estates with the same people,
// services and groups may share one.
type Roster struct {
	All     []*estate.Subject // by number: people by id, then services by id, then anonymous
	Persons int               // how many of them are people
	Names   lookup.Names      // a service's with its prefix
	Lists   *Lists
}

// New numbers an estate's subjects.
func New(e *estate.Estate) *Roster {
	r := &Roster{All: Everybody(estate.Sorted(e.People), e), Persons: len(e.People)}
	names := make([]string, len(r.All))
	for i, s := range r.All {
		names[i] = s.ID
		if s.Service {
			names[i] = servicePrefix + s.ID
		}
	}
	r.Names, _ = lookup.NewNames(rand.Uint64(), names)
	r.Lists = NewLists(e, r.All, r.NumberOf)
	return r
}

// For gives the roster of another estate, and takes over the numbers if it has the same people and services.
func (r *Roster) For(e *estate.Estate) *Roster {
	if len(r.All)-1 != len(e.People)+len(e.Services) {
		return New(e)
	}
	out := &Roster{All: r.All, Persons: r.Persons, Names: r.Names}
	was := r.Lists.estate
	same := estate.SameMap(was.People, e.People) && estate.SameMap(was.Services, e.Services)
	if !same {
		same, out.All = true, slices.Clone(r.All)
		for i, s := range r.All[:len(r.All)-1] {
			if out.All[i] = e.Subject(s.Principal()); out.All[i] == nil {
				return New(e)
			}
			same = same && out.All[i] == s
		}
	}
	out.Lists = NewLists(e, out.All, out.NumberOf)
	if same {
		out.Lists.takeOver(r.Lists)
	}
	return out
}

const servicePrefix = "service:"

// NumberOf gives a subject's number, -1 if the estate does not know it.
func (r *Roster) NumberOf(p estate.Principal) int {
	switch p.Kind {
	case estate.IsPerson:
		if n := r.Names.Find(p.ID); n >= 0 && n < r.Persons {
			return n
		}
		return -1
	case estate.IsService:
		var buffer [192]byte
		return r.Names.Find(lookup.Text(append(append(buffer[:0], servicePrefix...), p.ID...)))
	case estate.IsAnonymous:
		return len(r.All) - 1
	}
	return -1
}

// SubjectOf names a subject.
func (r *Roster) SubjectOf(n int) estate.Principal {
	if n == len(r.All)-1 {
		return estate.Principal{Kind: estate.IsAnonymous}
	}
	return r.All[n].Principal()
}

// Of lists whom a list of subjects selects, people first, by id.
func (r *Roster) Of(list estate.Subjects) []estate.Principal {
	selected := r.Lists.Selected(list)
	if len(selected) == 0 {
		return nil
	}
	out := make([]estate.Principal, len(selected))
	for i, n := range selected {
		out[i] = r.SubjectOf(int(n))
	}
	return out
}

// Group lists a group's members; none if there is no such group.
func (r *Roster) Group(id string) []estate.Principal {
	if r.Lists.estate.Groups[id] == nil {
		return nil
	}
	return r.Of(estate.InGroup(id))
}

// Everybody lists the subjects in the order of their numbers. people come by id.
func Everybody(people []*estate.Subject, e *estate.Estate) []*estate.Subject {
	return slices.Concat(people, estate.Sorted(e.Services), []*estate.Subject{estate.AnonymousSubject})
}
