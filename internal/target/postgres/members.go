package postgres

import (
	"maps"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"hiddengate/internal/target"
)

// grantorsSince is the version from which on a membership has the role that gave it, and may let its holder add members
// and do nothing else (release notes of PostgreSQL 16).
const grantorsSince = 160000

// membership is an entry that makes a role a member of another.
type membership struct {
	of    string
	acts  bool   // it lets its holder act as that role
	admin bool   // it lets its holder add and take out members
	by    string // who gave it; "" where whoever takes it away need not say
}

func (r *reading) readMembers() error {
	query := `SELECT r.rolname, m.rolname, a.admin_option, true, ''`
	if r.version >= grantorsSince {
		query = `SELECT r.rolname, m.rolname, a.admin_option, a.inherit_option OR a.set_option,
			CASE WHEN g.oid = 10 OR g.rolname = session_user THEN '' ELSE g.rolname END`
	}
	return r.rows(query+` FROM pg_catalog.pg_auth_members a
		JOIN pg_catalog.pg_roles r ON r.oid = a.roleid JOIN pg_catalog.pg_roles m ON m.oid = a.member
		LEFT JOIN pg_catalog.pg_roles g ON g.oid = a.grantor ORDER BY 1, 2, 5`, func(rows pgx.Rows) error {
		var one membership
		var member string
		if err := rows.Scan(&one.of, &member, &one.admin, &one.acts, &one.by); err != nil {
			return err
		}
		if one.acts && !slices.Contains(r.in[member], one.of) {
			r.in[member] = append(r.in[member], one.of)
		}
		r.memberships[member] = append(r.memberships[member], one)
		r.seen("member %q %q", member, one.text())
		return nil
	})
}

func (m membership) text() []string {
	return []string{m.of, m.by, map[bool]string{true: "acts"}[m.acts], map[bool]string{true: "admin"}[m.admin]}
}

// revokeMembership takes a role out of another, whoever put it there, and whomever it has put there itself.
func (p *planning) revokeMembership(of, member, why string) {
	for _, one := range p.memberships[member] {
		if one.of == of {
			p.revokeOne(one, member, "", why)
		}
	}
}

// revokeOne takes an entry away, or its option to add members alone.
func (p *planning) revokeOne(one membership, member, option, why string) {
	by, others := "", ""
	if one.by != "" {
		by = " GRANTED BY " + ident(one.by)
	}
	for _, all := range p.memberships {
		if slices.ContainsFunc(all, func(m membership) bool { return m.of == one.of && m.by == member }) {
			others = " CASCADE"
		}
	}
	p.say(target.Remove, nil, why, "REVOKE %s%s FROM %s%s%s", option, ident(one.of), ident(member), by, others)
}

// takeAdmins takes what the policy does not give of adding members: to hgate's roles from everybody, and to accounts in
// the policy's care from the others there; and whatever membership of a role of hgate's somebody else gave.
func (p *planning) takeAdmins() {
	var members []string
	for name := range p.memberships {
		if name != p.self {
			members = append(members, name)
		}
	}
	slices.Sort(members)
	for _, name := range members {
		for _, one := range p.memberships[name] {
			switch {
			case p.gone[[2]string{one.of, name}]:
			case !p.isHgates(one.of) && (p.holders[one.of] == nil || p.wants[name] == nil):
			case one.by != "" && p.isHgates(one.of):
				p.revokeOne(one, name, "", "somebody else put it there")
			case one.admin && !p.administers(name, one.of):
				option := "ADMIN OPTION FOR "
				if !one.acts {
					option = ""
				}
				p.revokeOne(one, name, option, "it could add members there")
			}
		}
	}
}

// administers says whether somebody has to be able to add members to a role of hgate's, or as whom an account acts: who
// makes roles, where the right to make roles does not say so already. Of two who do, neither can be put into the other.
func (p *planning) administers(name, of string) bool {
	h := p.holders[name]
	if h == nil || !p.makesRoles(h) || name == of || p.snapshot.version < grantorsSince {
		return false
	}
	if p.roles[of] != nil {
		return true
	}
	other := p.holders[of]
	if other == nil || p.makesRoles(other) {
		return false
	}
	_, around := p.snapshot.ways(of)[name]
	return !around
}

// makesRoles says whether the policy lets somebody make roles.
func (p *planning) makesRoles(h *target.Holder) bool {
	return p.a.Mask(h, 0)&(1<<makingRoles) != 0 && p.a.Listed(0)
}

// giveAdmins gives whoever makes roles what they need for adding members.
func (p *planning) giveAdmins() {
	for _, h := range p.a.Holders {
		if p.snapshot.version < grantorsSince || !p.makesRoles(h) {
			continue
		}
		missing := map[string][]string{} // by the options
		for _, of := range p.order {
			if !p.administers(h.Account, of) || !p.gone[[2]string{of, h.Account}] &&
				slices.ContainsFunc(p.memberships[h.Account], func(m membership) bool {
					return m.of == of && m.admin && m.by == ""
				}) {
				continue
			}
			options := ""
			if _, wanted := p.wants[h.Account].in[of]; !wanted {
				options = ", INHERIT FALSE, SET FALSE"
			}
			missing[options] = append(missing[options], ident(of))
		}
		for _, options := range slices.Sorted(maps.Keys(missing)) {
			for part := range slices.Chunk(missing[options], together) {
				p.say(target.Add, p.a.GrantsOf(h.Account, makingRoles), "", "GRANT %s TO %s WITH ADMIN TRUE%s",
					strings.Join(part, ", "), ident(h.Account), options)
			}
		}
	}
}

// actsAs says whether somebody is a member of a role as hgate would make them.
func (p *planning) actsAs(name, of string) bool {
	return slices.ContainsFunc(p.memberships[name], func(m membership) bool {
		return m.of == of && m.acts && (m.by == "" || !p.isHgates(of))
	})
}

// options are what a membership is given with where somebody is in the role already, and cannot act as it.
func (p *planning) options(name, of string) string {
	if slices.ContainsFunc(p.memberships[name], func(m membership) bool { return m.of == of && !m.acts }) {
		return " WITH INHERIT TRUE, SET TRUE"
	}
	return ""
}

// actingAs is a query for whether the role r can act as another: from some version on, a membership may be for adding
// members alone.
func (s *snapshot) actingAs(role string) string {
	if s.version < grantorsSince {
		return "pg_catalog.pg_has_role(r.oid, " + role + ", 'MEMBER')"
	}
	return "(pg_catalog.pg_has_role(r.oid, " + role + ", 'USAGE') OR pg_catalog.pg_has_role(r.oid, " + role + ", 'SET'))"
}

// assigns says whether somebody who may make roles can add members to the roles for grants.
func (s *snapshot) assigns(who string) bool {
	if s.version < grantorsSince {
		return true
	}
	for name, r := range s.roles {
		if strings.HasPrefix(r.comment, grantMark(s.system)) &&
			!slices.ContainsFunc(s.memberships[who], func(m membership) bool { return m.of == name && m.admin }) {
			return false
		}
	}
	return true
}
