package gate_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/newplace"
)

// An asker tells what single decisions do, on what is listed and on what a system judges though it is not.
func TestAnAskerAnswersAsDecisionsDo(t *testing.T) {
	unlisted, allowed := 0, 0
	for seed := range uint64(scaled(100)) {
		e := load(t, newDraw(seed+8e6).estate())
		g, err := gate.Compile(e, nil)
		require.NoError(t, err)
		var lists []estate.Resources
		for _, gr := range e.Grants {
			lists = append(lists, gr.On)
		}
		c := g.NewContext()
		c.Time(1_900_000_000_000_000)
		for _, who := range g.Members(estate.Subjects{{Principal: estate.Principal{Kind: estate.IsEveryone}}}) {
			asker, err := g.Asker(who, c)
			require.NoError(t, err)
			agree := func(at string, has *gate.OperationOutcomes, err error) {
				if err != nil {
					return // too complex, for both
				}
				for i, o := range has.Operations {
					outcome, err := g.Decide(gate.Request{Subject: who, Operation: o.Name, Resource: at, Context: c})
					require.NoError(t, err)
					require.Equal(t, outcome, has.Outcomes[i], "seed %d: %s %s %s", seed, who, o.Name, at)
					if outcome == gate.Allow {
						allowed++
					}
				}
			}
			for row := range e.Tree.Len() {
				has, err := asker.On(row)
				agree(e.Tree.Address(row), has, err)
			}
			for _, at := range newplace.ForLists(e, lists) {
				has, err := asker.OnUnlisted(at)
				agree(at.String(), has, err)
				unlisted++
			}
		}
	}
	require.NotZero(t, unlisted)
	require.NotZero(t, allowed)
}
