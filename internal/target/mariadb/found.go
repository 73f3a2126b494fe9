package mariadb

import (
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/target"
)

// bare is a snapshot without hgate's own roles.
func (s *snapshot) bare() *snapshot {
	out := *s
	out.in = map[who][]string{}
	for one, roles := range s.in {
		for _, role := range roles {
			if !s.isHgates(role) && !(one.host == "" && s.isHgates(one.user)) {
				out.in[one] = append(out.in[one], role)
			}
		}
	}
	return &out
}

// finding is what is found on its way.
type finding struct {
	*snapshot       // without hgate's own roles
	out             *target.Found
	roles, accounts []who
	shown           map[who]string // how each is named
	everybody       []target.Mask
	ofRole          map[string][]target.Mask
	all             map[string]bool  // the roles by which everything can be done
	in              map[who][]string // the roles of which somebody is a member, and all of which they have
}

// Found tells who may do what as the server stands, without hgate's own roles.
func (s *snapshot) Found() *target.Found {
	b := s.bare()
	f := &finding{snapshot: b, out: &target.Found{Rights: map[string][]target.Right{}, All: map[string][]int{}},
		shown: map[who]string{}, everybody: b.masks(b.ownPowerOf(public), false), ofRole: map[string][]target.Mask{},
		all: map[string]bool{}, in: map[who][]string{}}
	f.name()
	if rights := listOf(f.everybody); len(rights) > 0 {
		f.out.Rights[target.Everybody] = rights
	}
	for _, one := range f.roles {
		p := f.ownPowerOf(one)
		f.ofRole[one.user], f.all[one.user] = f.masks(p, false), f.everything(p)
	}
	members := slices.Concat(f.roles, f.accounts)
	for _, one := range members {
		f.take(one)
		f.leftOf(one)
	}
	slices.Sort(f.out.Left)
	groups := map[string]*target.FoundGroup{}
	for _, role := range f.roles {
		groups[role.user] = &target.FoundGroup{Name: f.shown[role]}
	}
	for _, one := range members {
		for _, role := range f.in[one] {
			g := groups[role]
			switch {
			case g == nil:
			case one.host == "":
				g.Groups = append(g.Groups, f.shown[one])
			default:
				g.Accounts = append(g.Accounts, f.shown[one])
			}
		}
	}
	for _, role := range f.roles {
		f.out.Groups = append(f.out.Groups, *groups[role.user])
	}
	return f.out
}

// name finds the roles and accounts, and how they are named.
func (f *finding) name() {
	for one := range f.snapshot.accounts {
		if one.user != "" && one != f.self && !slices.Contains(reserved, one.user) {
			f.accounts = append(f.accounts, one)
			f.shown[one] = one.name()
		}
	}
	for role := range f.snapshot.roles {
		one := who{user: role}
		if f.isHgates(role) {
			f.out.Told = true
			continue
		}
		f.roles = append(f.roles, one)
		f.shown[one] = role
		if f.snapshot.accounts[accountOf(role)] != nil {
			f.shown[one] = "role " + role
		}
	}
	sorted(f.roles)
	sorted(f.accounts)
}

// take adds what somebody has beyond what they have anyway.
func (f *finding) take(one who) {
	p := f.powerOf(one)
	has := f.ofRole[one.user]
	if one.host != "" {
		has = f.masks(p, false)
	}
	every := f.everything(p)
	had := slices.Clone(f.everybody)
	for _, up := range f.snapshot.in[one] {
		if !within(f.ofRole[up], has) { // a row of its own that tells more about where takes the place of the other's
			continue
		}
		f.in[one] = append(f.in[one], up)
		for place, m := range f.ofRole[up] {
			had[place] |= m
		}
		every = every && !f.all[up]
	}
	beyond := slices.Clone(has)
	for place := range beyond {
		beyond[place] &^= had[place]
	}
	if rights := listOf(beyond); len(rights) > 0 {
		f.out.Rights[f.shown[one]] = rights
	}
	for place := range f.state.Places {
		if every {
			f.out.All[f.shown[one]] = append(f.out.All[f.shown[one]], place)
		}
	}
}

// within says whether all that some masks hold is in others.
func within(some, others []target.Mask) bool {
	for place, m := range some {
		if m&^others[place] != 0 {
			return false
		}
	}
	return true
}

// listOf lists what masks of places hold.
func listOf(masks []target.Mask) (out []target.Right) {
	for place, m := range masks {
		for native := 0; m != 0; native, m = native+1, m>>1 {
			if m&1 != 0 {
				out = append(out, target.Right{Native: native, Place: place})
			}
		}
	}
	return out
}

// leftOf tells what somebody has that no operation stands for.
func (f *finding) leftOf(one who) {
	for h := range f.acl[one] {
		if right, partly := strings.CutSuffix(h.right, columns); partly {
			f.out.Left = append(f.out.Left, fmt.Sprintf("%s has %s on some columns of %s alone", one.name(), right,
				f.objects[h.object].text()))
		}
	}
	if by, on, right, ok := f.rules(f.ownPowerOf(one)); ok && by == one {
		f.out.Left = append(f.out.Left, fmt.Sprintf("%s can change who may do what, by %s on %s", one.name(), right,
			f.objects[on].text()))
	}
	for _, on := range f.naming(true) {
		if o := &f.objects[on]; f.acl[one][held{on, create}] && o.name != everyName {
			f.out.Left = append(f.out.Left, fmt.Sprintf("%s may create databases whose names fit %s", one.name(), o.name))
		}
	}
	if others := f.proxies[one]; len(others) > 0 {
		f.out.Left = append(f.out.Left, fmt.Sprintf("%s may sign in as %s", one.name(), strings.Join(others, ", ")))
	}
}
