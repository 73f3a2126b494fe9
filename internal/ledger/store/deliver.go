package store

import (
	"database/sql"
	"errors"

	"hiddengate/internal/clock"
)

// Delivery is how far the notices of a name have come: the newest event that was sent or tried.
type Delivery struct {
	Event int64
	Tries int           // of that event
	Due   clock.Instant // when it is tried again
	Done  bool          // it was sent, passed over or given up
}

// Delivered tells how far the notices of a name have come; ok is false where there were none yet.
func (r *Reader) Delivered(name string) (d Delivery, ok bool, err error) {
	err = r.row("SELECT event, try, due, done FROM deliveries WHERE name = ? ORDER BY event DESC, try DESC LIMIT 1", name).
		Scan(&d.Event, &d.Tries, &d.Due, &d.Done)
	if errors.Is(err, sql.ErrNoRows) {
		return d, false, nil
	}
	return d, err == nil, err
}

// Deliver keeps how far the notices of a name have come. Who was quicker counts.
func (w *Writer) Deliver(name string, d Delivery) error {
	return w.exec("INSERT INTO deliveries (name, event, try, due, done) VALUES (?, ?, ?, ?, ?) ON CONFLICT DO NOTHING",
		name, d.Event, d.Tries, int64(d.Due), d.Done)
}
