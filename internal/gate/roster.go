package gate

import (
	"math/rand/v2"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/lookup"
)

// Roster numbers the subjects of an estate and tells who is in its groups and lists. Estates with the same people,
// services and groups may share one.
type Roster struct {
	people  []*estate.Subject // by number: people by id, then services by id, then anonymous
	persons int               // how many of them are people
	names   lookup.Names      // a service's with its prefix
	members *members
}

// NewRoster numbers an estate's subjects.
func NewRoster(e *estate.Estate) *Roster {
	r := &Roster{people: everybody(estate.Sorted(e.People), e), persons: len(e.People)}
	names := make([]string, len(r.people))
	for i, s := range r.people {
		names[i] = s.ID
		if s.Service {
			names[i] = servicePrefix + s.ID
		}
	}
	r.names, _ = lookup.NewNames(rand.Uint64(), names)
	r.members = newMembers(e, r.people, r.number)
	return r
}

// For gives the roster of another estate, and takes over the numbers if it has the same people and services.
func (r *Roster) For(e *estate.Estate) *Roster {
	if len(r.people)-1 != len(e.People)+len(e.Services) {
		return NewRoster(e)
	}
	out := &Roster{people: slices.Clone(r.people), persons: r.persons, names: r.names}
	for i, s := range r.people[:len(r.people)-1] {
		if out.people[i] = e.Subject(s.Principal()); out.people[i] == nil {
			return NewRoster(e)
		}
	}
	out.members = newMembers(e, out.people, out.number)
	return out
}

const servicePrefix = "service:"

// number gives a subject's number, -1 if the estate does not know it.
func (r *Roster) number(p estate.Principal) int {
	switch p.Kind {
	case estate.IsPerson:
		if n := r.names.Find(p.ID); n >= 0 && n < r.persons {
			return n
		}
		return -1
	case estate.IsService:
		var buffer [192]byte
		return r.names.Find(lookup.Text(append(append(buffer[:0], servicePrefix...), p.ID...)))
	case estate.IsAnonymous:
		return len(r.people) - 1
	}
	return -1
}

// principal names a subject.
func (r *Roster) principal(n int) estate.Principal {
	if n == len(r.people)-1 {
		return estate.Principal{Kind: estate.IsAnonymous}
	}
	return r.people[n].Principal()
}

// Of lists whom a list of subjects selects, people first, by id.
func (r *Roster) Of(list estate.Subjects) []estate.Principal {
	var out []estate.Principal
	for _, i := range r.members.selected(list) {
		out = append(out, r.principal(int(i)))
	}
	return out
}

// Group lists a group's members; none if there is no such group.
func (r *Roster) Group(id string) []estate.Principal {
	if r.members.estate.Groups[id] == nil {
		return nil
	}
	return r.Of(estate.Subjects{{Principal: estate.Principal{Kind: estate.IsGroup, ID: id}}})
}
