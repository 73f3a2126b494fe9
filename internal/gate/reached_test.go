package gate_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/newplace"
)

// What a list reaches in a place is what it covers there, one resource after another: listed ones, and such as a system
// judges though they are not.
func TestWhatAListReachesIsWhatItCovers(t *testing.T) {
	counts := map[string]int{}
	for seed := range uint64(scaled(150)) {
		d := newDraw(seed + 9e6)
		e := load(t, d.estate())
		g, err := gate.Compile(e, nil)
		require.NoError(t, err)
		grants := estate.Sorted(e.Grants)
		var lists []estate.Resources
		var all []*estate.Resource
		for _, gr := range grants {
			lists = append(lists, gr.On)
		}
		for _, s := range estate.Sorted(e.Scopes) {
			lists = append(lists, s.Resources)
		}
		for r := range e.Tree.All() {
			all = append(all, r)
		}
		for _, a := range newplace.ForLists(e, lists) {
			all = append(all, e.Unlisted(a))
		}
		if len(lists) == 0 || len(all) == 0 {
			continue
		}
		for range 5 {
			on, place := lists[d.IntN(len(lists))], estate.Address{}
			if d.IntN(3) > 0 {
				place = all[d.IntN(len(all))].Address
			}
			within := estate.Resources{{Everything: true}}
			if pattern, err := estate.ParsePattern(place.String()); err == nil {
				within = estate.Resources{{In: &pattern}}
			}
			here := slices.Clone(all)
			for _, a := range newplace.ForLists(e, append(slices.Clone(lists), within)) {
				here = append(here, e.Unlisted(a))
			}
			here = slices.DeleteFunc(here, func(r *estate.Resource) bool {
				return !g.Covers(within, r) || !g.Covers(on, r)
			})
			reached := g.Reached(on, place)
			for _, gr := range grants {
				want, gives := false, map[string]bool{}
				for _, r := range here {
					if !g.Covers(gr.On, r) {
						continue
					}
					want = true
					for _, o := range e.Offer(r.System.Kind.ID).On(r.Type) {
						gives[o.Name] = gives[o.Name] || slices.ContainsFunc(gr.Roles,
							func(ref estate.Ref) bool { return g.RoleHas(ref.ID, o.Name) })
					}
				}
				require.Equal(t, want, reached.By(gr), "seed %d: %v in %s by grant %s", seed, on, place, gr.ID)
				for _, o := range reached.Gives(gr) {
					require.True(t, gives[o.Name], "seed %d: %s by grant %s", seed, o.Name, gr.ID)
					delete(gives, o.Name)
				}
				for name, is := range gives {
					require.False(t, is, "seed %d: grant %s gives %s on %v in %s", seed, gr.ID, name, on, place)
				}
				counts[map[bool]string{true: "reached", false: "not"}[want]]++
			}
			for range 5 {
				at := all[d.IntN(len(all))].Address
				want := slices.ContainsFunc(here, func(r *estate.Resource) bool { return r.Address.Inside(at) })
				require.Equal(t, want, reached.In(at), "seed %d: %v in %s at %s", seed, on, place, at)
				counts[map[bool]string{true: "in", false: "not in"}[want]]++
			}
		}
	}
	for _, what := range []string{"reached", "not", "in", "not in"} {
		require.Greater(t, counts[what], 50, counts)
	}
}
