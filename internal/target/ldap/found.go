package ldap

import (
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/target"
)

// Found tells who belongs to which group as the directory stands.
func (s *snapshot) Found() *target.Found {
	out := &target.Found{Rights: map[string][]target.Right{}}
	byName := map[string]*person{} // as groups list them
	for _, p := range s.people {
		byName[p.told] = p
	}
	names := map[string]int{}
	for _, g := range s.groups {
		names[s.shortName(g)]++
	}
	for _, g := range s.groups {
		path := s.state.Places[g.place].Path
		shown := s.shortName(g)
		switch {
		case names[shown] > 1:
			shown = path
		case s.people[shown] != nil:
			shown = "group " + shown
		}
		one := target.FoundGroup{Name: shown}
		for _, m := range g.members {
			p := byName[told(m)]
			if g.byUser {
				p = s.people[m]
			}
			switch {
			case p != nil && p.told != s.self:
				one.Accounts = append(one.Accounts, p.name)
			case p == nil && g.told(m) != g.told(g.dn):
				out.Left = append(out.Left, fmt.Sprintf("%s lists %.200q, which is no account", path, m))
			}
		}
		slices.Sort(one.Accounts)
		one.Accounts = slices.Compact(one.Accounts)
		out.Groups = append(out.Groups, one)
		out.Rights[shown] = []target.Right{{Native: belonging, Place: g.place}}
	}
	slices.Sort(out.Left)
	return out
}

// shortName is the last name of a group's path.
func (s *snapshot) shortName(g *group) string {
	path := s.state.Places[g.place].Path
	return target.Unescaped(path[strings.LastIndexByte(path, '/')+1:])
}
