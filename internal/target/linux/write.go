package linux

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"hiddengate/internal/target"
)

// turn waits for nobody: it says whether another push is under way, and keeps others from beginning.
const turn = "exec 9>/run/hgate-push.lock; flock -n 9 || { echo taken; exit; }; echo free; cat >/dev/null"

// steps is what the script of a plan begins with: it ends with what goes wrong first, and says in which step that is.
const steps = plainly + `umask 022
set -e
step() { echo "$1"; }
`

// Write carries a plan out, statement after statement, while no other push does. A server cannot take back what was
// done: if one fails, those before it stay, and the next plan has the rest.
func (s *system) Write(ctx context.Context, was target.Snapshot, p *target.Plan,
	check func(target.Snapshot) error) error {
	said, release, err := s.shell.hold(ctx, turn)
	if err != nil {
		return err
	}
	defer release()
	if said != "free" {
		return errors.New("another push is under way there, or the server has no flock; nothing was done")
	}
	is, err := s.read(ctx)
	if err != nil {
		return err
	}
	if is.key != was.(*snapshot).key {
		return target.ErrChanged
	}
	if out, err := s.shell.run(context.WithoutCancel(ctx), steps+p.Script); err != nil {
		return fmt.Errorf("%w: %w%s", target.ErrPartly, err, stepOf(out, p))
	}
	if is, err = s.read(ctx); err == nil {
		err = check(is)
	}
	if err != nil {
		return fmt.Errorf("%w: %w", target.ErrPartly, err)
	}
	return nil
}

// stepOf tells at which statement a script ended.
func stepOf(out []byte, p *target.Plan) string {
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	n, err := strconv.Atoi(lines[len(lines)-1])
	if err != nil || n < 1 || n > len(p.Statements) {
		return ""
	}
	return ", at\n  " + p.Statements[n-1].Text
}
