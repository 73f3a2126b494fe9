package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"hiddengate/internal/private"
)

var sqliteSchema = []string{
	"CREATE TABLE ledger (name TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID",
	"CREATE TABLE events (number INTEGER PRIMARY KEY, at INTEGER NOT NULL, actor TEXT NOT NULL, kind TEXT NOT NULL, " +
		"about INTEGER NOT NULL, doc TEXT NOT NULL)",
	"CREATE INDEX events_about ON events (about) WHERE about > 0",
	"CREATE INDEX events_imported ON events (number) WHERE kind = 'ledger.imported'",
	"CREATE INDEX events_review ON events (number) WHERE kind >= 'review.' AND kind < 'review/'",
	"CREATE TABLE requests (number INTEGER NOT NULL, event INTEGER NOT NULL, until INTEGER NOT NULL, " +
		"PRIMARY KEY (number, event)) WITHOUT ROWID",
	"CREATE INDEX requests_until ON requests (until)",
	"CREATE TABLE files (name TEXT NOT NULL, event INTEGER NOT NULL, hash TEXT NOT NULL, PRIMARY KEY (name, event)) " +
		"WITHOUT ROWID",
	"CREATE TABLE deliveries (name TEXT NOT NULL, event INTEGER NOT NULL, try INTEGER NOT NULL, due INTEGER NOT NULL, " +
		"done BOOLEAN NOT NULL, PRIMARY KEY (name, event, try)) WITHOUT ROWID",
	// What was written stays as it was, whatever is asked of the database by mistake.
	"CREATE TRIGGER events_stay BEFORE UPDATE ON events BEGIN SELECT RAISE(ABORT, 'events are not changed'); END",
	"CREATE TRIGGER events_last BEFORE DELETE ON events BEGIN SELECT RAISE(ABORT, 'events are not removed'); END",
	fmt.Sprintf("INSERT INTO ledger (name, value) VALUES ('version', '%d')", version),
}

// patience is how long a command waits for another that writes.
const patience = 10 * time.Second

// OpenFile opens the ledger in a file of SQLite. The file and its folder must be the user's alone; make says to make
// them where they are not there. Otherwise the error is fs.ErrNotExist.
func OpenFile(ctx context.Context, name string, make bool) (*Store, error) {
	if err := prepare(name, make); err != nil {
		return nil, err
	}
	query := url.Values{"_txlock": {"immediate"}, "_pragma": {
		fmt.Sprintf("busy_timeout(%d)", patience.Milliseconds()), "synchronous(FULL)", "foreign_keys(1)",
		"trusted_schema(0)",
	}}
	dsn := url.URL{
		Scheme:   "file",
		Opaque:   (&url.URL{Path: filepath.ToSlash(name)}).EscapedPath(),
		RawQuery: query.Encode(),
	}
	db, err := sql.Open("sqlite", dsn.String())
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	s := &Store{db: db, name: name, dialect: dialect{
		rebind: func(query string) string { return query },
		begin: func(ctx context.Context, db *sql.DB, write bool) (*sql.Tx, func(), error) {
			tx, err := db.BeginTx(ctx, &sql.TxOptions{ReadOnly: !write})
			return tx, func() {}, err
		},
		again: func(error) bool { return false }, // writers wait for one another
		tell:  tellSQLite(name),
	}}
	err = s.settle(ctx)
	s.parsed = map[string]*sql.Stmt{}
	for _, query := range hot {
		if err == nil {
			s.parsed[query], err = db.PrepareContext(ctx, query)
		}
	}
	if err != nil {
		db.Close()
		return nil, s.told(err)
	}
	return s, nil
}

// prepare sees that the file is a plain one and the user's alone, and makes it where it may.
func prepare(name string, make bool) error {
	if make {
		if err := folder(filepath.Dir(name)); err != nil {
			return err
		}
		f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
		if err == nil {
			err = f.Close()
		}
		if err != nil && !errors.Is(err, fs.ErrExist) {
			return fmt.Errorf("the ledger cannot be made: %w", err)
		}
	}
	info, err := os.Lstat(name)
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() {
		return fmt.Errorf("the ledger %s is no file", name)
	}
	if err := private.Check(info); err != nil {
		return fmt.Errorf("the ledger %s is not taken: %w; do: chmod 600 it, once you know who wrote into it", name, err)
	}
	return nil
}

// folder makes the folder of a ledger, for the user alone, or sees that nobody else can write into the one that is
// there.
func folder(name string) error {
	info, err := os.Stat(name)
	if errors.Is(err, fs.ErrNotExist) {
		err = private.Folder(name)
	} else if err == nil && (!info.IsDir() || !private.Trusted(info) || private.Writable(info)) {
		err = private.ErrOthers
	}
	if err != nil {
		return fmt.Errorf("the folder %s of the ledger cannot be used: %w", name, err)
	}
	return nil
}

// settle makes the tables of a new file, and sees of others that this program can read them.
func (s *Store) settle(ctx context.Context) error {
	known, err := s.version(ctx)
	if err != nil || known {
		return err
	}
	if _, err := s.db.ExecContext(ctx, "PRAGMA journal_mode = WAL"); err != nil {
		return err
	}
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	var tables int
	if err := tx.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_master").Scan(&tables); err != nil || tables > 0 {
		return err // another command made them meanwhile
	}
	for _, statement := range sqliteSchema {
		if _, err := tx.ExecContext(ctx, statement); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// version reads the version of the tables; known is false if there are none.
func (s *Store) version(ctx context.Context) (known bool, err error) {
	var text string
	err = s.db.QueryRowContext(ctx, "SELECT value FROM ledger WHERE name = 'version'").Scan(&text)
	var fault *sqlite.Error
	if errors.As(err, &fault) && fault.Code() == sqlite3.SQLITE_ERROR {
		return false, nil // there is no such table
	}
	if errors.Is(err, sql.ErrNoRows) {
		return false, ErrDamage
	}
	return err == nil, newer(text, err)
}

// newer says whether tables are of a later version than the program knows.
func newer(text string, err error) error {
	if err != nil {
		return err
	}
	var n int
	if _, err := fmt.Sscanf(text, "%d", &n); err != nil || n < 1 {
		return ErrDamage
	}
	if n > version {
		return ErrNewer
	}
	return nil
}

// tellSQLite says what a fault of SQLite means.
func tellSQLite(name string) func(error) error {
	return func(err error) error {
		var fault *sqlite.Error
		if !errors.As(err, &fault) {
			return err
		}
		switch fault.Code() & 0xff {
		case sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED:
			return ErrLocked
		case sqlite3.SQLITE_FULL:
			return fmt.Errorf("the disk is full: the ledger %s takes no more", name)
		case sqlite3.SQLITE_READONLY:
			return fmt.Errorf("the ledger %s cannot be written", name)
		case sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB:
			return fmt.Errorf("%w: %s is no whole database of SQLite", ErrDamage, name)
		case sqlite3.SQLITE_IOERR, sqlite3.SQLITE_CANTOPEN:
			return fmt.Errorf("the ledger %s cannot be read or written: %w", name, err)
		}
		return fmt.Errorf("the ledger %s failed: %w", name, err)
	}
}
