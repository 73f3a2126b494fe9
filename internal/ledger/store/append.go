package store

import (
	"encoding/json"
	"slices"

	"hiddengate/internal/clock"
	"hiddengate/internal/ledger"
)

// ID gives the ledger's id, also of one that this transaction began.
func (w *Writer) ID() (string, error) {
	if w.id != "" {
		return w.id, nil
	}
	return w.Reader.ID()
}

// Head gives the newest event's number and hash, those that this transaction appends included.
func (w *Writer) Head() (ledger.Head, error) {
	if w.head.Number > 0 {
		return w.head, nil
	}
	return w.Reader.Head()
}

// Begin gives the ledger its id, which its first event says too.
func (w *Writer) Begin(id string) error {
	w.id = id
	return w.exec("INSERT INTO ledger (name, value) VALUES ('id', ?)", id)
}

// Append puts an event behind the newest one. It gives it as it is kept.
func (w *Writer) Append(e ledger.Event) (ledger.Event, error) {
	e, doc, err := w.head.After(e)
	if err != nil {
		return e, err
	}
	if err := w.exec(intoEvents, e.Number, int64(e.Time), e.Actor, string(e.Kind), e.About, string(doc)); err != nil {
		return e, err
	}
	w.head = ledger.Head{Number: e.Number, Hash: e.Hash}
	return e, w.index(e)
}

// index keeps what follows from an event where it is found quickly.
func (w *Writer) index(e ledger.Event) error {
	switch e.Kind {
	case ledger.Requested, ledger.Approved, ledger.Refused, ledger.Finished:
		request := e.About
		if e.Kind == ledger.Requested {
			request = e.Number
		}
		events := []ledger.Event{e}
		if e.Kind != ledger.Requested {
			var err error
			if events, err = w.About(request); err != nil {
				return err
			}
		}
		return w.exec(intoRequests, request, e.Number, int64(ledger.Until(events)))
	case ledger.Began, ledger.PolicyChanged, ledger.PolicyFound:
		if id, err := w.ID(); err != nil || e.Ledger != id {
			return err // another ledger's files are no longer as they were there
		}
		var body ledger.PolicyBody
		if err := json.Unmarshal(e.Body, &body); err != nil {
			return err
		}
		for _, f := range body.Files {
			if err := w.exec("INSERT INTO files (name, event, hash) VALUES (?, ?, ?)", f.Name, e.Number, f.Is); err != nil {
				return err
			}
		}
	}
	return nil
}

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
		case e.Kind == ledger.Requested:
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

// Find finds the number under which the statement of an event stands here.
func (r *Reader) Find(e ledger.Event) (number int64, ok bool, err error) {
	id := e.ID()
	err = r.Events(Filter{Actor: e.Actor, From: clock.Instant(e.Time), Until: clock.Instant(e.Time) + 1},
		func(n int64, one ledger.Event, wrong error) bool {
			ok = wrong == nil && one.ID() == id
			number = n
			return !ok
		})
	return number, ok, err
}
