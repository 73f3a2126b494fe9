package gate_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/change"
	"hiddengate/internal/clock"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/finding"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/shape"
	"hiddengate/internal/verify"
)

// drawnTests makes up tests and guarantees for an estate.
func drawnTests(d draw, e *estate.Estate) string {
	out := "tests:\n"
	who := func() string { return d.one("ana", "cai", "group:g0", "group:g1", "group:g2", "everyone") }
	where := func() string {
		if d.chance(30) {
			return d.one("scope:s0", "scope:s1", "everything")
		}
		return e.Tree.Address(d.IntN(e.Tree.Len()))
	}
	for i := range 8 {
		given := ""
		if d.chance(60) {
			given = fmt.Sprintf("given: {time: '2031-03-%02dT%02d:00', mfa: true}, ", 1+d.IntN(28), d.IntN(24))
		}
		out += fmt.Sprintf("  t%d: {who: '%s', %s%s: ['%s on %s']}\n", i, who(), given, d.one("allowed", "denied"),
			d.one("from use", "all", "up to change", "from change"), where())
	}
	out += "guarantees:\n"
	for i := range 6 {
		may, kind := "may: '"+d.one("from change", "all")+"'", d.one("never: ['"+who()+"']", "only: ['"+who()+"']",
			"at-most: 2", "requires: {mfa: true}", "at-least: 1", "never-both: [table.read, table.insert]")
		if strings.HasPrefix(kind, "never-both") {
			may = "same-resource: true"
		}
		out += fmt.Sprintf("  h%d: {%s, %s, on: '%s'}\n", i, kind, may, where())
	}
	return out
}

// Of an edit only such tests and guarantees are looked at again as it can turn; what is told is what all of them come
// to before and after it. So are the findings about tests.
func TestWhatTurnsIsWhatComesOutOtherwise(t *testing.T) {
	now := clock.Instant(1_900_000_000_000_000)
	turned, tests, hanging := 0, 0, 0
	for seed := range uint64(scaled(40)) {
		d := newDraw(seed + 33e6)
		text := d.estate()
		if seed%2 == 0 { // where a session limits roles, more is looked at again
			text, _, _ = strings.Cut(text, "separations:")
		}
		bare := load(t, text)
		settings, policy, _ := strings.Cut(text, "people:\n")
		files := fstest.MapFS{"hidden-gate.yaml": {Data: []byte(settings)},
			"policy.yaml": {Data: []byte("people:\n" + policy + "\n" + drawnTests(d, bare))}}
		before, err := policyfile.Load(files)
		require.NoError(t, err, "seed %d", seed)
		w := draft.New(files, before)
		what, _, err := drawnEdit(t, d, before, w)
		if err != nil || what == "" {
			continue
		}
		changes, err := w.Changes()
		require.NoError(t, err)
		var names []string
		for _, x := range changes {
			names = append(names, x.Name)
		}
		after, err := policyfile.Reload(files, w.FS(), before, names)
		if err != nil || len(names) == 0 {
			continue
		}
		var gates [2]*gate.Gate
		for k, e := range []*estate.Estate{before, after} {
			gates[k], err = gate.Compile(e, nil)
			require.NoError(t, err)
		}
		passes := func(k int, id string) (bool, bool) {
			r, err := verify.Run(gates[k], gates[k].Estate().Tests[id], now)
			return r.Passed(), err == nil
		}
		for _, how := range []change.How{{}, {Few: -1}, {Gate: gates[0]}, {Few: -1, Gate: gates[0]}, {Beside: gates[1]},
			{Few: -1, Beside: gates[1]}} {
			how.Since = now
			effect, err := change.Of(context.Background(), before, after, how)
			if err != nil {
				continue // too complex
			}
			told := map[string]bool{}
			c, err := effect.Consequences(context.Background(), now)
			if err != nil {
				continue // a test can't be run any more
			}
			for _, one := range c.Turned {
				told[one.What+" "+one.ID] = true
				turned++
			}
			for id := range after.Tests {
				tests++
				was, could := passes(0, id)
				is, can := passes(1, id)
				require.Equal(t, could && (!can || was != is), told["test "+id] && could, "seed %d, %s: test %s", seed, what, id)
			}
			for id, g := range after.Guarantees {
				var fails [2]bool
				for k := range gates {
					fails[k], err = verify.NewProver(gates[k], verify.Of{Since: now}).Fails(context.Background(),
						gates[k].Estate().Guarantees[g.ID])
					require.NoError(t, err)
				}
				require.Equal(t, fails[0] != fails[1], told["guarantee "+id], "seed %d, %s: guarantee %s", seed, what, id)
			}
			if !c.Part {
				var all, open [2]map[[2]string]bool // those that nobody accepted are told
				for k := range gates {
					all[k], open[k] = map[[2]string]bool{}, map[[2]string]bool{}
					found, err := finding.Run(context.Background(), gates[k], now)
					require.NoError(t, err)
					for _, f := range found {
						key := [2]string{f.Code, f.Message}
						if all[k][key] = true; f.Accepted == "" {
							open[k][key] = true
						}
						if f.Code == "clock-dependent-test" {
							hanging++
						}
					}
				}
				for k, list := range [][]finding.Found{c.Gone, c.Found} {
					told := map[[2]string]bool{}
					for _, f := range list {
						told[[2]string{f.Code, f.Message}] = true
					}
					want := map[[2]string]bool{}
					for key := range open[k] {
						if !all[1-k][key] {
							want[key] = true
						}
					}
					require.Equal(t, want, told, "seed %d, %s", seed, what)
				}
			}
		}
	}
	require.NotZero(t, tests)
	if shape.DrawsAll(testing.Short()) {
		require.Greater(t, turned, 5)
		require.NotZero(t, hanging)
	}
}
