package postgres

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

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
	for _, one := range p.Statements {
		if _, err := tx.Exec(ctx, one.Text, pgx.QueryExecModeSimpleProtocol); err != nil {
			var fault *pgconn.PgError
			if errors.As(err, &fault) {
				return fmt.Errorf("the system refuses, and nothing was done: %s\n  %s", fault.Message, one.Text)
			}
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
