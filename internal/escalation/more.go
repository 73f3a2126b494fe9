package escalation

import (
	"context"
	"maps"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
)

// More is something that subjects can get to and do not have: neither standing nor for the asking.
type More struct {
	Subjects   []estate.Principal // by the same steps, apart from who takes them
	Operations []string           // the first of which the chain ends in
	Resource   string
	Chain      Chain // of the first subject
	// Object is the entry by which the first step can be taken: a grant, a group or a delegation.
	Object *estate.Object
	What   string // "grant", "group" or "delegation"
}

// More lists what can be got of some operations.
func (w *Ways) More(ctx context.Context, wanted func(*estate.Operation) bool) ([]More, error) {
	if !slices.ContainsFunc(slices.Collect(maps.Values(w.moves)), func(m *move) bool { return m.Kind != Asks }) {
		return nil, nil
	}
	now, err := differing.CompileCells(w.estate, differing.Scene{Which: gate.Both, Base: w.base})
	if err != nil {
		return nil, err
	}
	cells, err := differing.CompileCells(w.Estate(), differing.Scene{Places: w.Places(), Base: w.base})
	if err != nil {
		return nil, err
	}
	able := map[estate.Principal]string{} // the steps by which somebody gets more
	for who, moves := range w.of {
		var keys []string
		for _, m := range moves {
			if m.Kind != Asks {
				keys = append(keys, m.key())
			}
		}
		if keys != nil {
			slices.Sort(keys)
			able[who] = strings.Join(keys, "\x01")
		}
	}
	type gain struct {
		operations map[string]string // and a resource of each
	}
	gains := map[estate.Principal]*gain{}
	cells.Choose(wanted, nil)
	var bad error
	err = w.Each(ctx, cells, func(a differing.Access) bool {
		for pile := range a.Piles.All() {
			if !pile.Listed() {
				continue
			}
			for _, who := range a.Subjects {
				if able[who] == "" || gains[who] != nil && gains[who].operations[a.Operation] != "" {
					continue
				}
				address, err := estate.ParseAddress(pile.First())
				if err != nil {
					continue
				}
				r, err := now.Possible(who, a.Operation, w.estate.Listed(address))
				has, err := w.some(now.Gate, r, err)
				if bad = err; bad != nil {
					return false
				}
				if has {
					continue
				}
				if gains[who] == nil {
					gains[who] = &gain{map[string]string{}}
				}
				gains[who].operations[a.Operation] = pile.First()
			}
		}
		return true
	})
	if err == nil {
		err = bad
	}
	if err != nil {
		return nil, err
	}
	var out []More
	at := map[string]int{}
	for _, who := range w.last().Subjects() {
		g := gains[who]
		if g == nil {
			continue
		}
		names := slices.SortedFunc(maps.Keys(g.operations), func(a, b string) int {
			if d := w.estate.Operations[b].Level - w.estate.Operations[a].Level; d != 0 {
				return int(d)
			}
			return strings.Compare(a, b)
		})
		resource := g.operations[names[0]]
		key := strings.Join(names, " ") + "\x00" + resource + "\x00" + able[who]
		if i, ok := at[key]; ok {
			out[i].Subjects = append(out[i].Subjects, who)
			continue
		}
		address, err := estate.ParseAddress(resource)
		if err != nil {
			continue
		}
		chain, ok, err := w.Chain(who, w.estate.Operations[names[0]], w.estate.Listed(address))
		if err != nil {
			return nil, err
		}
		if !ok || len(chain.Steps) == 0 {
			continue
		}
		one := More{Subjects: []estate.Principal{who}, Operations: names, Resource: resource, Chain: chain}
		if one.Object, one.What = w.source(chain.Steps[0]); one.Object != nil {
			at[key] = len(out)
			out = append(out, one)
		}
	}
	return out, nil
}

// source gives the entry by which a first step can be taken.
func (w *Ways) source(s Step) (*estate.Object, string) {
	if s.Operation != "" {
		address, err := estate.ParseAddress(s.Resource)
		if err != nil {
			return nil, ""
		}
		if by := w.stages[0].Giving(s.Subject, s.Operation, w.estate.Listed(address)); len(by) > 0 {
			return &w.estate.Grants[by[0].ID].Object, "grant"
		}
		return nil, ""
	}
	switch s.Kind {
	case Asks:
		return &w.estate.Grants[s.Entry].Object, "grant"
	case Joins:
		return &w.estate.Groups[s.Entry].Object, "group"
	case Hands:
		return &w.estate.Delegations[s.Entry].Object, "delegation"
	}
	return nil, ""
}
