package target

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"hiddengate/internal/estate"
)

// Adopted is what a system gives, as entries of a policy.
type Adopted struct {
	Groups []AdoptedGroup
	Roles  []AdoptedRole
	Grants []AdoptedGrant
	Unfit  []string // accounts that have something and that fit nobody
}

// AdoptedGroup is a group of those who have something by the same native role, or by having an account.
type AdoptedGroup struct {
	ID, Title string
	Members   []string // subjects as files write them
}

// AdoptedRole is a role of all operations that some natives give; of every operation, where it has none.
type AdoptedRole struct {
	ID         string
	Operations []string
}

// AdoptedGrant is a grant of a role to subjects.
type AdoptedGrant struct {
	ID     string
	To     []string
	Role   string
	Places []int // of the state, each without what is inside; where Whole is set, with it
	Whole  bool
}

// adopting is an adoption on its way.
type adopting struct {
	system  string
	carries *Carries
	state   *State
	found   *Found
	owner   func(account string) (estate.Principal, bool)
	ids     map[string]bool
	groups  map[string]string // the id of each native role
	roles   map[Mask]string
	out     *Adopted
	unfit   map[string]bool
}

// Adopt writes what a system gives as groups, roles and grants that give the same. owner tells who has an account.
func Adopt(system string, carries *Carries, state *State, found *Found,
	owner func(account string) (estate.Principal, bool)) *Adopted {
	a := newAdopting(system, carries, state, found, owner)
	for _, g := range found.Groups {
		a.groups[g.Name] = a.id(g.Name)
	}
	for _, g := range found.Groups {
		one := AdoptedGroup{ID: a.groups[g.Name], Title: g.Name}
		for _, name := range g.Groups {
			one.Members = append(one.Members, "group:"+a.groups[name])
		}
		for _, name := range g.Accounts {
			one.Members = a.with(one.Members, name)
		}
		a.out.Groups = append(a.out.Groups, one)
	}
	a.everybody()
	a.grants()
	return a.done()
}

func newAdopting(system string, carries *Carries, state *State, found *Found,
	owner func(account string) (estate.Principal, bool)) *adopting {
	return &adopting{system: system, carries: carries, state: state, found: found, owner: owner, ids: map[string]bool{},
		groups: map[string]string{}, roles: map[Mask]string{}, out: &Adopted{}, unfit: map[string]bool{}}
}

func (a *adopting) done() *Adopted {
	for name := range a.unfit {
		a.out.Unfit = append(a.out.Unfit, name)
	}
	slices.Sort(a.out.Unfit)
	return a.out
}

// with adds the subject of an account to a list.
func (a *adopting) with(list []string, account string) []string {
	who, ok := a.owner(account)
	if !ok {
		a.unfit[account] = true
		return list
	}
	if text := who.String(); !slices.Contains(list, text) {
		list = append(list, text)
	}
	return list
}

// everybody makes the group of whoever has an account, where all of them have something.
func (a *adopting) everybody() {
	if len(a.found.Rights[Everybody]) == 0 {
		return
	}
	one := AdoptedGroup{ID: a.id("everybody"), Title: "Everybody with an account"}
	a.groups[Everybody] = one.ID
	for _, account := range a.state.Accounts {
		if _, isGroup := a.groups[account.Name]; !isGroup && !account.Reserved {
			if who, ok := a.owner(account.Name); ok && !slices.Contains(one.Members, who.String()) {
				one.Members = append(one.Members, who.String())
			}
		}
	}
	a.out.Groups = append(a.out.Groups, one)
}

// share is what somebody has on some places.
type share struct {
	mask   Mask // 0: everything
	places []int
}

// grants makes the grants: one for each that several have alike.
func (a *adopting) grants() {
	var g gathering
	for _, name := range a.grantees() {
		var subject []string
		if id, isGroup := a.groups[name]; isGroup {
			subject = []string{"group:" + id}
		} else if subject = a.with(nil, name); subject == nil {
			continue
		}
		for _, one := range a.sharesOf(a.found.All[name], a.found.Rights[name]) {
			g.add(one, subject[0])
		}
	}
	a.write(&g)
}

// gathering puts together who has the same share.
type gathering struct {
	keys   []string
	to     map[string][]string
	shares map[string]share
}

func (g *gathering) add(one share, subject string) {
	if g.to == nil {
		g.to, g.shares = map[string][]string{}, map[string]share{}
	}
	key := fmt.Sprint(one)
	if _, known := g.shares[key]; !known {
		g.keys = append(g.keys, key)
		g.shares[key] = one
	}
	if !slices.Contains(g.to[key], subject) {
		g.to[key] = append(g.to[key], subject)
	}
}

// write makes the grants of what was gathered.
func (a *adopting) write(g *gathering) {
	for _, key := range g.keys {
		one := g.shares[key]
		role := a.role(one.mask)
		a.out.Grants = append(a.out.Grants, AdoptedGrant{ID: a.id(strings.TrimPrefix(role, a.system+"-") + "-grant"),
			To: g.to[key], Role: role, Places: one.places, Whole: one.mask == 0 && slices.Contains(one.places, a.top())})
	}
}

// top is the place of the system itself; -1 if it is not there.
func (a *adopting) top() int {
	return slices.IndexFunc(a.state.Places, func(p Place) bool { return p.Path == "" })
}

// sharesOf gives what somebody has, the places with the same rights together.
func (a *adopting) sharesOf(all []int, rights []Right) (out []share) {
	if len(all) > 0 {
		if slices.Contains(all, a.top()) { // and all inside it
			return []share{{0, []int{a.top()}}}
		}
		out = append(out, share{0, all})
	}
	masks := map[int]Mask{}
	for _, r := range rights {
		if len(out) == 0 || !slices.Contains(out[0].places, r.Place) {
			masks[r.Place] |= 1 << r.Native
		}
	}
	by := map[Mask]int{}
	for place := range a.state.Places {
		m := masks[place]
		if m == 0 {
			continue
		}
		at, known := by[m]
		if !known {
			at = len(out)
			by[m] = at
			out = append(out, share{mask: m})
		}
		out[at].places = append(out[at].places, place)
	}
	return out
}

// role gives the id of the role for some natives, and makes it.
func (a *adopting) role(m Mask) string {
	if id, known := a.roles[m]; known {
		return id
	}
	one := AdoptedRole{}
	var words []string
	for k, native := range a.carries.Natives {
		if m&(1<<k) == 0 {
			continue
		}
		if !a.carries.within(k, m) {
			words = append(words, strings.ToLower(native.Name))
		}
		for _, o := range native.Gives {
			if !slices.Contains(one.Operations, o) {
				one.Operations = append(one.Operations, o)
			}
		}
	}
	if m == 0 {
		words = []string{"everything"}
	}
	one.ID = a.id(strings.Join(words, "-"))
	a.roles[m] = one.ID
	a.out.Roles = append(a.out.Roles, one)
	return one.ID
}

// longest is how many characters of a name an id takes over.
const longest = 60

// id makes an id of the policy from a system's name, each once.
func (a *adopting) id(name string) string {
	var b strings.Builder
	for _, r := range name {
		if b.Len() >= longest {
			break
		}
		if r != '_' && r != '.' && !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			r = '-'
		}
		b.WriteRune(r)
	}
	base := a.system + "-" + b.String()
	if estate.CheckID(base) != nil {
		base = a.system + "-entry"
	}
	id := base
	for n := 2; a.ids[id]; n++ {
		id = fmt.Sprintf("%s-%d", base, n)
	}
	a.ids[id] = true
	return id
}
