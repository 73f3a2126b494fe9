package ldap

import (
	"slices"

	"hiddengate/internal/target"
)

// group is an entry whose attribute lists members.
type group struct {
	dn        string
	attribute string
	members   []string // as they are written
	place     int      // in the state
	byUser    bool     // it lists them by their uid; else by their distinguished names
}

// person is an entry that is somebody's account.
type person struct {
	name, dn, uid string
}

// listed is how a group lists a person; "" if it cannot.
func (g *group) listed(p *person) string {
	if g.byUser {
		return p.uid
	}
	return p.dn
}

// told is what tells a member of a group from others.
func (g *group) told(member string) string {
	if g.byUser {
		return member
	}
	return told(member)
}

// has says whether a group lists a person.
func (g *group) has(p *person) bool {
	listed := g.listed(p)
	return listed != "" && slices.ContainsFunc(g.members, func(m string) bool { return g.told(m) == g.told(listed) })
}

// snapshot is what a directory had at a moment.
type snapshot struct {
	system string
	self   string // the distinguished name by which it was read, as it is told from others
	state  target.State
	groups []*group
	people map[string]*person // by name
	key    string             // the same where all of it is
}

// State tells what there is.
func (s *snapshot) State() *target.State { return &s.state }

// blank is a directory that has the places of a state, whose groups are empty.
func blank(to target.Connection, of *target.State) target.Snapshot {
	base := "dc=example"
	if live, err := liveOf(to.At, ""); err == nil {
		base = live.Base
	}
	s := &snapshot{system: to.System, state: *of, people: map[string]*person{}}
	for i, p := range of.Places {
		if p.Type == "group" {
			s.groups = append(s.groups, &group{dn: nameOf(p.Path, base), attribute: memberAttribute, place: i})
		}
	}
	for _, a := range of.Accounts {
		s.people[a.Name] = &person{a.Name, nameOf(a.Name, base), a.Name}
	}
	return s
}
