package ldap

import "hiddengate/internal/target"

// group is an entry whose attribute lists members.
type group struct {
	dn        string
	attribute string
	members   []string          // as they are written
	written   map[string]string // by what tells members apart: as they are written
	place     int               // in the state
	byUser    bool              // it lists them by their uid; else by their distinguished names
}

// person is an entry that is somebody's account.
type person struct {
	name, dn, uid string
	told          string // what tells its distinguished name from others
}

// newGroup puts together what a group lists.
func newGroup(dn string, l list, members []string, place int) *group {
	g := &group{dn: dn, attribute: l.attribute, members: members, written: map[string]string{}, place: place,
		byUser: l.byUser}
	for _, m := range members {
		g.written[g.told(m)] = m
	}
	return g
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

// has says whether a group lists a person, and how.
func (g *group) has(p *person) (written string, ok bool) {
	key := p.told
	if g.byUser {
		key = p.uid
	}
	written, ok = g.written[key]
	return written, ok && key != ""
}

// snapshot is what a directory had at a moment.
type snapshot struct {
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
	s := &snapshot{state: *of, people: map[string]*person{}}
	for i, p := range of.Places {
		if p.Type == "group" {
			s.groups = append(s.groups, newGroup(nameOf(p.Path, base), listing[0], nil, i))
		}
	}
	for _, a := range of.Accounts {
		dn := nameOf(a.Name, base)
		s.people[a.Name] = &person{a.Name, dn, a.Name, told(dn)}
	}
	return s
}
