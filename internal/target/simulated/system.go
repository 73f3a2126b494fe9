package simulated

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"time"

	"hiddengate/internal/standin"
	"hiddengate/internal/target"
)

// client speaks with a stand-in.
type client interface {
	self() string
	read(ctx context.Context) (*view, error)
	// replace gives target.ErrChanged where the settings are no more those of a revision.
	replace(ctx context.Context, next *replacement) error
	// rehearse says of each line whether an account could do what it says.
	rehearse(ctx context.Context, account string, lines []string) ([]bool, error)
	close()
}

// refusal is what a stand-in says where it does not do what it is told.
type refusal string

func (r refusal) Error() string { return fmt.Sprintf("the stand-in says: %.300s", string(r)) }

// view is what a stand-in tells whoever manages accounts.
type view struct {
	Revision string          `json:"revision"`
	Settings *standin.Access `json:"settings"`
	Places   []standin.Place `json:"places"`
}

// replacement is what it is told.
type replacement struct {
	Was      string                      `json:"was"`
	Settings json.RawMessage             `json:"settings"`
	First    map[string]string           `json:"first,omitempty"`
	Set      map[string]standin.Verified `json:"set,omitempty"`
}

// system is a stand-in that has been reached.
type system struct {
	kind   *kind
	name   string
	client client
}

// Close ends what was reached.
func (s *system) Close() { s.client.close() }

// Read reads what there is, and who may do what.
func (s *system) Read(ctx context.Context) (target.Snapshot, error) { return s.read(ctx) }

func (s *system) read(ctx context.Context) (*snapshot, error) {
	v, err := s.client.read(ctx)
	if err != nil {
		return nil, err
	}
	if err := check(v.Settings); err != nil {
		return nil, err
	}
	return newSnapshot(s.kind, s.name, s.client.self(), v.Revision, v.Settings, v.Places), nil
}

// check sees that settings are whole: whatever answers at an address may say anything.
func check(x *standin.Access) error {
	if x == nil {
		return fmt.Errorf("it tells no settings")
	}
	for name, a := range x.Accounts {
		if a == nil {
			return fmt.Errorf("it tells nothing of the account %.80q", name)
		}
	}
	for name, t := range x.Teams {
		if t == nil {
			return fmt.Errorf("it tells nothing of %.80q", name)
		}
		for _, m := range t.Members {
			if x.Accounts[m] == nil {
				return fmt.Errorf("it tells of a member %.80q, which is no account", m)
			}
		}
	}
	return nil
}

// Write puts other settings in place, and the old ones back if check finds something wrong.
func (s *system) Write(ctx context.Context, was target.Snapshot, p *target.Plan,
	check func(target.Snapshot) error) error {
	before := was.(*snapshot)
	next := &replacement{Was: before.revision, Settings: json.RawMessage(p.Script), First: p.Passwords,
		Set: verified(p.Verifiers)}
	if err := s.client.replace(context.WithoutCancel(ctx), next); err != nil {
		if refused := new(refusal); !errors.As(err, refused) && !errors.Is(err, target.ErrChanged) {
			return fmt.Errorf("%w: %w", target.ErrPartly, err) // it broke off, and may have been done
		}
		return err
	}
	is, err := s.read(context.WithoutCancel(ctx))
	if err == nil {
		if err = check(is); err == nil {
			return nil
		}
	}
	if is == nil {
		return fmt.Errorf("%w: %w", target.ErrPartly, err)
	}
	text, failed := json.Marshal(before.access)
	if failed == nil {
		failed = s.client.replace(context.WithoutCancel(ctx), &replacement{Was: is.revision, Settings: text})
	}
	if failed != nil {
		return fmt.Errorf("%w: %w; it could not be undone: %w", target.ErrPartly, err, failed)
	}
	return err
}

// together is how many lines are rehearsed at once.
const together = 1000

// Ask has each account do what is asked, as a rehearsal: the stand-in decides as ever, and nothing is done.
func (s *system) Ask(ctx context.Context, was target.Snapshot, questions iter.Seq[target.Question],
	tell func(target.Answer) bool) (err error) {
	snap := was.(*snapshot)
	var some []target.Question
	more := true
	flush := func() bool {
		more, err = s.askSome(ctx, snap, some, tell)
		some = some[:0]
		return more && err == nil
	}
	for q := range questions {
		if len(some) == together || len(some) > 0 && some[0].Holder != q.Holder {
			if !flush() {
				return err
			}
		}
		some = append(some, q)
	}
	flush()
	return err
}

func (s *system) askSome(ctx context.Context, snap *snapshot, some []target.Question,
	tell func(target.Answer) bool) (more bool, err error) {
	if len(some) == 0 {
		return true, nil
	}
	lines := make([]string, len(some))
	for i, q := range some {
		lines[i] = s.kind.line(q.Operation, snap.pathOf(q.Place))
	}
	could, err := s.client.rehearse(ctx, some[0].Holder.Account, lines)
	if err != nil {
		return false, err
	}
	if len(could) != len(some) {
		return false, fmt.Errorf("it answers %d of %d questions", len(could), len(some))
	}
	for i, q := range some {
		a := target.Answer{Question: q, Allowed: could[i], Tried: true}
		if !a.Agrees() {
			a.Why = snap.why(a, time.Now())
		}
		if !tell(a) {
			return false, nil
		}
	}
	return true, nil
}
