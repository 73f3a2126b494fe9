// Package store keeps ledgers: in a file of SQLite, or in a database of PostgreSQL. Both have the same tables, and one
// implementation. Rows are put into them, and neither changed nor taken out. What the tables hold beside the events
// is an index that follows from them: the newest row of a request or file counts.
package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/clock"
	"hiddengate/internal/ledger"
)

// version is that of the tables. A program that is older than the tables refuses them.
const version = 1

// Errors of a store that are not the caller's.
var (
	ErrNewer  = errors.New("the ledger was written by a newer hgate; install that one")
	ErrLocked = errors.New("the ledger is in use by another command that does not end")
	ErrDamage = errors.New("the ledger holds what hgate did not write")
)

// Store is one ledger. Its methods may be called from several goroutines; commands on other machines may use the same
// ledger at the same time.
type Store struct {
	db      *sql.DB
	dialect dialect
	name    string // where it is, for messages
	parsed  map[string]*sql.Stmt
}

// dialect is how databases differ.
type dialect struct {
	rebind func(query string) string // from `?` to what the database takes
	// begin starts a transaction that sees no other's writes until it ends, and whose own writes are refused if another
	// wrote what it read
	begin func(ctx context.Context, db *sql.DB, write bool) (tx *sql.Tx, release func(), err error)
	again func(error) bool // the transaction lost a race and may be tried again
	tell  func(error) error
}

// Reader reads a ledger as it stands at one moment.
type Reader struct {
	ctx context.Context
	tx  *sql.Tx
	s   *Store
}

// Writer reads and appends. What it appends is kept as a whole, or not at all.
type Writer struct {
	Reader
	head ledger.Head
	id   string
}

// Name tells where the ledger is.
func (s *Store) Name() string { return s.name }

// Close lets go of the ledger.
func (s *Store) Close() error { return s.db.Close() }

// mostTries bounds how often a transaction is tried that loses races.
const mostTries = 200

// View lets do read the ledger.
func (s *Store) View(ctx context.Context, do func(*Reader) error) error {
	tx, release, err := s.dialect.begin(ctx, s.db, false)
	if err != nil {
		return s.told(err)
	}
	defer release()
	defer func() { _ = tx.Rollback() }()
	return s.told(do(&Reader{ctx, tx, s}))
}

// Update lets do read the ledger and append to it, as if nobody else did meanwhile. do is called again where another
// writer came first; if it fails, nothing is appended.
func (s *Store) Update(ctx context.Context, do func(*Writer) error) error {
	for try := 0; ; try++ {
		err := s.once(ctx, do)
		if err == nil || !s.dialect.again(err) || ctx.Err() != nil {
			return s.told(err)
		}
		if try == mostTries {
			return ErrLocked
		}
	}
}

func (s *Store) once(ctx context.Context, do func(*Writer) error) error {
	tx, release, err := s.dialect.begin(ctx, s.db, true)
	if err != nil {
		return err
	}
	defer release()
	defer func() { _ = tx.Rollback() }()
	w := &Writer{Reader: Reader{ctx, tx, s}}
	if w.head, err = w.Head(); err == nil {
		err = do(w)
	}
	if err != nil {
		return err
	}
	return tx.Commit()
}

// told says of a fault of the database what it means to a user.
func (s *Store) told(err error) error {
	if err == nil || errors.Is(err, ErrDamage) || errors.Is(err, ErrNewer) {
		return err
	}
	return s.dialect.tell(err)
}

// hot are the statements of every event, which SQLite parses once.
var hot = []string{newest, intoEvents, intoRequests}

const (
	newest       = "SELECT number, doc FROM events ORDER BY number DESC LIMIT 1"
	intoEvents   = "INSERT INTO events (number, at, actor, kind, about, doc) VALUES (?, ?, ?, ?, ?, ?)"
	intoRequests = "INSERT INTO requests (number, event, until) VALUES (?, ?, ?)"
)

func (r *Reader) query(query string, args ...any) (*sql.Rows, error) {
	return r.tx.QueryContext(r.ctx, r.s.dialect.rebind(query), args...)
}

func (r *Reader) row(query string, args ...any) *sql.Row {
	if s := r.s.parsed[query]; s != nil {
		return r.tx.StmtContext(r.ctx, s).QueryRowContext(r.ctx, args...)
	}
	return r.tx.QueryRowContext(r.ctx, r.s.dialect.rebind(query), args...)
}

func (w *Writer) exec(query string, args ...any) error {
	if s := w.s.parsed[query]; s != nil {
		_, err := w.tx.StmtContext(w.ctx, s).ExecContext(w.ctx, args...)
		return err
	}
	_, err := w.tx.ExecContext(w.ctx, w.s.dialect.rebind(query), args...)
	return err
}

// ID gives the ledger's id; "" if nothing was ever appended.
func (r *Reader) ID() (string, error) {
	var id string
	err := r.row("SELECT value FROM ledger WHERE name = 'id'").Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return id, err
}

// Head gives the newest event's number and hash.
func (r *Reader) Head() (ledger.Head, error) {
	var number int64
	var doc string
	err := r.row(newest).Scan(&number, &doc)
	if errors.Is(err, sql.ErrNoRows) {
		return ledger.Head{}, nil
	}
	if err != nil {
		return ledger.Head{}, err
	}
	var head ledger.Head // of which the rest is looked at where the event is read
	if err := json.Unmarshal([]byte(doc), &head); err != nil || head.Number != number || head.Hash == "" {
		return head, fmt.Errorf("%w: event %d; see `hgate log verify`", ErrDamage, number)
	}
	return head, nil
}

func decode(number int64, doc string) (ledger.Event, error) {
	e, err := ledger.Decode([]byte(doc))
	if err != nil || e.Number != number {
		return e, fmt.Errorf("%w: event %d; see `hgate log verify`", ErrDamage, number)
	}
	return e, nil
}

// Event gives the event of a number; ok is false if there is none.
func (r *Reader) Event(number int64) (e ledger.Event, ok bool, err error) {
	var doc string
	err = r.row("SELECT doc FROM events WHERE number = ?", number).Scan(&doc)
	if errors.Is(err, sql.ErrNoRows) {
		return e, false, nil
	}
	if err == nil {
		e, err = decode(number, doc)
	}
	return e, err == nil, err
}

// Filter says which events are wanted; what is zero asks for nothing.
type Filter struct {
	After       int64 // only those with higher numbers
	Actor       string
	Kinds       []string // of which one, or a beginning as `loan.`, must be the event's
	From, Until clock.Instant
}

// Events visits events by number, until each returns false. What is no event is told as wrong, and stands in no other
// argument; whether an event is written as hgate writes it is not asked.
func (r *Reader) Events(f Filter, each func(number int64, e ledger.Event, wrong error) bool) error {
	where, args := f.where()
	query := "SELECT number, doc FROM events WHERE " + where + " ORDER BY number"
	return r.each(query, args, func(number int64, doc []byte) bool {
		e, wrong := ledger.Skim(doc)
		return each(number, e, wrong)
	})
}

// Opened is one event as it stands in the store.
type Opened struct {
	Number int64
	Event  ledger.Event
	Hash   string // that it has to have
	Wrong  error  // it is no event as hgate writes one, and the rest is nothing
}

// Opened visits all events by number, each looked at byte for byte, until each returns false.
func (r *Reader) Opened(each func(Opened) bool) error {
	return r.each("SELECT number, doc FROM events ORDER BY number", nil, func(number int64, doc []byte) bool {
		e, hash, wrong := ledger.Open(doc)
		return each(Opened{number, e, hash, wrong})
	})
}

// Newest gives so many of the events that are wanted and have numbers below another, the newest first.
func (r *Reader) Newest(f Filter, before int64, most int) (out []ledger.Event, err error) {
	where, args := f.where()
	query := fmt.Sprintf("SELECT number, doc FROM events WHERE %s AND number < ? ORDER BY number DESC LIMIT %d", where,
		most)
	err = r.each(query, append(args, before), func(_ int64, doc []byte) bool {
		if e, wrong := ledger.Skim(doc); wrong == nil {
			out = append(out, e)
		}
		return true
	})
	return out, err
}

// where writes what is wanted as a condition.
func (f *Filter) where() (query string, args []any) {
	query, args = "number > ?", []any{f.After}
	if f.Actor != "" {
		query, args = query+" AND actor = ?", append(args, f.Actor)
	}
	if f.From > 0 {
		query, args = query+" AND at >= ?", append(args, int64(f.From))
	}
	if f.Until > 0 {
		query, args = query+" AND at < ?", append(args, int64(f.Until))
	}
	var kinds []string
	for _, kind := range f.Kinds {
		if area, all := strings.CutSuffix(kind, "."); all {
			kinds = append(kinds, "kind >= ? AND kind < ?")
			args = append(args, kind, area+"/") // the character behind the dot
			continue
		}
		kinds = append(kinds, "kind = ?")
		args = append(args, kind)
	}
	if kinds != nil {
		query += " AND (" + strings.Join(kinds, " OR ") + ")"
	}
	return query, args
}

// each visits rows of numbers and texts of events.
func (r *Reader) each(query string, args []any, visit func(number int64, doc []byte) bool) error {
	rows, err := r.query(query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var number int64
		var doc sql.RawBytes
		if err := rows.Scan(&number, &doc); err != nil {
			return err
		}
		if !visit(number, doc) {
			return nil
		}
	}
	return rows.Err()
}

// Reviews gives the events about reviews, in order.
func (r *Reader) Reviews() ([]ledger.Event, error) {
	return r.list("SELECT number, doc FROM events WHERE kind >= 'review.' AND kind < 'review/' ORDER BY number")
}

// Imports gives the events by which other ledgers were taken over, in order.
func (r *Reader) Imports() ([]ledger.Event, error) {
	return r.list("SELECT number, doc FROM events WHERE kind = 'ledger.imported' ORDER BY number")
}

// About gives the events about a request, in order, the first being that by which it was made.
func (r *Reader) About(request int64) ([]ledger.Event, error) {
	return r.list("SELECT number, doc FROM events WHERE number = ? OR about > 0 AND about = ? ORDER BY number", request,
		request)
}

func (r *Reader) list(query string, args ...any) (out []ledger.Event, err error) {
	rows, err := r.query(query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var number int64
		var doc string
		if err := rows.Scan(&number, &doc); err != nil {
			return nil, err
		}
		e, err := decode(number, doc)
		if err != nil {
			return nil, err
		}
		out = append(out, e)
	}
	return out, rows.Err()
}

// Mattering gives the numbers of the requests that may matter at an instant or later, by number: of some kinds, or of
// all where none is named.
func (r *Reader) Mattering(from clock.Instant, kinds ...ledger.Kind) (out []int64, err error) {
	// in no order: a database that was asked for one might go through all of them for it
	query, args := "SELECT number FROM requests r WHERE until > ? AND NOT EXISTS "+
		"(SELECT 1 FROM requests n WHERE n.number = r.number AND n.event > r.event)", []any{int64(from)}
	if len(kinds) > 0 {
		query += " AND EXISTS (SELECT 1 FROM events e WHERE e.number = r.number AND e.kind IN (" +
			strings.TrimSuffix(strings.Repeat("?,", len(kinds)), ",") + "))"
		for _, k := range kinds {
			args = append(args, string(k))
		}
	}
	rows, err := r.query(query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var n int64
		if err := rows.Scan(&n); err != nil {
			return nil, err
		}
		out = append(out, n)
	}
	slices.Sort(out)
	return out, rows.Err()
}

// Files gives the hashes of the policy's files as the newest events that name them left them.
func (r *Reader) Files() (map[string]string, error) {
	// names one after another, each by a look into the index, and then what was newest of each
	rows, err := r.query("WITH RECURSIVE n(name) AS (SELECT min(name) FROM files UNION ALL " +
		"SELECT (SELECT min(f.name) FROM files f WHERE f.name > n.name) FROM n WHERE n.name IS NOT NULL) " +
		"SELECT name, (SELECT hash FROM files f WHERE f.name = n.name ORDER BY event DESC LIMIT 1) FROM n " +
		"WHERE name IS NOT NULL")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]string{}
	for rows.Next() {
		var name, hash string
		if err := rows.Scan(&name, &hash); err != nil {
			return nil, err
		}
		if hash != "" { // else the file went
			out[name] = hash
		}
	}
	return out, rows.Err()
}
