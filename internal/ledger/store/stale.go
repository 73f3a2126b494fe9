package store

import (
	"slices"

	"hiddengate/internal/ledger"
)

// Stale lists the requests of which the index does not say what follows from the events, by number.
func (r *Reader) Stale() (out []int64, err error) {
	is := map[int64]int64{}
	rows, err := r.query("SELECT number, until FROM requests ORDER BY number, event") // the newest comes last
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var number, until int64
		if err := rows.Scan(&number, &until); err != nil {
			return nil, err
		}
		is[number] = until
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	about := map[int64][]ledger.Event{}
	if err := r.Events(Filter{}, func(_ int64, e ledger.Event, wrong error) bool {
		switch {
		case wrong != nil:
		case e.Kind.IsRequest():
			about[e.Number] = []ledger.Event{e}
		case e.About > 0 && about[e.About] != nil:
			about[e.About] = append(about[e.About], e)
		}
		return true
	}); err != nil {
		return nil, err
	}
	for number, events := range about {
		if until, ok := is[number]; !ok || until != int64(ledger.Until(events)) {
			out = append(out, number)
		}
		delete(is, number)
	}
	for number := range is {
		out = append(out, number)
	}
	slices.Sort(out)
	return out, nil
}
