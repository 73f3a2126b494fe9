package gate_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/counting"
)

// What one of those who are alike is told of one of the resources that are, all others are told of all of them; and no
// subject and no resource is left out or there twice.
func TestWhatIsPutTogetherGetsTheSameAnswers(t *testing.T) {
	together, owned := 0, 0
	for seed := range uint64(scaled(200)) {
		e := load(t, newDraw(seed+31e6).estate())
		g, err := gate.Compile(e, nil)
		require.NoError(t, err)
		c := g.NewContext()
		if seed%3 > 0 {
			c.Time(1_900_000_000_000_000)
		}
		who := g.Members(estate.Subjects{{Principal: estate.Principal{Kind: estate.IsEveryone}}})
		var rows []int
		for row := range e.Tree.Len() {
			if seed%2 == 0 || row%3 > 0 {
				rows = append(rows, row)
			}
		}
		from, err := gate.Compile(e.From(1_900_000_000_000_000), nil)
		require.NoError(t, err)
		open := from.NewContext()
		p := counting.NewPortions([]*gate.Gate{g, from}, []*gate.Context{c, open}, nil, who, rows)
		var all []int
		for i := range p.Classes {
			class := &p.Classes[i]
			all = append(all, class.Subjects...)
			portions := p.Of(class)
			var there []int
			for _, portion := range portions {
				require.IsIncreasing(t, append([]int{-1}, portion.Rows...))
				there = append(there, portion.Rows...)
				together += len(portion.Rows) * len(class.Subjects)
			}
			slices.Sort(there)
			require.Equal(t, rows, there)
			for k, by := range []*gate.Gate{g, from} {
				context := []*gate.Context{c, open}[k]
				told, err := p.Ask(k, class, portions)
				if err != nil {
					continue // too complex
				}
				for n, portion := range portions {
					for _, row := range portion.Rows {
						for _, i := range class.Subjects {
							if o := e.Tree.At(row).Owner; o != nil && *o == who[i] {
								owned++
							}
							for j, o := range told[n].Operations {
								got, err := by.Decide(gate.Request{Subject: who[i], Operation: o.Name,
									Resource: e.Tree.Address(row), Context: context})
								require.NoError(t, err)
								require.Equal(t, told[n].Outcomes[j], got, "seed %d: %s %s %s", seed, who[i], o.Name,
									e.Tree.Address(row))
							}
						}
					}
				}
			}
		}
		slices.Sort(all)
		for i := range who {
			require.Equal(t, i, all[i])
		}
	}
	require.Greater(t, together, 300)
	require.NotZero(t, owned)
}

// What a list selects is what its terms cover, resource by resource.
func TestWhatAListSelects(t *testing.T) {
	selected := 0
	for seed := range uint64(scaled(300)) {
		e := load(t, newDraw(seed+32e6).estate())
		g, err := gate.Compile(e, nil)
		require.NoError(t, err)
		bare, err := gate.Compile(e.With(), nil)
		require.NoError(t, err)
		var lists []estate.Resources
		for _, gr := range estate.Sorted(e.Grants) {
			lists = append(lists, gr.On)
			for _, term := range gr.On {
				term.Not = false
				lists = append(lists, estate.Resources{term})
			}
		}
		for _, s := range estate.Sorted(e.Scopes) {
			lists = append(lists, s.Resources)
		}
		for _, list := range lists {
			var want []int
			for r := range e.Tree.All() {
				if g.Covers(list, r) {
					want = append(want, r.Index)
				}
			}
			require.Equal(t, want, slices.Collect(g.Selected(list)), "seed %d: %v", seed, list)
			require.Equal(t, len(want), bare.Count(list))
			require.Equal(t, len(want) > 0, bare.CoversAny(list))
			selected += len(want)
		}
	}
	require.Greater(t, selected, 1000)
}

// The rows of a list are all that it covers, in order, be they few or many of all that is listed.
func TestRowsOfAListComeInOrder(t *testing.T) {
	e := uneven(t, 1000)
	g := compiled(t, e)
	few, many := 0, 0
	for _, gr := range estate.Sorted(e.Grants) {
		var want []int
		for r := range e.Tree.All() {
			if g.Covers(gr.On, r) {
				want = append(want, r.Index)
			}
		}
		n, known := g.Places.NumberOf(gr.On)
		require.True(t, known)
		require.Equal(t, want, slices.Collect(g.Places.RowsOf(n)), gr.ID)
		if len(want) > e.Tree.Len()/64 {
			many++
		} else if len(want) > 1 {
			few++
		}
	}
	require.Greater(t, few, 2)
	require.Greater(t, many, 5)
}
