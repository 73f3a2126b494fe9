package mariadb

import (
	"maps"
	"slices"

	"hiddengate/internal/target"
)

// collect says which role every account has when it signs in. Where there are several, a role of its own puts them
// together.
func (p *planning) collect() {
	for _, one := range slices.Clone(p.order) {
		h := p.holders[one]
		if h == nil {
			continue
		}
		w := p.wants[one]
		name := collectingName(p.system, h.Account)
		roles := map[string][]string{}
		maps.Copy(roles, w.in)
		for _, role := range p.in[one] { // those of others that stay, and that it had so far
			was := ""
			if a := p.accounts[one]; a != nil {
				was = a.standard
			}
			if !p.isHgates(role) && (role == was || was == name && slices.Contains(p.in[who{user: name}], role)) &&
				p.beyond(one, role) == "" {
				roles[role] = nil
			}
		}
		names := slices.Sorted(maps.Keys(roles))
		switch len(names) {
		case 0:
		case 1:
			p.chosen[one] = names[0]
		default:
			p.chosen[one] = name
			own := newWant()
			var grants []string
			for role, from := range roles {
				own.in[role] = from
				grants = joined(grants, from)
			}
			p.wants[who{user: name}] = own
			p.order = append(p.order, who{user: name})
			w.in[name] = grants
		}
	}
	if marker := (who{user: markerName(p.system)}); p.roles[marker.user] { // which has to have nothing
		p.wants[marker] = newWant()
		p.order = append(p.order, marker)
	}
	p.inCare = slices.Clone(p.order)
	for _, one := range p.orphans() {
		p.wants[one] = newWant()
		p.inCare = append(p.inCare, one)
	}
}

// noPassword is what MariaDB keeps where no password lets anybody in ("Authentication Plugin -
// mysql_native_password" of its documentation).
const noPassword = "invalid"

// withoutPassword says of an account that no password lets anybody in.
const withoutPassword = " IDENTIFIED VIA mysql_native_password USING '" + noPassword + "'"

// firstPassword is the statement in whose place one with the hash of a first password is told.
func firstPassword(one who) string {
	return "ALTER USER " + one.text() + withoutPassword + " PASSWORD EXPIRE"
}

// makeAccounts makes the accounts that are missing, and locks those with which nobody may sign in.
func (p *planning) makeAccounts() {
	marker, marked := who{user: markerName(p.system)}, false
	for _, h := range p.a.Holders {
		one := accountOf(h.Account)
		is := p.accounts[one]
		if is == nil {
			if !p.roles[marker.user] && !marked {
				marked = true
				p.say(target.Add, nil, "the mark of accounts that hgate makes", "CREATE ROLE %s", marker.text())
			}
			whose := "the account of " + h.Subject.String()
			// It is made and marked at once, so that no push can break off in between.
			p.say(target.Add, nil, whose, "GRANT %s TO %s%s", marker.text(), one.text(), withoutPassword)
			p.say(target.Alter, nil, whose, "ALTER USER %s ACCOUNT LOCK", one.text())
		} else if !is.locked && !p.signsIn(h) {
			p.say(target.Alter, nil, "the policy does not let "+h.Subject.String()+" sign in", "ALTER USER %s ACCOUNT LOCK",
				one.text())
		}
	}
	for _, one := range p.inCare {
		if a := p.accounts[one]; a != nil && p.holders[one] == nil && !a.locked {
			p.say(target.Alter, nil, "the policy gives the account to nobody", "ALTER USER %s ACCOUNT LOCK", one.text())
		}
	}
}

func (p *planning) signsIn(h *target.Holder) bool {
	return p.a.Mask(h, 0)&(1<<signingIn) != 0 && p.a.Listed(0)
}

// open unlocks the accounts with which somebody may sign in, once they have what they should. Those that hgate made get
// their first passwords.
func (p *planning) open() {
	for _, h := range p.a.Holders {
		one := accountOf(h.Account)
		if is := p.accounts[one]; is == nil || is.made && is.unset {
			p.say(target.Alter, nil, "the account of "+h.Subject.String(), "%s", firstPassword(one))
			p.plan.First = append(p.plan.First, h.Account)
		}
		if is := p.accounts[one]; p.signsIn(h) && (is == nil || is.locked) {
			p.say(target.Alter, nil, "the account of "+h.Subject.String(), "ALTER USER %s ACCOUNT UNLOCK", one.text())
		}
	}
}

// choose gives every account the role that it has when it signs in.
func (p *planning) choose() {
	for _, one := range p.inCare {
		if one.host == "" {
			continue
		}
		was := ""
		if a := p.accounts[one]; a != nil {
			was = a.standard
		}
		switch is := p.chosen[one]; {
		case is == was:
		case is == "":
			p.say(target.Alter, nil, "it is not its role", "SET DEFAULT ROLE NONE FOR %s", one.text())
		default:
			p.say(target.Alter, p.wants[one].in[is], "", "SET DEFAULT ROLE %s FOR %s", ident(is), one.text())
		}
	}
}
