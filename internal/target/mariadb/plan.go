package mariadb

import (
	"fmt"
	"maps"
	"math/bits"
	"slices"
	"strings"

	"hiddengate/internal/target"
)

// want is what a role or an account has to have.
type want struct {
	rights map[held][]string   // with the grants that they come from
	in     map[string][]string // the roles of which it is a member, likewise
}

func newWant() *want { return &want{rights: map[held][]string{}, in: map[string][]string{}} }

// planning is a plan on its way.
type planning struct {
	*snapshot
	a       *target.Arrangement
	plan    *target.Plan
	wants   map[who]*want // by role or account
	holders map[who]*target.Holder
	roleOf  map[string]*target.Role  // by the name of the role
	order   []who                    // the roles, then the accounts
	given   map[string][]target.Mask // what the members of a role have by it, once it was worked out
	inCare  []who                    // whose rights are told: these, then what else hgate made, which has to have nothing
	all     map[who]bool             // whom the policy lets do everything
	chosen  map[who]string           // the role that an account has when it signs in
}

// Plan says what the server has to be told. Rights are taken away before any are given.
func (s *snapshot) Plan(a *target.Arrangement) *target.Plan {
	p := &planning{snapshot: s, a: a, plan: &target.Plan{}, wants: map[who]*want{}, holders: map[who]*target.Holder{},
		roleOf: map[string]*target.Role{}, given: map[string][]target.Mask{}, all: map[who]bool{}, chosen: map[who]string{}}
	p.gather()
	p.collect()
	p.makeRoles()
	p.makeAccounts()
	p.takeFromEverybody()
	p.takeMemberships()
	p.takeRights()
	p.giveRights()
	p.giveMemberships()
	p.choose()
	p.open()
	p.dropRoles()
	p.leave()
	return p.plan
}

func (p *planning) say(do target.Doing, grants []string, why, format string, args ...any) {
	p.plan.Statements = append(p.plan.Statements, target.Statement{Do: do, Text: fmt.Sprintf(format, args...) + ";",
		Grants: grants, Why: why})
}

// gather finds out what every role and account has to have.
func (p *planning) gather() {
	for _, r := range p.a.Roles {
		one := who{user: roleName(p.system, r.Grant)}
		p.roleOf[one.user] = r
		p.order = append(p.order, one)
		p.wants[one] = newWant()
		for _, x := range r.Rights {
			p.need(p.wants[one], x, []string{r.Grant})
		}
	}
	for _, h := range p.a.Holders {
		one := accountOf(h.Account)
		p.holders[one] = h
		p.order = append(p.order, one)
		p.all[one] = p.allowsEverything(h)
		w := newWant()
		p.wants[one] = w
		for _, x := range p.a.Direct[h.Account] {
			p.need(w, x.Right, x.Grants)
		}
		for _, r := range p.a.RolesOf(h.Account) {
			if len(p.wants[who{user: roleName(p.system, r.Grant)}].rights) > 0 { // some come to signing in alone
				w.in[roleName(p.system, r.Grant)] = []string{r.Grant}
			}
		}
	}
	p.order = slices.DeleteFunc(p.order, func(one who) bool {
		empty := one.host == "" && len(p.wants[one].rights) == 0
		if empty {
			delete(p.wants, one)
		}
		return empty
	})
}

// need adds the rights that make a native.
func (p *planning) need(w *want, x target.Right, grants []string) {
	for _, right := range rightsOf(x.Native) {
		h := held{x.Place, right}
		w.rights[h] = joined(w.rights[h], grants)
	}
}

func joined(a, b []string) []string {
	return slices.Compact(slices.Sorted(slices.Values(slices.Concat(a, b))))
}

// orphans lists what hgate made and nothing needs any more: roles, and accounts that are nobody's.
func (p *planning) orphans() (out []who) {
	for role := range p.roles {
		if one := (who{user: role}); p.isHgates(role) && p.wants[one] == nil {
			out = append(out, one)
		}
	}
	for one, a := range p.accounts {
		if a.made && p.wants[one] == nil && one != p.self {
			out = append(out, one)
		}
	}
	return sorted(out)
}

func (p *planning) allowsEverything(h *target.Holder) bool {
	for place := range p.state.Places {
		if p.a.Listed(place) && !p.a.AllowsAll(h, place) {
			return false
		}
	}
	return true
}

// makeRoles makes the roles that are missing.
func (p *planning) makeRoles() {
	for _, one := range p.order {
		if one.host == "" && !p.roles[one.user] {
			p.say(target.Add, p.grantsOf(one), "", "CREATE ROLE %s", one.text())
		}
	}
}

// grantsOf lists the grants for which a role of hgate's stands.
func (p *planning) grantsOf(role who) []string {
	if r := p.roleOf[role.user]; r != nil {
		return []string{r.Grant}
	}
	var out []string
	for _, from := range p.wants[role].in {
		out = joined(out, from)
	}
	return out
}

// takeFromEverybody takes what everybody has on what the policy lists.
func (p *planning) takeFromEverybody() {
	extra := map[held]bool{}
	for h := range p.acl[public] {
		if p.listed(h.object) {
			extra[h] = true
		}
	}
	p.revoke(public, extra, "everybody has it")
	for _, role := range p.in[public] {
		if !p.givesListed(role) {
			continue
		}
		p.say(target.Remove, nil, "everybody has it", "REVOKE %s FROM %s", ident(role), public.text())
	}
}

// givesListed says whether a role gives something on what the policy lists.
func (p *planning) givesListed(role string) bool {
	for place, m := range p.masks(p.ownPowerOf(who{user: role}), true) {
		if m != 0 && p.a.Listed(place) {
			return true
		}
	}
	return false
}

// takeMemberships takes the memberships that give more than the policy.
func (p *planning) takeMemberships() {
	for _, one := range p.inCare {
		for _, role := range p.in[one] {
			if _, wanted := p.wants[one].in[role]; wanted || role == markerName(p.system) {
				continue
			}
			why := "the policy does not put it there"
			if p.holders[one] != nil && !p.isHgates(role) {
				why = p.beyond(one, role)
			}
			if why != "" {
				p.say(target.Remove, nil, why, "REVOKE %s FROM %s", ident(role), one.text())
			}
		}
	}
	var others []who // who is in no care of the policy's, and a member of what hgate made all the same
	for one := range p.in {
		if p.wants[one] == nil && one != p.self && one != public {
			others = append(others, one)
		}
	}
	for _, one := range sorted(others) {
		for _, role := range p.in[one] {
			if p.isHgates(role) && role != markerName(p.system) {
				p.say(target.Remove, nil, "the policy does not put it there", "REVOKE %s FROM %s", ident(role), one.text())
			}
		}
	}
}

// beyond says what an account gets by a role of others that the policy does not give; "" for nothing.
func (p *planning) beyond(one who, role string) string {
	if p.all[one] {
		return ""
	}
	up := p.ownPowerOf(who{user: role})
	if p.given[role] == nil {
		p.given[role] = p.masks(up, true)
	}
	h := p.holders[one]
	for place, mask := range p.given[role] {
		if extra := mask &^ p.a.Mask(h, place); extra != 0 && p.a.Listed(place) {
			return fmt.Sprintf("its members have %s on %s", natives[bits.TrailingZeros64(uint64(extra))].Name,
				p.a.State.Address(p.system, place))
		}
	}
	for _, by := range up.ways[0].as {
		if by != (who{user: role}) && p.isHgates(by.user) {
			return "it has a role of hgate's"
		}
		for x := range p.acl[by] {
			if on := &p.objects[x.object]; (x.object == 0 || on.system) && p.listed(x.object) && !p.harmless(h, x) {
				return "its members have " + x.right + " on " + on.text()
			}
		}
	}
	return ""
}

// harmless says whether a right on the whole server, or on MariaDB's own tables, gives no more than the policy.
func (p *planning) harmless(h *target.Holder, x held) bool {
	for native := range natives {
		if x.object == 0 && natives[native].Name == x.right && slices.Contains(natives[native].Types, "server") {
			return p.a.Mask(h, 0)&(1<<native) != 0
		}
	}
	return false
}

// takeRights takes the rights that no grant gives.
func (p *planning) takeRights() {
	for _, one := range p.inCare {
		if p.all[one] {
			continue
		}
		extra := map[held]bool{}
		for h := range p.acl[one] {
			if _, wanted := p.wants[one].rights[h]; !wanted && (p.holders[one] == nil || p.listed(h.object)) {
				extra[h] = true
			}
		}
		p.revoke(one, extra, "no grant gives it")
	}
}

// listed says whether the policy lists an object: of a pattern, one of the schemas that it fits.
func (p *planning) listed(object int) bool {
	o := &p.objects[object]
	switch {
	case o.system:
		return p.a.Listed(0)
	case o.kind == pattern:
		return slices.ContainsFunc(o.fits, p.a.Listed) || o.name == everyName && p.a.Listed(0)
	}
	return object < len(p.state.Places) && p.a.Listed(object)
}

// onObject is rights on one object.
type onObject struct {
	object int
	rights []string
	grants []string
}

// byObject puts rights together that one statement can say, in the order of what they are on.
func (p *planning) byObject(rights map[held][]string) (out []onObject) {
	at := map[int]*onObject{}
	for h, grants := range rights {
		if at[h.object] == nil {
			at[h.object] = &onObject{object: h.object}
		}
		one := at[h.object]
		if right, _ := strings.CutSuffix(h.right, columns); !slices.Contains(one.rights, right) {
			one.rights = append(one.rights, right)
		}
		one.grants = joined(one.grants, grants)
	}
	for _, n := range slices.Sorted(maps.Keys(at)) {
		slices.Sort(at[n].rights)
		out = append(out, *at[n])
	}
	return out
}

func (p *planning) revoke(from who, rights map[held]bool, why string) {
	all := map[held][]string{}
	for h := range rights {
		all[h] = nil
	}
	for _, one := range p.byObject(all) {
		p.say(target.Remove, nil, why, "REVOKE %s ON %s FROM %s", strings.Join(one.rights, ", "),
			p.objects[one.object].text(), from.text())
	}
}

func (p *planning) giveRights() {
	for _, to := range p.order {
		missing := map[held][]string{}
		for h, grants := range p.wants[to].rights {
			if !p.acl[to][h] {
				missing[h] = grants
			}
		}
		for _, one := range p.byObject(missing) {
			p.say(target.Add, one.grants, "", "GRANT %s ON %s TO %s", strings.Join(one.rights, ", "),
				p.objects[one.object].text(), to.text())
		}
	}
}

// together is how many accounts one statement names at most, so that it can be read.
const together = 20

func (p *planning) giveMemberships() {
	type entry struct{ role, grants string }
	into := map[entry][]string{}
	for _, one := range p.order {
		for role, grants := range p.wants[one].in {
			if !slices.Contains(p.in[one], role) {
				k := entry{role, strings.Join(grants, " ")}
				into[k] = append(into[k], one.text())
			}
		}
	}
	for _, k := range slices.SortedFunc(maps.Keys(into), func(a, b entry) int {
		// The role that collects others has them before anybody has it.
		return strings.Compare(p.depth(a.role)+a.role+"\x00"+a.grants, p.depth(b.role)+b.role+"\x00"+b.grants)
	}) {
		for some := range slices.Chunk(into[k], together) {
			p.say(target.Add, strings.Fields(k.grants), "", "GRANT %s TO %s", ident(k.role), strings.Join(some, ", "))
		}
	}
}

func (p *planning) depth(role string) string {
	if w := p.wants[who{user: role}]; w != nil && len(w.in) > 0 {
		return "1"
	}
	return "0"
}

// dropRoles drops hgate's roles that nothing needs any more.
func (p *planning) dropRoles() {
	for _, one := range p.inCare[len(p.order):] {
		if one.host == "" {
			p.say(target.Remove, nil, "nothing needs it any more", "DROP ROLE %s", one.text())
		}
	}
}

// leave tells what somebody has beyond the policy and what cannot be taken from them.
func (p *planning) leave() {
	for _, h := range p.a.Holders {
		one := accountOf(h.Account)
		if p.all[one] || p.accounts[one] == nil {
			continue
		}
		for _, other := range p.alsoAs(one) {
			if slices.ContainsFunc(slices.Collect(maps.Keys(p.acl[other])), func(x held) bool {
				return x.object != 0 && p.listed(x.object)
			}) && p.holders[other] == nil {
				whose := other.name()
				if other.user == "" {
					whose = "the account without a name"
				}
				p.plan.Left = append(p.plan.Left, fmt.Sprintf("%s has what %s has in databases too", h.Account, whose))
			}
		}
		if other := p.proxies[one]; len(other) > 0 {
			p.plan.Left = append(p.plan.Left, fmt.Sprintf("%s may sign in as %s: take PROXY from it", h.Account,
				strings.Join(other, ", ")))
		}
	}
}
