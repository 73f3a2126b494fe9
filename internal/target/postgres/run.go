package postgres

import (
	"context"

	"github.com/jackc/pgx/v5"

	"hiddengate/internal/pgaddress"
	"hiddengate/internal/target"
)

// Run runs statements of the caller's own on a database, in one transaction.
func Run(ctx context.Context, to target.Connection, statements string) error {
	config, err := pgaddress.Read(to.At, to.Secret)
	if err != nil {
		return err
	}
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return pgaddress.Told(config, err)
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, statements, pgx.QueryExecModeSimpleProtocol); err != nil {
		return pgaddress.Told(config, err)
	}
	return nil
}
