package gate_test

import (
	"fmt"
	"strconv"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/change"
	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/shape"
	"hiddengate/internal/survey"
)

// What is told of two people's access, as for a copy of one of them, is what the oracle says differs.
func TestTwoPeopleDifferAsTheOracleSays(t *testing.T) {
	counts := map[string]int{}
	for seed := range uint64(scaled(40)) {
		d := newDraw(seed)
		e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(d.estate())}})
		require.NoError(t, err)
		who := d.Perm(len(drawnPeople))
		one, other := estate.Principal{ID: drawnPeople[who[0]]}, estate.Principal{ID: drawnPeople[who[1]]}
		since, err := e.Zone.ParseTime(d.one(drawnTimes[:3]...))
		require.NoError(t, err)
		var base *gate.Gate
		if seed%2 == 0 {
			base = compiled(t, e)
		}
		effect, err := change.Between(t.Context(), e, one, other, since, base)
		require.NoError(t, err)
		found := map[cellName][2]differing.Cell{}
		for i := range effect.Lines {
			l := &effect.Lines[i]
			for p := range l.Piles.All() {
				for address := range p.Addresses() {
					for _, op := range l.Operations {
						if l.Way != change.Alike && !l.OnRequest && validIn(e, e, op, address) {
							found[cellName{other, op, address}] = [2]differing.Cell{l.Old, l.New}
						}
					}
				}
			}
		}
		zone, err := time.LoadLocation(e.Zone.Name())
		require.NoError(t, err)
		o := oracle{e: e, zone: zone}
		for name := range cellNames(e, e) {
			if name.who != other {
				continue
			}
			twin := name
			twin.who = one
			cell, differs := found[name]
			if differs {
				counts["differs"]++
				x, ok := witnessOf(effect.Gates.Space(), cell, since)
				require.True(t, ok, "seed %d: %v: nothing differs", seed, name)
				require.NotEqual(t, o.judgeCell(twin, x), o.judgeCell(name, x), "seed %d: %v at %+v", seed, name, x)
				continue
			}
			counts["same"]++
			for range 3 {
				x := concrete{at: int64(since) + int64(d.IntN(1e9))*1e6, from: addresses()[d.IntN(3)], mfa: d.chance(50),
					signIn: d.one(estate.SignIns...), ago: drawnAgo[d.IntN(len(drawnAgo))],
					attrs: map[string]string{"device": d.one("managed", "own")}}
				require.Equal(t, o.judgeCell(twin, x), o.judgeCell(name, x), "seed %d: %v is not told, at %+v", seed, name, x)
			}
		}
	}
	require.Greater(t, counts["differs"], 20, counts)
	require.Greater(t, counts["same"], 20, counts)
}

// Whatever was done stays allowed when every role becomes as narrow as a log proposes, and grants that nobody used go.
func TestWhatALogProposesTakesNothingThatWasUsed(t *testing.T) {
	counts := map[string]int{}
	for seed := range uint64(scaled(100)) {
		d := newDraw(seed)
		e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(d.estate())}})
		require.NoError(t, err)
		g, err := gate.Compile(e, nil)
		require.NoError(t, err)
		trimmer := survey.NewTrimmer(g)
		actions := drawnActions(t, d, e, trimmer)
		trim := trimmer.Trim()
		refused := map[int]bool{}
		for _, r := range trim.Refused {
			refused[r.Line] = true
		}
		var edits []estate.Edit
		for _, r := range trim.Roles {
			edits = append(edits, estate.Put("roles", r.Narrower(g)))
			counts["narrower"]++
		}
		for _, gr := range trim.Grants {
			if len(gr.Never) == len(gr.Given) {
				edits = append(edits, estate.Drop("grants", gr.ID))
				counts["dropped"]++
			}
		}
		narrowed, err := gate.Compile(e.With(edits...), nil)
		require.NoError(t, err)
		again := survey.NewTrimmer(narrowed)
		for _, a := range actions {
			again.Take(a)
		}
		still := map[int]bool{}
		for _, r := range again.Trim().Refused {
			still[r.Line] = true
		}
		require.Equal(t, refused, still, "seed %d", seed)
		counts["allowed"] += len(actions) - len(refused)
	}
	require.Greater(t, counts["narrower"], 20, counts)
	require.Greater(t, counts["dropped"], 20, counts)
	require.Greater(t, counts["allowed"], 20, counts)
}

// drawnActions gives a trimmer some actions, of which many are allowed.
func drawnActions(t *testing.T, d draw, e *estate.Estate, trimmer *survey.Trimmer) (out []survey.Action) {
	var addresses []string
	for r := range e.Tree.All() {
		addresses = append(addresses, r.Address.String())
	}
	from, err := e.Zone.ParseTime("2026-10-24T12:00Z")
	require.NoError(t, err)
	for line := range 40 {
		out = append(out, survey.Action{At: from + clock.Instant(d.IntN(1e6))*1e6, Line: line + 1,
			Who: estate.Principal{ID: d.one(drawnPeople...)}, Operation: d.one(drawnOps...), Resource: d.one(addresses...)})
		trimmer.Take(out[line])
	}
	return out
}

// Every edit that is proposed for a request turns it, and what it is said to do beside is what its cells come to.
func TestProposedEditsTurnTheRequest(t *testing.T) {
	counts := map[gate.Outcome]int{}
	for seed := range uint64(shape.Drawn(8, 2, testing.Short())) { // each takes long
		d := newDraw(seed)
		e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(d.estate())}})
		require.NoError(t, err)
		g, err := gate.Compile(e, nil)
		require.NoError(t, err)
		now, err := e.Zone.ParseTime(drawnTimes[0])
		require.NoError(t, err)
		for range 4 {
			req := gate.Request{Subject: estate.Principal{ID: d.one(drawnPeople...)}, Operation: d.one(drawnOps...),
				Resource: d.one("db:a/b", "db:d", "dbx:a", "app:a", "app"), Context: g.NewContext()}
			req.Context.Time(now)
			was, err := g.Decide(req)
			if err != nil {
				continue // not listed, or not valid there
			}
			want := gate.Allow
			if was == gate.Allow {
				want = gate.Deny
			}
			fixes, _, err := change.Fixes(t.Context(), g, req, now, 100, false, strconv.Quote)
			require.NoError(t, err)
			for _, f := range fixes {
				about := fmt.Sprintf("seed %d: %v for %s %s %s", seed, f.Commands, req.Subject, req.Operation, req.Resource)
				edited, err := gate.Compile(f.Effect.After, nil)
				require.NoError(t, err, about)
				again := req
				again.Context = edited.NewContext()
				again.Context.Time(now)
				is, err := edited.Decide(again)
				require.NoError(t, err, about)
				require.Equal(t, want, is, about)
				counts[want]++
				others, operations, places := map[estate.Principal]bool{}, map[string]bool{}, map[string]bool{}
				f.Effect.Rows(func(r change.Row) {
					if r.Subject != req.Subject {
						others[r.Subject] = true
					}
					operations[r.Operation], places[r.Resource] = true, true
				})
				beside := f.Beside
				require.Equal(t, []int{len(others), len(operations), len(places)},
					[]int{beside.Others, len(beside.Operations), beside.Resources}, about)
			}
		}
	}
	if shape.DrawsAll(testing.Short()) {
		require.Positive(t, counts[gate.Allow], counts)
		require.Positive(t, counts[gate.Deny], counts)
	}
}
