package gate_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// A gate is that of an estate that says more tests and guarantees, and of none that says anything else otherwise.
func TestAGateOfOtherTestsIsTheSame(t *testing.T) {
	d := newDraw(48e6)
	e := load(t, d.estate())
	g := compiled(t, e)
	promised := e.With(estate.Put("guarantees", &estate.Guarantee{Object: estate.Object{ID: "new"}, Kind: "never"}),
		estate.Put("tests", &estate.Test{Object: estate.Object{ID: "new"}}))
	is := g.Restated(promised)
	require.NotNil(t, is)
	require.Same(t, promised, is.Estate())
	require.Same(t, e, g.Estate())

	var none *gate.Gate
	require.Nil(t, none.Restated(e))
	for _, section := range estate.SectionNames {
		if section != "tests" && section != "guarantees" {
			require.Nil(t, g.Restated(e.With(estate.Own(section))), section)
		}
	}
}
