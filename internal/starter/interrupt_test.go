package starter

import (
	"context"
	"maps"
	"slices"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/change"
	"hiddengate/internal/clock"
	"hiddengate/internal/escalation"
	"hiddengate/internal/estate"
	"hiddengate/internal/finding"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/auditing"
	"hiddengate/internal/gate/counting"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/survey"
	"hiddengate/internal/verify"
)

// Whatever looks at all of an estate ends with its context, and says so instead of an answer.
func TestWhatLooksAtAllEndsWithItsContext(t *testing.T) {
	e, err := policyfile.Load(Demo())
	require.NoError(t, err)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	now, err := clock.UTC.ParseTime("2031-11-23T12:00Z")
	require.NoError(t, err)
	fewer := e.With(estate.Clear("grants"))
	anything := func(*estate.Operation) bool { return true }
	open := func(g *gate.Gate) (*gate.Context, error) { return g.NewContext(), nil }
	all := map[string]func(ctx context.Context) error{
		"check": func(ctx context.Context) error {
			_, err := finding.Run(ctx, g, now)
			return err
		},
		"test": func(ctx context.Context) error {
			_, err := verify.RunAll(ctx, g, estate.Sorted(e.Tests), now)
			return err
		},
		"prove": func(ctx context.Context) error {
			for _, one := range e.Guarantees {
				if _, err := verify.NewProver(g, verify.Of{Since: now}).Judge(ctx, one); err != nil {
					return err
				}
			}
			return nil
		},
		"steps": func(ctx context.Context) error {
			_, err := escalation.Work(ctx, e, now, nil)
			return err
		},
		"cover": func(ctx context.Context) error {
			_, err := survey.Cover(ctx, e, survey.Watch{Since: now, What: anything})
			return err
		},
		"grid": func(ctx context.Context) error {
			_, err := survey.NewGrid(ctx, e, survey.Question{Columns: survey.Columns(g, survey.Across{}), Ask: open})
			return err
		},
		"holders": func(ctx context.Context) error {
			var everything []*estate.Resource
			for i := range e.Tree.Len() {
				everything = append(everything, e.Tree.At(i))
			}
			_, err := counting.Holders(ctx, g, g.NewContext(), counting.PlacesOf(everything...), anything)
			return err
		},
		"lacking": func(ctx context.Context) error {
			_, err := auditing.Lacking(ctx, g, 1)
			return err
		},
		"cells": func(ctx context.Context) error {
			cells, err := differing.CompileCells(e, differing.Scene{})
			require.NoError(t, err)
			return cells.Each(ctx, now, func(differing.Access) bool { return true })
		},
		"compare": func(ctx context.Context) error {
			_, err := change.Of(ctx, fewer, e, change.How{Since: now})
			return err
		},
		"judge": func(ctx context.Context) error {
			_, err := change.Judge(ctx, fewer, e, estate.Principal{ID: "ines.okafor"}, now)
			return err
		},
		"fix": func(ctx context.Context) error {
			_, _, err := change.Fixes(ctx, g, gate.Request{Subject: estate.Principal{ID: "marek.dvorin"},
				Operation: "control.override", Resource: "north-dish", Context: g.NewContext()}, now, 6, false, strconv.Quote)
			return err
		},
	}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		over, cancel := context.WithCancel(t.Context())
		assert.NoError(t, all[name](over), name)
		cancel()
		assert.ErrorIs(t, all[name](over), context.Canceled, name)
	}
}
