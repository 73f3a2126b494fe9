package store

import (
	"encoding/json"

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
	case ledger.Requested, ledger.Wanted, ledger.Approved, ledger.Refused, ledger.Finished, ledger.Issued:
		request := e.About
		if e.Kind.IsRequest() {
			request = e.Number
		}
		events := []ledger.Event{e}
		if !e.Kind.IsRequest() {
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
