package target

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/placemap"
)

// Arrangement is how a system is told what it has to give: roles for grants whose holders all get the same by them, and
// rights of single accounts for the rest.
type Arrangement struct {
	*Wanted
	Roles   []*Role           // by grant
	Direct  map[string][]Held // by account
	grants  []*reaching
	members map[string][]int // by account: its roles
	rest    map[likeness][]Right
}

// Role is a native role, made for a grant.
type Role struct {
	Grant   string
	Rights  []Right
	Members []string // accounts
}

// Held is a right of one account, with the grants that it comes from.
type Held struct {
	Right
	Grants []string
}

// reaching is a grant that reaches into the system: what its roles come to on each place.
type reaching struct {
	grant *estate.Grant
	order []int32 // the places on which it gives any of them, in order
	all   Mask    // natives of which it gives all operations
	some  Mask    // natives of which it gives any operation
	to    map[estate.Principal]bool
}

// Arrange brings what a system has to give into roles and rights. Whoever is a member of a role has all of its rights
// by the policy, so nobody gets more than that.
func (w *Wanted) Arrange(ctx context.Context) (*Arrangement, error) {
	a := &Arrangement{Wanted: w, Direct: map[string][]Held{}, members: map[string][]int{},
		rest: map[likeness][]Right{}}
	for _, gr := range estate.Sorted(w.Gate.Estate().Grants) {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		if one := w.reach(gr); one != nil {
			a.grants = append(a.grants, one)
			a.addRole(one)
		}
	}
	for _, h := range w.Holders {
		a.addDirect(h)
	}
	return a, nil
}

// reach finds what a grant comes to in the system; nil for nothing.
func (w *Wanted) reach(gr *estate.Grant) *reaching {
	out := &reaching{grant: gr, to: map[estate.Principal]bool{}}
	g := w.Gate
	has := func(operation string) bool {
		return slices.ContainsFunc(gr.Roles, func(ref estate.Ref) bool { return g.RoleHas(ref.ID, operation) })
	}
	for k, native := range w.Carries.Natives {
		if slices.ContainsFunc(native.Gives, has) {
			out.some |= 1 << k
		}
		if !slices.ContainsFunc(native.Gives, func(name string) bool { return !has(name) }) {
			out.all |= 1 << k
		}
	}
	list := g.GrantOf(gr.ID)
	if out.some == 0 || list == nil {
		return nil
	}
	covered := w.covered(gr.On, list.List)
	out.order = slices.Clip(slices.DeleteFunc(covered, func(place int32) bool { return out.some&w.has[place] == 0 }))
	if len(out.order) == 0 {
		return nil
	}
	for _, p := range g.Members(gr.To) {
		out.to[p] = true
	}
	if gr.OnRequest != nil { // it is nobody's until it is lent
		lent := map[estate.Principal]bool{}
		for _, l := range w.Lent {
			if l.Grant == gr.ID && out.to[l.Subject] && l.From <= w.At && w.At < l.To {
				lent[l.Subject] = true
			}
		}
		out.to = lent
	}
	return out
}

// spread is where the places of a system stand among those of the gate, so that no list is held against each of them.
type spread struct {
	has   []Mask    // of each place, the natives that are had there; none on those that the policy decides nothing about
	spots [][]int32 // of each spot among the groups of the gate's places, the system's places there
	other []int     // places that the policy does not list, and decides about
}

// spreadOut looks where the places stand.
func (w *Wanted) spreadOut() {
	at := w.Gate.Places
	w.spread = &spread{has: make([]Mask, len(w.rows)), spots: make([][]int32, len(at.Groups().Spots))}
	number := make(map[placemap.Spot]int, len(w.spots))
	for n, spot := range at.Groups().Spots {
		number[spot] = n
	}
	for place, row := range w.rows {
		if !w.Listed(place) {
			continue
		}
		w.has[place] = w.Carries.on(&w.State.Places[place])
		if row < 0 {
			w.other = append(w.other, place)
			continue
		}
		n := number[at.Spots[row]]
		w.spots[n] = append(w.spots[n], int32(place))
	}
}

// covered lists the places that the list of a grant, by its number, covers, in order.
func (w *Wanted) covered(on estate.Resources, list int) (out []int32) {
	if w.spread == nil {
		w.spreadOut()
	}
	for n := range w.Gate.Places.Covered(list) {
		out = append(out, w.spots[n]...)
	}
	for _, place := range w.other {
		if w.coversOther(on, list, place) {
			out = append(out, int32(place))
		}
	}
	slices.Sort(out)
	return out
}

// coversOther says whether the list of a grant, by its number, covers a place that the policy does not list.
func (w *Wanted) coversOther(on estate.Resources, list, place int) bool {
	g := w.Gate
	if c := w.State.Places[place].Class; c != nil {
		return g.Covers(on, c.row)
	}
	at, _ := g.Places.Unlisted(g.Estate().Canonical(w.State.Address(w.System, place)).String())
	return g.Places.Covers(list, at)
}

// addRole makes a role of what most of a grant's holders get by it, and puts in it whoever gets all of that.
func (a *Arrangement) addRole(r *reaching) {
	type share struct {
		rights []Right
		count  int
		key    string
	}
	shares := map[string]*share{}
	byProfile := map[*profile]*share{}
	var order []*share
	var holders []*Holder
	for _, h := range a.Holders {
		if !r.to[h.Subject] {
			continue
		}
		holders = append(holders, h)
		one := byProfile[h.profile]
		if one == nil {
			rights := a.within(h.profile, r)
			key := rightsKey(rights)
			if one = shares[key]; one == nil {
				one = &share{rights: rights, key: key}
				shares[key] = one
				order = append(order, one)
			}
			byProfile[h.profile] = one
		}
		one.count++
	}
	var best *share
	for _, one := range order {
		if len(one.rights) > 0 && (best == nil || one.count > best.count ||
			one.count == best.count && (len(one.rights) > len(best.rights) ||
				len(one.rights) == len(best.rights) && one.key < best.key)) {
			best = one
		}
	}
	if best == nil {
		return
	}
	role := &Role{Grant: r.grant.ID, Rights: best.rights}
	fits := map[*profile]bool{}
	for p := range byProfile {
		fits[p] = !slices.ContainsFunc(best.rights, func(x Right) bool { return a.mask(p, x.Place)&(1<<x.Native) == 0 })
	}
	for _, h := range holders {
		if fits[h.profile] {
			role.Members = append(role.Members, h.Account)
			a.members[h.Account] = append(a.members[h.Account], len(a.Roles))
		}
	}
	a.Roles = append(a.Roles, role)
}

// within lists what somebody has to have of what a grant comes to.
func (a *Arrangement) within(p *profile, r *reaching) (out []Right) {
	for _, place := range r.order {
		m := r.some & r.all & a.has[place] & a.mask(p, int(place))
		for k := 0; m != 0; k, m = k+1, m>>1 {
			if m&1 != 0 {
				out = append(out, Right{k, int(place)})
			}
		}
	}
	return out
}

func rightsKey(rights []Right) string {
	var b strings.Builder
	for _, r := range rights {
		b.Write([]byte{byte(r.Native), byte(r.Place), byte(r.Place >> 8), byte(r.Place >> 16), byte(r.Place >> 24)})
	}
	return b.String()
}

// likeness is what tells apart what accounts have to have beside their roles.
type likeness struct {
	profile *profile
	roles   string
}

// addDirect gives an account what none of its roles gives.
func (a *Arrangement) addDirect(h *Holder) {
	key := likeness{h.profile, fmt.Sprint(a.members[h.Account])}
	rest, known := a.rest[key]
	if !known {
		rest = a.beside(h)
		a.rest[key] = rest
	}
	for _, x := range rest {
		a.Direct[h.Account] = append(a.Direct[h.Account], Held{x, a.grantsOf(h, x)})
	}
}

// beside lists what an account has to have and none of its roles gives.
func (a *Arrangement) beside(h *Holder) (out []Right) {
	had := map[int]Mask{}
	for _, n := range a.members[h.Account] {
		for _, x := range a.Roles[n].Rights {
			had[x.Place] |= 1 << x.Native
		}
	}
	for place := range a.rows {
		m := a.mask(h.profile, place) &^ had[place]
		for k := 0; m != 0; k, m = k+1, m>>1 {
			if m&1 != 0 {
				out = append(out, Right{k, place})
			}
		}
	}
	return out
}

// grantsOf lists the grants by which somebody gets a right.
func (a *Arrangement) grantsOf(h *Holder, x Right) (out []string) {
	for _, r := range a.grants {
		if r.some&a.has[x.Place]&(1<<x.Native) == 0 || !r.to[h.Subject] {
			continue
		}
		if _, there := slices.BinarySearch(r.order, int32(x.Place)); there {
			out = append(out, r.grant.ID)
		}
	}
	return out
}

// GrantsOf lists the grants by which an account has a native on any place.
func (a *Arrangement) GrantsOf(account string, native int) (out []string) {
	for _, r := range a.RolesOf(account) {
		if slices.ContainsFunc(r.Rights, func(x Right) bool { return x.Native == native }) {
			out = append(out, r.Grant)
		}
	}
	for _, x := range a.Direct[account] {
		if x.Native == native {
			out = append(out, x.Grants...)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// RolesOf lists the roles of an account.
func (a *Arrangement) RolesOf(account string) (out []*Role) {
	for _, n := range a.members[account] {
		out = append(out, a.Roles[n])
	}
	return out
}
