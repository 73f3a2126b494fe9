package gate_test

import (
	"fmt"
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/factspace"
	"hiddengate/internal/gate/newplace"
	"hiddengate/internal/gate/placemap"
)

// What is made up within some lists is all that is made up anywhere and that one of them covers; the rest serves to
// name places, and is all else.
func TestWhatIsMadeUpWithinListsIsAllThatTheyCover(t *testing.T) {
	inside, outside := 0, 0
	for seed := range uint64(scaled(100)) {
		d := newDraw(seed + 34e6)
		e := load(t, d.estate())
		facts := factspace.Gather(e)
		var lists []estate.Resources
		for _, gr := range estate.Sorted(e.Grants) {
			lists = append(lists, gr.On)
		}
		within := lists[d.IntN(len(lists)):][:1]
		basis := newplace.Basis{Estates: [2]*estate.Estate{e, e}, Lists: [2][]estate.Resources{lists, lists}, Facts: &facts,
			Unsettled: newplace.Unsettled{Values: map[string][]string{}}}
		all, whole, _ := newplace.Specimens(basis)
		basis.Within = &[2][]estate.Resources{within, within}
		basis.Values = map[string][]string{}
		some, _, rest := newplace.Specimens(basis)
		more, named := rest()
		if !whole || !named {
			continue
		}
		some = append(some, more...)
		want, got := map[string]int{}, map[string]int{}
		for _, s := range all {
			r := s.In(e)
			s.Idle = r != nil && !placemap.Covers(e, within[0], r)
			want[specimenName(&s)]++
		}
		for _, s := range some {
			got[specimenName(&s)]++
			if s.Idle {
				outside++
			} else {
				inside++
			}
		}
		require.Equal(t, want, got, "seed %d: %v", seed, within)
	}
	require.Greater(t, inside, 10)
	require.Greater(t, outside, 10)
}

// Each place has a way for what is asked of it there, be it as much as is asked elsewhere.
func TestEachPlaceHasTheWaysThatAreAskedOfIt(t *testing.T) {
	e := load(t, small)
	asks := func(key, value string) []estate.Match { return []estate.Match{{Key: key, Values: []string{value}}} }
	lists := []estate.Resources{{{In: plain(t, "db:sky"), Tags: asks("team", "x")}},
		{{In: plain(t, "db:sea"), Tags: asks("env", "y")}}, {{In: plain(t, "db:fog"), Tags: asks("team", "z")}}}
	facts := factspace.Gather(e)
	made, whole, _ := newplace.Specimens(newplace.Basis{Estates: [2]*estate.Estate{e, e},
		Lists: [2][]estate.Resources{lists, lists}, Facts: &facts,
		Unsettled: newplace.Unsettled{Values: map[string][]string{}}})
	require.True(t, whole)
	for _, l := range lists {
		in := func(s newplace.Specimen) bool { return l[0].In.Covers(s.Address, false) }
		covered := func(s newplace.Specimen) bool { return placemap.Covers(e, l, s.In(e)) }
		require.True(t, slices.ContainsFunc(made, func(s newplace.Specimen) bool { return in(s) && covered(s) }), "%v", l)
		require.True(t, slices.ContainsFunc(made, func(s newplace.Specimen) bool { return in(s) && !covered(s) }), "%v", l)
	}
}

func specimenName(s *newplace.Specimen) string {
	owner := ""
	if s.Owner != nil {
		owner = s.Owner.String()
	}
	others := slices.Sorted(maps.Keys(s.Others)) // their values stand in no order
	return fmt.Sprint(s.Address, s.Type, s.Tags, others, owner, s.Kind, s.Idle, s.Inherit)
}
