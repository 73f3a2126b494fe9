package target

import (
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/newplace"
)

// Coming is what has to be given on whatever may come into some places, where the policy decides about what no
// inventory lists: only what it gives on all that may come, in whichever way that differs.
type Coming struct {
	Roles  map[string][]Right // by grant; the place is the one above
	Direct map[string][]Held  // by account: what none of its roles gives
}

// Coming finds what has to be given on things of a type that may come right below some places.
func (a *Arrangement) Coming(typ string, natives Mask, above []int) *Coming {
	out := &Coming{Roles: map[string][]Right{}, Direct: map[string][]Held{}}
	w := a.Wanted
	e := w.Gate.Estate()
	if !e.Systems[w.System].Judge {
		return out
	}
	addresses := w.mayCome(typ, above)
	asked := w.asked()
	masks := map[string]map[int]Mask{} // by account
	for _, h := range w.Holders {
		masks[h.Account] = map[int]Mask{}
		for _, place := range above {
			if m := w.maskOnAll(h, typ, natives, addresses[place], asked); m != 0 {
				masks[h.Account][place] = m
			}
		}
	}
	had := map[string]map[int]Mask{}
	for _, r := range a.Roles {
		gr := e.Grants[r.Grant]
		for _, place := range above {
			m := a.grantOnAll(gr, natives, addresses[place])
			for _, name := range r.Members {
				m &= masks[name][place]
			}
			if m == 0 || len(r.Members) == 0 {
				continue
			}
			out.Roles[r.Grant] = append(out.Roles[r.Grant], rightsOf(m, place)...)
			for _, name := range r.Members {
				if had[name] == nil {
					had[name] = map[int]Mask{}
				}
				had[name][place] |= m
			}
		}
	}
	for _, h := range w.Holders {
		for _, place := range above {
			for _, x := range rightsOf(masks[h.Account][place]&^had[h.Account][place], place) {
				out.Direct[h.Account] = append(out.Direct[h.Account], Held{x, a.grantsComing(h, x, addresses[place])})
			}
		}
	}
	return out
}

func rightsOf(m Mask, place int) (out []Right) {
	for k := 0; m != 0; k, m = k+1, m>>1 {
		if m&1 != 0 {
			out = append(out, Right{k, place})
		}
	}
	return out
}

// mayCome makes up addresses right below some places, one for each way in which what comes there can differ.
func (w *Wanted) mayCome(typ string, above []int) map[int][]string {
	e := w.Gate.Estate()
	var lists []estate.Resources
	for _, gr := range e.Grants {
		lists = append(lists, gr.On)
	}
	for _, b := range e.Blocks {
		lists = append(lists, b.On)
	}
	at := map[string]int{}
	for _, place := range above {
		if w.Listed(place) {
			at[e.Canonical(w.State.Address(w.System, place)).String()] = place
		}
	}
	out := map[int][]string{}
	for _, address := range newplace.ForLists(e, lists) {
		up, ok := address.Parent()
		if place, known := at[up.String()]; ok && known && e.Unlisted(address).Type == typ {
			out[place] = append(out[place], address.String())
		}
	}
	return out
}

// maskOnAll gives the natives that somebody has to have on all of some addresses.
func (w *Wanted) maskOnAll(h *Holder, typ string, natives Mask, addresses []string, asked *gate.Context) (out Mask) {
	if len(addresses) == 0 {
		return 0
	}
	for k, native := range w.Carries.Natives {
		if natives&(1<<k) == 0 || native.Unlimited || !slices.Contains(native.Types, typ) {
			continue
		}
		if !slices.ContainsFunc(native.Gives, func(operation string) bool {
			return slices.ContainsFunc(addresses, func(address string) bool {
				outcome, err := w.Gate.Decide(gate.Request{Subject: h.Subject, Operation: operation, Resource: address,
					Context: asked})
				return err != nil || outcome != gate.Allow
			})
		}) {
			out |= 1 << k
		}
	}
	return out
}

// grantOnAll gives the natives that a grant gives on all of some addresses.
func (a *Arrangement) grantOnAll(gr *estate.Grant, natives Mask, addresses []string) (out Mask) {
	e := a.Gate.Estate()
	for _, text := range addresses {
		address, err := estate.ParseAddress(text)
		if err != nil || !a.Gate.Covers(gr.On, e.Unlisted(address)) {
			return 0
		}
	}
	for k, native := range a.Carries.Natives {
		if natives&(1<<k) != 0 && !slices.ContainsFunc(native.Gives, func(operation string) bool {
			return !slices.ContainsFunc(gr.Roles, func(ref estate.Ref) bool { return a.Gate.RoleHas(ref.ID, operation) })
		}) {
			out |= 1 << k
		}
	}
	return out
}

// grantsComing lists the grants by which somebody gets a right on whatever comes.
func (a *Arrangement) grantsComing(h *Holder, x Right, addresses []string) (out []string) {
	for _, r := range a.grants {
		if r.to[h.Subject] && a.grantOnAll(r.grant, 1<<x.Native, addresses) != 0 {
			out = append(out, r.grant.ID)
		}
	}
	return out
}
