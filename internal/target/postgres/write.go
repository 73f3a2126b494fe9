package postgres

import (
	"context"
	"fmt"
	"slices"

	"github.com/jackc/pgx/v5"

	"hiddengate/internal/target"
)

// pushing is the key of the advisory lock that whoever writes holds until the end of the transaction: "hgpush" in
// ASCII.
const pushing = 0x686770757368

// Write carries a plan out in one transaction. Another push of hgate waits for it.
func (s *system) Write(ctx context.Context, was target.Snapshot, p *target.Plan, check func(target.Snapshot) error,
) error {
	tx, err := s.conn.Begin(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	if _, err := tx.Exec(ctx, "SELECT pg_catalog.pg_advisory_xact_lock($1)", int64(pushing)); err != nil {
		return err
	}
	is, err := s.read(ctx, tx)
	if err != nil {
		return err
	}
	if is.key != was.(*snapshot).key {
		return target.ErrChanged
	}
	for part := range slices.Chunk(p.Statements, atOnce) {
		if err := run(ctx, tx, part); err != nil {
			return err
		}
	}
	if is, err = s.read(ctx, tx); err != nil {
		return err
	}
	if err := check(is); err != nil {
		return err
	}
	return tx.Commit(ctx)
}

// run runs statements without waiting for one before the next is sent. The first that is refused ends it.
func run(ctx context.Context, tx pgx.Tx, statements []target.Statement) error {
	pipe := tx.Conn().PgConn().StartPipeline(ctx)
	for _, one := range statements {
		pipe.SendQueryParams(one.Told(), nil, nil, nil, nil)
		if err := pipe.Sync(); err != nil {
			pipe.Close()
			return err
		}
	}
	for _, one := range statements {
		failed, err := outcome(pipe)
		if err == nil && failed != nil {
			err = fmt.Errorf("the system refuses, and nothing was done: %s\n  %s", failed.Message, one.Text)
		}
		if err != nil {
			pipe.Close()
			return err
		}
	}
	return pipe.Close()
}
