package mariadb

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/go-sql-driver/mysql"

	"hiddengate/internal/target"
)

// Only one push at a time works on a server; another waits so many seconds.
const (
	lockName = "hgate push"
	lockWait = 30
)

// Write carries a plan out statement by statement: MariaDB cannot undo what it was told of rights. Rights are taken
// before others are given, so that one that breaks off leaves nobody more than they had or should have.
func (s *system) Write(ctx context.Context, was target.Snapshot, p *target.Plan, check func(target.Snapshot) error,
) error {
	var locked *int
	err := s.conn.QueryRowContext(ctx, "SELECT GET_LOCK(?, ?)", lockName, lockWait).Scan(&locked)
	if err != nil {
		return s.said(err)
	}
	if locked == nil || *locked != 1 {
		return errors.New("another push to the server is still at work")
	}
	defer s.conn.ExecContext(context.WithoutCancel(ctx), "DO RELEASE_LOCK(?)", lockName)
	is, err := s.read(ctx)
	if err != nil {
		return err
	}
	if is.key != was.(*snapshot).key {
		return target.ErrChanged
	}
	texts := map[string]string{} // of the statements that carry a password
	for account, password := range p.Passwords {
		one := accountOf(account)
		texts[firstPassword(one)+";"] = "ALTER USER " + one.text() + " IDENTIFIED BY PASSWORD " +
			literal(hashed(password)) + " PASSWORD EXPIRE;"
	}
	ctx = context.WithoutCancel(ctx) // what was begun is ended
	for n, one := range p.Statements {
		text := one.Text
		if with := texts[text]; with != "" {
			text = with
		}
		if _, err := s.conn.ExecContext(ctx, text); err != nil {
			if err = fmt.Errorf("%w\n  %s", s.said(err), one.Text); n > 0 {
				err = fmt.Errorf("%w: %w", target.ErrPartly, err)
			}
			return err
		}
	}
	// MariaDB was seen to keep other rights of nested roles in mind than in its tables, until it reads these again.
	if _, err := s.conn.ExecContext(ctx, "FLUSH PRIVILEGES"); err != nil && !isDenied(err) {
		return fmt.Errorf("%w: %w", target.ErrPartly, s.said(err))
	}
	if is, err = s.read(ctx); err == nil {
		err = check(is)
	}
	if err != nil && len(p.Statements) > 0 {
		return fmt.Errorf("%w: %w", target.ErrPartly, err)
	}
	return err
}

// denied are the numbers of errors that say that a right is missing ("MariaDB Error Codes" of its documentation).
var denied = []uint16{1044, 1045, 1095, 1142, 1143, 1227, 1370, 1410, 1698, 4151}

func isDenied(err error) bool {
	fault := new(mysql.MySQLError)
	return errors.As(err, &fault) && slices.Contains(denied, fault.Number)
}
