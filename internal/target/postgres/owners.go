package postgres

import (
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/target"
)

// owned is what those who have all of it, by the policy, own by a role of theirs.
type owned struct {
	role    string
	members []string
	grants  []string
	places  []int
}

// gatherOwners finds out who has to own what. Places that the same roles and accounts own have one owner.
func (p *planning) gatherOwners() {
	of := map[int][]string{} // by place
	from := map[int][]string{}
	note := func(name string, x target.Right, grants []string) {
		if owning&(1<<x.Native) != 0 {
			of[x.Place] = append(of[x.Place], name)
			from[x.Place] = joined(from[x.Place], grants)
		}
	}
	for _, name := range p.order {
		if r := p.roles[name]; r != nil {
			for _, x := range r.Rights {
				note(name, x, []string{r.Grant})
			}
			continue
		}
		for _, x := range p.a.Direct[name] {
			note(name, x.Right, x.Grants)
		}
	}
	byMembers := map[string]*owned{}
	for place := range p.state.Places {
		members := of[place]
		if len(members) == 0 {
			continue
		}
		slices.Sort(members)
		name := roleName(p.system, "owner of "+strings.Join(p.called(members), "+"))
		one := byMembers[name]
		if one == nil {
			one = &owned{role: name, members: members}
			byMembers[name] = one
			p.owned = append(p.owned, one)
		}
		one.grants = joined(one.grants, from[place])
		one.places = append(one.places, place)
	}
	for _, one := range p.owned {
		p.owners[one.role] = true
		for _, name := range one.members {
			p.wants[name].in[one.role] = one.grants
		}
	}
}

// called names roles by their grants, and accounts as such.
func (p *planning) called(names []string) (out []string) {
	for _, name := range names {
		if r := p.roles[name]; r != nil {
			out = append(out, r.Grant)
		} else {
			out = append(out, "account "+name)
		}
	}
	return out
}

// giveOwnership makes the roles that own something, and gives it to them; what nobody has all of any more goes back to
// hgate's own account.
func (p *planning) giveOwnership() {
	right := map[int]bool{}
	for _, one := range p.owned {
		if p.snapshot.roles[one.role] == nil {
			p.say(target.Add, one.grants, "", "CREATE ROLE %s NOLOGIN", ident(one.role))
			p.say(target.Add, one.grants, "", "COMMENT ON ROLE %s IS %s", ident(one.role),
				literal(ownerMark(p.system)+strings.Join(one.grants, " ")))
		}
		for _, place := range one.places {
			right[place] = true
			if o := &p.objects[place]; o.owner != one.role {
				p.say(target.Alter, one.grants, "", "ALTER %s %s OWNER TO %s", words[o.kind], o.text(), ident(one.role))
			}
		}
	}
	for place := range p.state.Places {
		o := &p.objects[place]
		if r := p.snapshot.roles[o.owner]; !right[place] && r != nil && strings.HasPrefix(r.comment, ownerMark(p.system)) {
			p.say(target.Alter, nil, "the policy gives nobody all of it any more",
				"ALTER %s %s OWNER TO %s", words[o.kind], o.text(), ident(p.self))
		}
	}
}

// ownedText is how the owner of an object is asked for, of the catalogs' row of it.
func (s *snapshot) ownedText(of kind) string {
	column := map[kind]string{relation: "relowner FROM pg_catalog.pg_class",
		routine: "proowner FROM pg_catalog.pg_proc"}[of]
	return s.actingAs(fmt.Sprintf("(SELECT %s c WHERE c.oid = o.oid)", column))
}
