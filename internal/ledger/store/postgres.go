package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"

	"hiddengate/internal/pgaddress"
)

// postgresSchema makes the tables, in a schema of their own.
var postgresSchema = []string{
	"CREATE SCHEMA IF NOT EXISTS hgate",
	"CREATE TABLE hgate.ledger (name text PRIMARY KEY, value text NOT NULL)",
	"CREATE TABLE hgate.events (number bigint PRIMARY KEY, at bigint NOT NULL, actor text NOT NULL, kind text NOT NULL, " +
		"about bigint NOT NULL, doc text NOT NULL)",
	"CREATE INDEX events_about ON hgate.events (about) WHERE about > 0",
	"CREATE INDEX events_imported ON hgate.events (number) WHERE kind = 'ledger.imported'",
	"CREATE INDEX events_review ON hgate.events (number) WHERE kind >= 'review.' AND kind < 'review/'",
	"CREATE TABLE hgate.requests (number bigint NOT NULL, event bigint NOT NULL, until bigint NOT NULL, " +
		"PRIMARY KEY (number, event))",
	"CREATE INDEX requests_until ON hgate.requests (until)",
	"CREATE TABLE hgate.files (name text COLLATE \"C\" NOT NULL, event bigint NOT NULL, hash text NOT NULL, " +
		"PRIMARY KEY (name, event))",
	"CREATE TABLE hgate.deliveries (name text NOT NULL, event bigint NOT NULL, try int NOT NULL, due bigint NOT NULL, " +
		"done boolean NOT NULL, PRIMARY KEY (name, event, try))",
	fmt.Sprintf("INSERT INTO hgate.ledger (name, value) VALUES ('version', '%d')", version),
}

// IsPostgres says whether the place of a ledger is a database of PostgreSQL.
func IsPostgres(at string) bool { return pgaddress.Is(at) }

// writing is the key of the advisory lock that whoever appends holds: "hgate" in ASCII.
const writing = 0x6867617465

// Codes of PostgreSQL's errors (its manual, appendix A).
const (
	lostRace     = "40001"
	deadlock     = "40P01"
	twice        = "23505"
	lockTimeout  = "55P03"
	noTable      = "42P01"
	noSchema     = "3F000"
	notAllowed   = "42501"
	diskIsFull   = "53100"
	wrongAccount = "28"
)

// postgresConfig reads where a database is.
func postgresConfig(at, secret string) (*pgx.ConnConfig, error) {
	config, err := pgaddress.Read(at, secret)
	if err != nil {
		return nil, fmt.Errorf("the ledger: %w", err)
	}
	config.ConnectTimeout = patience
	config.RuntimeParams["search_path"] = "hgate"
	config.RuntimeParams["application_name"] = "hgate"
	config.RuntimeParams["lock_timeout"] = strconv.FormatInt(patience.Milliseconds(), 10)
	config.RuntimeParams["synchronous_commit"] = "on"
	return config, nil
}

// OpenPostgres opens the ledger in a database of PostgreSQL. The tables must be there: PreparePostgres makes them.
func OpenPostgres(ctx context.Context, at, secret string) (*Store, error) {
	config, err := postgresConfig(at, secret)
	if err != nil {
		return nil, err
	}
	db := stdlib.OpenDB(*config)
	db.SetMaxOpenConns(2)
	s := &Store{db: db, name: pgaddress.Name(config), dialect: dialect{
		rebind: numbered, begin: beginPostgres, again: lost, tell: tellPostgres(pgaddress.Name(config)),
	}}
	var text string
	err = db.QueryRowContext(ctx, "SELECT value FROM ledger WHERE name = 'version'").Scan(&text)
	if err = newer(text, err); err != nil {
		db.Close()
		return nil, s.told(err)
	}
	return s, nil
}

// PreparePostgres makes the tables of a ledger in a database, and lets a role of that database read and append, and
// neither change nor take out; "" for no role.
func PreparePostgres(ctx context.Context, at, secret, role string) error {
	config, err := postgresConfig(at, secret)
	if err != nil {
		return err
	}
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return tellPostgres(pgaddress.Name(config))(err)
	}
	defer conn.Close(context.WithoutCancel(ctx))
	tx, err := conn.Begin(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	statements := postgresSchema
	var there bool
	if err := tx.QueryRow(ctx, "SELECT to_regclass('hgate.ledger') IS NOT NULL").Scan(&there); err != nil {
		return err
	}
	if there {
		statements = nil
	}
	if role != "" {
		name := pgx.Identifier{role}.Sanitize()
		statements = append(statements[:len(statements):len(statements)], "GRANT USAGE ON SCHEMA hgate TO "+name,
			"GRANT SELECT, INSERT ON hgate.ledger, hgate.events, hgate.requests, hgate.files, "+
				"hgate.deliveries TO "+name)
	}
	for _, one := range statements {
		if _, err := tx.Exec(ctx, one); err != nil {
			return tellPostgres(pgaddress.Name(config))(err)
		}
	}
	return tx.Commit(ctx)
}

// numbered puts $1, $2 and so on in the place of question marks.
func numbered(query string) string {
	var b strings.Builder
	n := 0
	for _, r := range query {
		if r == '?' {
			n++
			fmt.Fprintf(&b, "$%d", n)
			continue
		}
		b.WriteRune(r)
	}
	return b.String()
}

// beginPostgres starts a transaction. Whoever appends waits for others who do, so that few lose a race; that none is
// overlooked the isolation sees to.
func beginPostgres(ctx context.Context, db *sql.DB, write bool) (*sql.Tx, func(), error) {
	if !write {
		tx, err := db.BeginTx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
		return tx, func() {}, err
	}
	conn, err := db.Conn(ctx)
	if err != nil {
		return nil, nil, err
	}
	if _, err := conn.ExecContext(ctx, "SELECT pg_advisory_lock($1)", int64(writing)); err != nil {
		conn.Close()
		return nil, nil, err
	}
	release := func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
		_, _ = conn.ExecContext(ctx, "SELECT pg_advisory_unlock($1)", int64(writing)) // a lost connection holds no lock
		conn.Close()
	}
	tx, err := conn.BeginTx(ctx, &sql.TxOptions{Isolation: sql.LevelSerializable})
	if err != nil {
		release()
		return nil, nil, err
	}
	return tx, release, nil
}

// lost says whether a transaction lost a race.
func lost(err error) bool {
	var fault *pgconn.PgError
	return errors.As(err, &fault) && (fault.Code == lostRace || fault.Code == deadlock || fault.Code == twice)
}

// tellPostgres says what a fault of PostgreSQL means.
func tellPostgres(place string) func(error) error {
	return func(err error) error {
		var fault *pgconn.PgError
		var connect *pgconn.ConnectError
		switch {
		case errors.As(err, &fault) && strings.HasPrefix(fault.Code, wrongAccount):
			return fmt.Errorf("the ledger %s does not let this account in: %s", place, fault.Message)
		case errors.As(err, &connect):
			return fmt.Errorf("the ledger %s cannot be reached", place)
		case !errors.As(err, &fault):
			return err
		}
		switch fault.Code {
		case lockTimeout:
			return ErrLocked
		case noTable, noSchema:
			return fmt.Errorf("there is no ledger in %s; its owner makes one with `hgate log prepare`", place)
		case notAllowed:
			return fmt.Errorf("the ledger %s: this account may not do that (%s)", place, fault.Message)
		case diskIsFull:
			return fmt.Errorf("the disk of the ledger %s is full", place)
		}
		return fmt.Errorf("the ledger %s failed: %s", place, fault.Message)
	}
}
