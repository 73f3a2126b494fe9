//go:build unix

package store_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
)

// elsewhere is a ledger of another id.
func elsewhere(t *testing.T, events ...ledger.Event) (out []ledger.Event) {
	var head ledger.Head
	for _, e := range events {
		e.Ledger = "there"
		e, _, err := head.After(e)
		require.NoError(t, err)
		head = ledger.Head{Number: e.Number, Hash: e.Hash}
		out = append(out, e)
	}
	return out
}

// Another ledger is taken over bit by bit: what is about a request finds it under the number that it has here.
func TestAnotherLedgerIsTakenOver(t *testing.T) {
	everywhere(t, func(t *testing.T, p place) {
		s := p.open(t)
		put(t, s, event(ledger.Began, 0, ledger.BeganBody{}), request(9))
		began := event(ledger.Began, 0, ledger.BeganBody{})
		other := elsewhere(t, began, request(60), request(61), event(ledger.Approved, 2, ledger.DecisionBody{}),
			event(ledger.Refused, 3, ledger.DecisionBody{}), request(62), event(ledger.Finished, 2, ledger.DecisionBody{}))
		take := func(events []ledger.Event) (taken int, err error) {
			head := ledger.Head{Number: int64(len(events)), Hash: events[len(events)-1].Hash}
			by := event(ledger.Imported, 0, ledger.ImportedBody{Ledger: "there", Head: head.String()})
			err = s.Update(t.Context(), func(w *store.Writer) error {
				taken, err = w.TakeOver(by, events)
				return err
			})
			return taken, err
		}
		for _, upTo := range []int{3, 4, 4, 7} {
			_, err := take(other[:upTo])
			require.NoError(t, err)
		}
		var kinds []ledger.Kind
		about := map[int64]int64{}
		for _, e := range all(t, s) {
			kinds = append(kinds, e.Kind)
			about[e.Number] = e.About
		}
		assert.Equal(t, []ledger.Kind{ledger.Began, ledger.Requested,
			ledger.Imported, ledger.Began, ledger.Requested, ledger.Requested,
			ledger.Imported, ledger.Approved,
			ledger.Imported, ledger.Refused, ledger.Requested, ledger.Finished}, kinds)
		assert.Equal(t, []int64{5, 6, 5}, []int64{about[8], about[10], about[12]})
		require.NoError(t, s.View(t.Context(), func(r *store.Reader) error {
			stale, err := r.Stale()
			assert.Empty(t, stale)
			return err
		}))

		var wrong *store.ImportError
		_, err := take(other[:6])
		require.ErrorAs(t, err, &wrong)
		assert.Contains(t, wrong.Why, "7 events of that ledger were taken over before, and the file holds 6")
		_, err = take(elsewhere(t, began, request(1), request(2), request(3), request(4), request(5), request(6), request(7)))
		require.ErrorAs(t, err, &wrong)
		assert.Contains(t, wrong.Why, "event 7 of the file is not the one")
		assert.Len(t, all(t, s), 12)
	})
}
