package verify

import (
	"context"
	"fmt"
	"slices"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/counting"
	"hiddengate/internal/gate/differing"
)

// witness makes requests of a violation, each allowed, and finds the grants that make it so.
func (p *Prover) witness(ctx context.Context, c *differing.Cells, g *estate.Guarantee, v *violation) (*Witness, error) {
	if v.short != nil {
		return p.shortage(ctx, g, v)
	}
	if p.countsSteps(g) {
		return p.reached(v)
	}
	if len(v.claims) == 1 {
		return p.single(ctx, c, g, v.claims[0])
	}
	var chosen []string
	for _, x := range v.claims {
		ways, err := p.ways(c, x)
		if err != nil {
			return nil, err
		}
		if !slices.ContainsFunc(ways, func(w gate.Way) bool { return slices.Contains(chosen, w.Grant.ID) }) {
			chosen = append(chosen, ways[0].Grant.ID)
		}
	}
	chosen, v, c, err := p.least(ctx, g, chosen)
	if err != nil {
		return nil, err
	}
	w := &Witness{Grants: chosen}
	for _, x := range v.claims {
		shown, _, err := p.shown(c, x)
		if err != nil {
			return nil, err
		}
		w.Requests = append(w.Requests, shown)
	}
	return w, nil
}

// single shows a claim that is a violation by itself: one grant makes it so.
func (p *Prover) single(ctx context.Context, c *differing.Cells, g *estate.Guarantee, x claim) (*Witness, error) {
	ways, err := p.ways(c, x)
	if err != nil {
		return nil, err
	}
	shown, by, err := p.shown(c, x)
	for i := 0; err != nil && i < len(ways); i++ {
		// A grant can have a role in no session in which it counts: then it does not, alone.
		by = ways[i].Grant.ID
		v, cells, bad := p.with(ctx, g, []string{by})
		if bad == nil && v != nil {
			shown, _, err = p.shown(cells, v.claims[0])
		}
	}
	w := &Witness{Requests: []Shown{shown}, Grants: []string{by}}
	for _, other := range ways {
		if other.Grant.ID != by {
			w.Also = append(w.Also, other.Grant.ID)
		}
	}
	return w, err
}

// shown shows a claim by the first grant by which it can be.
func (p *Prover) shown(c *differing.Cells, x claim) (out Shown, by string, err error) {
	ways, err := p.ways(c, x)
	if err != nil {
		return out, "", err
	}
	for _, way := range ways {
		if out, err = p.show(c, x, way); err == nil {
			return out, way.Grant.ID, nil
		}
	}
	return out, "", err
}

// request asks for what a claim says.
func (x claim) request(ctx *gate.Context) gate.Request {
	return gate.Request{Subject: x.who, Operation: x.operation, Resource: x.pile.First(), Context: ctx}
}

// ways lists the grants that give what a claim says at its witness, standing ones first.
func (p *Prover) ways(c *differing.Cells, x claim) ([]gate.Way, error) {
	at, ok := c.Witness(x.when, p.since)
	if !ok {
		return nil, fmt.Errorf("%s may %s on %s, and no moment was found", x.who, x.operation, x.pile.First())
	}
	all, err := c.Ways(x.request(at))
	if err != nil {
		return nil, err
	}
	sessions, err := c.Sessions(x.who, at)
	if err != nil {
		return nil, err
	}
	counts := func(w gate.Way) bool { // its role can be in a session
		return slices.ContainsFunc(sessions, func(s gate.Session) bool {
			return slices.ContainsFunc(w.Grant.Roles, func(ref estate.Ref) bool {
				return s.Has(ref.ID) && c.RoleHas(ref.ID, x.operation)
			})
		})
	}
	out := slices.DeleteFunc(all, func(w gate.Way) bool {
		return !w.Who || !w.What || !w.Where || !w.Meets || !counts(w)
	})
	slices.SortStableFunc(out, func(a, b gate.Way) int { return onRequest(a.Grant) - onRequest(b.Grant) })
	if len(out) == 0 {
		return nil, fmt.Errorf("%s may %s on %s, and no grant was found that gives it", x.who, x.operation, x.pile.First())
	}
	return out, nil
}

func onRequest(g *estate.Grant) int {
	if g.OnRequest != nil {
		return 1
	}
	return 0
}

// least takes out of some grants, which together make a guarantee fail, one after another that it fails without. Taking
// out more never makes it fail, so none of those that are left can be left out (as in A. Zeller, R. Hildebrandt,
// "Simplifying and Isolating Failure-Inducing Input", 2002).
func (p *Prover) least(ctx context.Context, g *estate.Guarantee, grants []string,
) ([]string, *violation, *differing.Cells, error) {
	v, c, err := p.with(ctx, g, grants)
	if err == nil && v == nil {
		err = fmt.Errorf("guarantee %s: the grants that were found do not make it fail", g.ID)
	}
	for i := 0; err == nil && i < len(grants) && len(grants) > 1; {
		without := slices.Delete(slices.Clone(grants), i, i+1)
		fewer, cells, bad := p.with(ctx, g, without)
		if err = bad; fewer == nil {
			i++
			continue
		}
		grants, v, c = without, fewer, cells
	}
	return grants, v, c, err
}

// with looks for a violation where there are no other grants.
func (p *Prover) with(ctx context.Context, g *estate.Guarantee, grants []string) (*violation, *differing.Cells, error) {
	all := p.gate.Estate()
	edits := []estate.Edit{estate.Clear("grants"), estate.Clear("guarantees"), estate.Put("guarantees", g)}
	for _, id := range grants {
		if granted := all.Grants[id]; granted != nil {
			edits = append(edits, estate.Put("grants", granted))
		}
	}
	c, err := differing.CompileCells(all.With(edits...),
		differing.Scene{Which: p.which(g), Only: p.only, Roster: p.roster, Base: p.base, Places: []estate.Resources{g.On}})
	if err != nil {
		return nil, nil, err
	}
	v, err := p.find(ctx, c, g)
	return v, c, err
}

// show makes the request that shows a claim by one grant, and sees that it is allowed, and by that grant.
func (p *Prover) show(c *differing.Cells, x claim, by gate.Way) (Shown, error) {
	space := c.Space()
	when, err := space.And(by.Region, x.when)
	if err != nil {
		return Shown{}, err
	}
	at, ok := c.Witness(when, p.since)
	if !ok {
		return Shown{}, fmt.Errorf("grant %s was found, and no moment in which it counts", by.Grant.ID)
	}
	g := p.gate
	out := Shown{Request: x.request(g.For(at, c.Gate))}
	if by.Grant.OnRequest != nil {
		moment, _ := at.Moment()
		out.Lent = by.Grant.ID
		out.Longest = by.Grant.OnRequest.Longest
		lent, err := gate.Compile(g.Estate(), Lend(x.who, by.Grant, moment))
		if err != nil {
			return out, err
		}
		g = lent
	}
	sessions := [][]string{nil}
	for _, ref := range by.Grant.Roles {
		sessions = append(sessions, []string{ref.ID})
	}
	for _, roles := range sessions {
		out.Context.Roles = roles
		req := out.Request
		req.Context = g.For(out.Context, p.gate)
		why, err := g.Explain(req)
		if err == nil && why.Outcome == gate.Allow &&
			slices.ContainsFunc(why.Grants, func(c gate.Cause) bool { return c.Met && c.Grant == by.Grant }) {
			return out, nil
		}
	}
	return out, fmt.Errorf("%s was to be allowed %s on %s by grant %s, and is not: please report this", x.who, x.operation,
		x.pile.First(), by.Grant.ID)
}

// Lend makes the elevation by which an on-request grant is in force for a subject from an instant on, for as long as it
// may be.
func Lend(who estate.Principal, g *estate.Grant, at clock.Instant) []estate.Elevation {
	longest := g.OnRequest.Longest
	if longest == 0 {
		longest = time.Hour
	}
	return []estate.Elevation{{Grant: g.ID, Subject: who, From: at, To: at + clock.Instant(longest/time.Microsecond)}}
}

// reached tells how what a violation is made of can be got.
func (p *Prover) reached(v *violation) (*Witness, error) {
	w := &Witness{}
	for _, x := range v.claims {
		address, err := estate.ParseAddress(x.pile.First())
		if err != nil {
			return nil, err
		}
		place, err := p.gate.Place(address)
		if err != nil {
			return nil, err
		}
		chain, ok, err := p.more.Chain(x.who, p.gate.Estate().Operations[x.operation], place)
		if err == nil && !ok {
			err = fmt.Errorf("%s was to get to %s on %s, and no steps were found that lead there: please report this", x.who,
				x.operation, address)
		}
		if err != nil {
			return nil, err
		}
		w.Reached = append(w.Reached, Reached{x.who, x.operation, x.pile.First(), chain})
	}
	return w, nil
}

// shortage tells who is left, and sees that these are too few.
func (p *Prover) shortage(ctx context.Context, g *estate.Guarantee, v *violation) (*Witness, error) {
	w := &Witness{Resource: v.short.First(), At: v.at}
	address, err := estate.ParseAddress(w.Resource)
	if err != nil {
		return nil, err
	}
	place, err := p.gate.Place(address)
	if err != nil {
		return nil, err
	}
	asked := p.gate.NewContext()
	asked.Time(v.at)
	edition := p.gate.Estate().Edition
	holders, err := counting.Holders(ctx, p.gate, asked, counting.PlacesOf(place),
		func(o *estate.Operation) bool { return g.May.Fit(o, edition) })
	if err != nil {
		return nil, err
	}
	for _, h := range holders {
		if h.Subject.Kind == estate.IsPerson {
			w.Left = append(w.Left, h.Subject)
		}
	}
	if len(w.Left) >= g.Count {
		return nil, fmt.Errorf("guarantee %s: %s was to be short of people at %s, and is not: please report this", g.ID,
			w.Resource, p.gate.Estate().Zone.Format(v.at))
	}
	return w, nil
}
