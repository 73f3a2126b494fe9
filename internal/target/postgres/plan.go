package postgres

import (
	"fmt"
	"maps"
	"math/bits"
	"slices"
	"strings"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/target"
)

// want is what a role or an account has to have.
type want struct {
	rights map[held][]string   // with the grants that they come from
	in     map[string][]string // the roles of which it is a member, likewise
}

// planning is a plan on its way.
type planning struct {
	*snapshot
	a       *target.Arrangement
	plan    *target.Plan
	wants   map[string]*want // by role or account
	roles   map[string]*target.Role
	holders map[string]*target.Holder
	order   []string                 // the roles, then the accounts
	given   map[string][]target.Mask // what the members of a role have by it, once it was worked out
	owned   []*owned
	owners  map[string]bool // the roles that own what grants give all of
	// rowsWanted are the rows on which roles and accounts have to have something, and policies what follows, by table.
	rowsWanted   map[rowsKey]*rowsWanted
	gone         map[[2]string]bool // the memberships that are taken away, by role and member
	policies     map[int][]policy
	policyGrants map[string][]string // by name of the policy
	inCare       []string            // whose rights are told: these, and what else hgate made, which has to have nothing
}

// Plan says what the database has to be told. Rights are taken away before any are given.
func (s *snapshot) Plan(a *target.Arrangement) *target.Plan {
	own := *s // what is coming is added to it
	own.objects, own.coming = slices.Clone(s.objects), maps.Clone(s.coming)
	p := &planning{snapshot: &own, a: a, plan: &target.Plan{}, wants: map[string]*want{}, roles: map[string]*target.Role{},
		holders: map[string]*target.Holder{}, given: map[string][]target.Mask{}, owners: map[string]bool{},
		rowsWanted: map[rowsKey]*rowsWanted{}, gone: map[[2]string]bool{}}
	p.gather()
	p.makeRoles()
	p.makeAccounts()
	p.giveOwnership()
	p.takeFromEverybody()
	p.takeMemberships()
	p.takeAdmins()
	p.takeRights()
	p.takePolicies()
	p.giveRights()
	p.givePolicies()
	p.giveMemberships()
	p.giveAdmins()
	p.dropRoles()
	p.leave()
	return p.plan
}

func (p *planning) say(do target.Doing, grants []string, why, format string, args ...any) {
	p.plan.Statements = append(p.plan.Statements, target.Statement{Do: do, Text: fmt.Sprintf(format, args...) + ";",
		Grants: grants, Why: why})
}

func newWant() *want { return &want{rights: map[held][]string{}, in: map[string][]string{}} }

// gather finds out what every role and account has to have.
func (p *planning) gather() {
	for _, r := range p.a.Roles {
		name := roleName(p.system, r.Grant)
		p.roles[name] = r
		p.order = append(p.order, name)
		w := newWant()
		p.wants[name] = w
		for _, x := range r.Rights {
			p.need(name, x, []string{r.Grant})
		}
	}
	for _, h := range p.a.Holders {
		p.holders[h.Account] = h
		p.order = append(p.order, h.Account)
		w := newWant()
		p.wants[h.Account] = w
		for _, x := range p.a.Direct[h.Account] {
			p.need(h.Account, x.Right, x.Grants)
		}
		for _, r := range p.a.RolesOf(h.Account) {
			w.in[roleName(p.system, r.Grant)] = []string{r.Grant}
		}
	}
	p.gatherOwners()
	p.gatherComing()
	p.inCare = slices.Clone(p.order)
	for _, name := range p.orphans(mark(p.system)) {
		if p.wants[name] == nil && name != p.self {
			p.wants[name] = newWant()
			p.inCare = append(p.inCare, name)
		}
	}
}

// need adds a right of a role or account, with what it is of no use without.
func (p *planning) need(name string, x target.Right, grants []string) {
	w := p.wants[name]
	if c := p.a.State.Places[x.Place].Class; c != nil {
		p.needRows(name, x.Native, c, grants)
		x.Place = c.Table
	}
	add := func(h held) { w.rights[h] = joined(w.rights[h], grants) }
	if predefined := memberOf[x.Native]; predefined != "" {
		w.in[predefined] = joined(w.in[predefined], grants)
		return
	}
	o := &p.objects[x.Place]
	if owning&(1<<x.Native) == 0 && x.Native != makingRoles { // which are not rights on something
		add(held{x.Place, natives[x.Native].Name})
	}
	if n, ok := p.schemas[o.schema]; ok && o.schema != "" {
		add(held{n, "USAGE"})
	}
	if o.kind == schema {
		add(held{x.Place, "USAGE"})
	}
	if x.Native == inserting {
		for _, n := range o.serials {
			add(held{n, "USAGE"})
		}
	}
}

func joined(a, b []string) []string {
	out := append(slices.Clone(a), b...)
	slices.Sort(out)
	return slices.Compact(out)
}

// makeRoles makes the roles that are missing.
func (p *planning) makeRoles() {
	for _, name := range p.order {
		r := p.roles[name]
		if r == nil {
			continue
		}
		grants := []string{r.Grant}
		switch is := p.snapshot.roles[name]; {
		case is == nil:
			p.say(target.Add, grants, "", "CREATE ROLE %s NOLOGIN", ident(name))
			p.say(target.Add, grants, "", "COMMENT ON ROLE %s IS %s", ident(name), literal(grantMark(p.system)+r.Grant))
		case !strings.HasPrefix(is.comment, grantMark(p.system)):
			p.plan.Left = append(p.plan.Left,
				fmt.Sprintf("the role %s is not hgate's, and stands where the role for grant %s should", name, r.Grant))
		case is.login:
			p.say(target.Alter, grants, "nobody signs in as it", "ALTER ROLE %s NOLOGIN", ident(name))
		}
	}
}

// makeAccounts makes the accounts that are missing, and gives the others what the policy says of them.
func (p *planning) makeAccounts() {
	for _, h := range p.a.Holders {
		account := "the account of " + h.Subject.String()
		name, is := h.Account, p.snapshot.roles[h.Account]
		login := p.a.Mask(h, 0)&(1<<connecting) != 0 && p.a.Listed(0)
		if is == nil {
			word := map[bool]string{true: "LOGIN", false: "NOLOGIN"}[login]
			p.say(target.Add, nil, account, "CREATE ROLE %s %s", ident(name), word)
			p.say(target.Add, nil, account, "COMMENT ON ROLE %s IS %s", ident(name),
				literal(accountMark(p.system)+h.Subject.String()))
			is = &role{login: login}
		}
		if is.login != login {
			if login {
				p.say(target.Alter, nil, account, "ALTER ROLE %s LOGIN", ident(name))
			} else {
				p.say(target.Alter, nil, "the policy does not let "+h.Subject.String()+" sign in", "ALTER ROLE %s NOLOGIN",
					ident(name))
			}
		}
		until := h.Ends
		if set, ok := p.a.Passwords[name]; ok {
			until = min(until, set.Ends)
			if verifier := set.Verifier; verifier != "" {
				const set = "ALTER ROLE %s PASSWORD %s"
				p.say(target.Alter, nil, account+", whose password was set", set, ident(name), literal(hidden))
				p.plan.Statements[len(p.plan.Statements)-1].Secret = fmt.Sprintf(set, ident(name), literal(verifier))
			}
		}
		if until != clock.End {
			if ends := until.Time().UTC(); is.until == nil || !is.until.Equal(ends) {
				p.say(target.Alter, nil, account+", which ends then", "ALTER ROLE %s VALID UNTIL %s", ident(name),
					literal(ends.Format(time.RFC3339Nano)))
			}
		}
		p.takePowers(h, is)
	}
	for _, name := range p.orphans(accountMark(p.system)) { // nobody's any more
		if p.holders[name] == nil && p.snapshot.roles[name].login && name != p.self {
			p.say(target.Alter, nil, "the policy gives the account to nobody", "ALTER ROLE %s NOLOGIN", ident(name))
		}
	}
}

// hidden stands for a verifier where statements are shown.
const hidden = "…"

// takePowers takes what lets an account do more than any right says, unless the policy lets it do as much.
func (p *planning) takePowers(h *target.Holder, is *role) {
	all := p.everything(h)
	makes := p.makesRoles(h)
	if makes && !is.makesRoles {
		p.say(target.Add, p.a.GrantsOf(h.Account, makingRoles), "", "ALTER ROLE %s CREATEROLE", ident(h.Account))
	}
	for _, power := range []struct {
		has, may bool
		word     string
		why      string
	}{
		{is.super, all, "NOSUPERUSER", "a superuser may do everything"},
		{is.makesRoles, all || makes, "NOCREATEROLE", "it lets the account make and change accounts"},
		{is.replicates, all, "NOREPLICATION", "it lets the account read everything"},
		{is.passesRows, all, "NOBYPASSRLS", "it lets the account see the rows that are hidden from it"},
	} {
		switch {
		case !power.has || power.may:
		case is.system:
			p.plan.Left = append(p.plan.Left, fmt.Sprintf("%s: %s, and the server needs it", h.Account, power.why))
		default:
			p.say(target.Remove, nil, power.why, "ALTER ROLE %s %s", ident(h.Account), power.word)
		}
	}
}

// everything says whether the policy lets somebody do everything that it lists.
func (p *planning) everything(h *target.Holder) bool {
	for place := range p.state.Places {
		if p.a.Listed(place) && !p.a.AllowsAll(h, place) {
			return false
		}
	}
	return true
}

// orphans lists the roles with a mark, in order.
func (p *planning) orphans(mark string) (out []string) {
	for name, r := range p.snapshot.roles {
		if strings.HasPrefix(r.comment, mark) {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// takeFromEverybody takes from PUBLIC what it has on what the policy lists. That everybody may connect and use schemas
// is how PostgreSQL makes them, and stays: by itself it lets nobody do anything.
func (p *planning) takeFromEverybody() {
	rights := map[held]bool{}
	for h := range p.acl[""] {
		o := &p.objects[h.object]
		switch {
		case o.kind == database && h.priv != "CREATE", o.kind == schema && h.priv != "CREATE":
		case p.listed(h.object):
			rights[h] = true
		}
	}
	p.revoke("PUBLIC", rights, "everybody has it")
}

// takeMemberships takes the memberships that give somebody more than the policy does.
func (p *planning) takeMemberships() {
	for _, name := range p.inCare {
		w := p.wants[name]
		for _, up := range p.in[name] {
			if _, wanted := w.in[up]; wanted {
				continue
			}
			why := ""
			if h := p.holders[name]; h == nil || p.isHgates(up) {
				why = "the policy does not put it there"
			} else {
				why = p.beyond(h, up)
			}
			if why != "" {
				p.revokeMembership(up, name, why)
				p.gone[[2]string{up, name}] = true
			}
		}
	}
	var others []string // who is in no care of the policy's, and a member of what hgate made all the same
	for name := range p.in {
		if p.wants[name] == nil && name != p.self {
			others = append(others, name)
		}
	}
	slices.Sort(others)
	for _, name := range others {
		for _, up := range p.in[name] {
			if p.isHgates(up) {
				p.revokeMembership(up, name, "the policy does not put it there")
				p.gone[[2]string{up, name}] = true
			}
		}
	}
}

// beyond says what somebody gets by a membership that the policy does not give; "" for nothing.
func (p *planning) beyond(h *target.Holder, up string) string {
	given, known := p.given[up]
	if !known {
		power := p.ownPowerOf(up)
		given = p.masks(func(native, place int) bool {
			return native != connecting && (p.holds(power, native, place) ||
				p.granted(power, held{place, natives[native].Name + columns}))
		})
		p.given[up] = given
	}
	for place, mask := range given {
		if extra := mask &^ p.a.OnAllRows(h, place); extra != 0 && p.a.Listed(place) {
			return fmt.Sprintf("its members have %s on %s", natives[bits.TrailingZeros64(uint64(extra))].Name,
				p.a.State.Address(p.system, place))
		}
	}
	return ""
}

// takeRights takes the rights that no grant gives.
func (p *planning) takeRights() {
	for _, name := range p.inCare {
		w, extra := p.wants[name], map[held]bool{}
		for h := range p.acl[name] {
			o := &p.objects[h.object]
			if _, wanted := w.rights[h]; wanted || o.owner == name || o.kind.coming() && p.wantsComing(w, h) {
				continue
			}
			if p.holders[name] == nil || p.listed(h.object) {
				extra[h] = true
			}
		}
		p.revoke(ident(name), extra, "no grant gives it")
	}
}

// listed says whether the policy lists an object, or the table that a sequence fills.
func (p *planning) listed(object int) bool {
	if o := &p.objects[object]; o.kind == sequence || o.kind.coming() {
		return p.a.Listed(o.fills)
	}
	return p.a.Listed(object)
}

// together is how many objects one statement names at most, so that it can be read.
const together = 20

// batch is objects on which the same is said.
type batch struct {
	kind    kind
	privs   string
	objects []int
	grants  string
}

// batches puts rights together that one statement can say.
func (p *planning) batches(rights map[held][]string) (out []batch) {
	privs, grants := map[int][]string{}, map[int][]string{}
	for h, from := range rights {
		priv, _, _ := strings.Cut(h.priv, columns)
		if !slices.Contains(privs[h.object], priv) {
			privs[h.object] = append(privs[h.object], priv)
		}
		grants[h.object] = joined(grants[h.object], from)
	}
	var objects []int
	for n := range privs {
		slices.Sort(privs[n])
		objects = append(objects, n)
	}
	slices.SortFunc(objects, func(a, b int) int {
		if d := p.objects[a].kind - p.objects[b].kind; d != 0 {
			return int(d)
		}
		return strings.Compare(p.objects[a].text(), p.objects[b].text())
	})
	known := map[string]int{}
	for _, n := range objects {
		one := batch{kind: p.objects[n].kind, privs: strings.Join(privs[n], ", "), grants: strings.Join(grants[n], " ")}
		key := fmt.Sprint(one.kind, one.privs, "\x00", one.grants)
		at, ok := known[key]
		if !ok || len(out[at].objects) == together {
			at = len(out)
			known[key] = at
			out = append(out, one)
		}
		out[at].objects = append(out[at].objects, n)
	}
	return out
}

func (p *planning) names(objects []int) string {
	var out []string
	for _, n := range objects {
		out = append(out, p.objects[n].text())
	}
	return strings.Join(out, ", ")
}

func (p *planning) revoke(from string, rights map[held]bool, why string) {
	all := map[held][]string{}
	for h := range rights {
		all[h] = nil
	}
	for _, b := range p.batches(all) {
		if b.kind.coming() {
			p.sayComing(target.Remove, b, why, "REVOKE %s ON %s FROM %s", from)
			continue
		}
		p.say(target.Remove, nil, why, "REVOKE %s ON %s %s FROM %s", b.privs, words[b.kind], p.names(b.objects), from)
	}
}

func (p *planning) giveRights() {
	for _, name := range p.order {
		missing := map[held][]string{}
		for h, grants := range p.wants[name].rights {
			if _, has := p.acl[name][h]; !has && p.objects[h.object].owner != name {
				missing[h] = grants
			}
		}
		for _, b := range p.batches(missing) {
			if b.kind.coming() {
				p.sayComing(target.Add, b, "", "GRANT %s ON %s TO %s", ident(name))
				continue
			}
			p.say(target.Add, fields(b.grants), "", "GRANT %s ON %s %s TO %s", b.privs, words[b.kind], p.names(b.objects),
				ident(name))
		}
	}
}

func fields(text string) []string { return strings.Fields(text) }

func (p *planning) giveMemberships() {
	into := map[string][]string{}
	for _, name := range p.order {
		for up := range p.wants[name].in {
			if !p.actsAs(name, up) {
				into[up] = append(into[up], name)
			}
		}
	}
	var ups []string
	for up := range into {
		ups = append(ups, up)
	}
	slices.Sort(ups)
	for _, up := range ups {
		by := map[string][]string{}
		var order []string
		for _, name := range into[up] {
			grants := strings.Join(p.wants[name].in[up], " ") + "\x00" + p.options(name, up)
			if by[grants] == nil {
				order = append(order, grants)
			}
			by[grants] = append(by[grants], ident(name))
		}
		for _, key := range order {
			grants, options, _ := strings.Cut(key, "\x00")
			for part := range slices.Chunk(by[key], together) {
				p.say(target.Add, fields(grants), "", "GRANT %s TO %s%s", ident(up), strings.Join(part, ", "), options)
			}
		}
	}
}

// dropRoles drops hgate's roles for grants that give nothing there any more.
func (p *planning) dropRoles() {
	for _, name := range p.orphans(grantMark(p.system)) {
		if p.roles[name] == nil {
			p.say(target.Remove, nil, "its grant gives nothing here any more", "DROP ROLE %s", ident(name))
		}
	}
	for _, name := range p.orphans(ownerMark(p.system)) {
		if !p.owners[name] {
			p.say(target.Remove, nil, "it owns nothing any more", "DROP ROLE %s", ident(name))
		}
	}
}

// leave tells what somebody has beyond the policy and what cannot be taken from them.
func (p *planning) leave() {
	for _, h := range p.a.Holders {
		if h.New {
			continue
		}
		for place := range p.state.Places {
			if !p.a.Listed(place) || p.objects[place].owner != h.Account || p.a.AllowsAll(h, place) {
				continue
			}
			p.plan.Left = append(p.plan.Left, fmt.Sprintf("%s owns %s, and so may do anything with it: give it another owner",
				h.Account, p.a.State.Address(p.system, place)))
		}
	}
}
