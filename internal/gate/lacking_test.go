package gate_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/auditing"
	"hiddengate/internal/gate/differing"
)

// What requests find missing is told, for that subject, operation and need. Whatever is told is given by the grant that
// is named, in a place that is named, to a subject who has not all of what is needed there.
func TestWhatIsLackingIsWhatRequestsFind(t *testing.T) {
	found, whole := 0, 0
	for seed := range 60 {
		d := newDraw(uint64(seed) + 90_000)
		e := load(t, d.estate())
		g := compiled(t, e)
		all, err := auditing.Lacking(t.Context(), g, 1000)
		require.NoError(t, err)
		told := map[[3]string]bool{} // subject, operation, need
		cells := map[estate.Principal]*differing.Cells{}
		for _, l := range all {
			assert.True(t, slices.IsSortedFunc(l.Subjects, func(a, b estate.Principal) int { return int(a.Kind) - int(b.Kind) }))
			assert.Len(t, l.Places, l.Count)
			assert.Len(t, l.Subjects, l.Number)
			for _, who := range l.Subjects {
				if cells[who] == nil {
					cells[who], err = differing.CompileCells(e, differing.Scene{Only: map[estate.Principal]bool{who: true}})
					require.NoError(t, err)
				}
				told[[3]string{who.String(), l.Operation, l.Need}] = true
				assert.True(t, lacks(t, cells[who], e, l, who), "seed %d: grant %s gives %s to %s on %s", seed, l.Grant,
					l.Operation, who, l.Places[0])
			}
		}
		whole += len(told)
		for _, q := range questions(d, e, 200) {
			o := e.Operations[q.operation]
			r, err := g.Place(q.where)
			require.NoError(t, err)
			if r.Index < 0 || len(o.Needs) == 0 || q.decide(t, g) != gate.Allow {
				continue
			}
			for _, need := range o.Needs {
				at := r
				for at != nil && e.Offer(at.System.Kind.ID).Valid(need, at.Type) == nil {
					at = at.Parent
				}
				if at == nil {
					continue
				}
				got, err := g.Decide(gate.Request{Subject: q.who, Operation: need, Resource: at.Address.String(),
					Context: q.request.context(g)})
				require.NoError(t, err)
				if got == gate.Deny {
					found++
					assert.True(t, told[[3]string{q.who.String(), o.Name, need}], "seed %d: %s may %s on %s and not %s", seed, q.who,
						o.Name, r.Address, need)
				}
			}
		}
		if t.Failed() {
			return
		}
	}
	assert.Greater(t, found, 100)
	assert.Greater(t, whole, 1000)
}

// lacks says whether the grant goes to the subject and covers a place that is named, and the subject's need there is
// not held whenever the operation is.
func lacks(t *testing.T, cells *differing.Cells, e *estate.Estate, l auditing.Lack, who estate.Principal) bool {
	gr := e.Grants[l.Grant]
	if !slices.Contains(cells.Members(gr.To), who) {
		return false
	}
	when := map[[2]string]differing.Cell{}
	require.NoError(t, cells.Each(t.Context(), clock.Beginning, func(a differing.Access) bool {
		for _, p := range a.Piles {
			for at := range p.Addresses() {
				when[[2]string{a.Operation, at}] = a.Cell
			}
		}
		return true
	}))
	return slices.ContainsFunc(l.Places, func(place string) bool {
		r := e.Tree.At(e.Tree.Find(place))
		at := r
		for at != nil && e.Offer(at.System.Kind.ID).Valid(l.Need, at.Type) == nil {
			at = at.Parent
		}
		has, ok := when[[2]string{l.Operation, place}]
		if !ok || at == nil || !cells.Covers(gr.On, r) {
			return false
		}
		inside, err := cells.Space().Contains(when[[2]string{l.Need, at.Address.String()}].Possible, has.Possible)
		return err == nil && !inside
	})
}
