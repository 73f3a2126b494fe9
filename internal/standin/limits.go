package standin

import (
	"errors"
	"fmt"
	"slices"
	"time"
)

// Limits are for how many seconds whoever has signed in stays so: from then on, and without sending anything. None is
// no limit of its own.
type Limits struct {
	Session int64 `json:"session,omitempty"`
	Idle    int64 `json:"idle,omitempty"`
}

const mostSeconds = 10 * 365 * 24 * 3600

// Check says what is wrong with limits; nil for nothing.
func (l Limits) Check(whose string) error {
	if min(l.Session, l.Idle) < 0 || max(l.Session, l.Idle) > mostSeconds {
		return fmt.Errorf("%s: a session lasts up to ten years", whose)
	}
	return nil
}

// Least gives the shorter of each of two limits.
func (l Limits) Least(other Limits) Limits {
	return Limits{least(l.Session, other.Session), least(l.Idle, other.Idle)}
}

func least(a, b int64) int64 {
	if a == 0 || b == 0 {
		return max(a, b)
	}
	return min(a, b)
}

// ErrLong says that somebody has been signed in for as long as they may.
var ErrLong = errors.New("you were signed out: your session is over")

// Over says why a session is over that began at some time, and in which something came last at another; nil if it is
// not. idle holds where there is no other limit.
func (l Limits) Over(began, seen, now time.Time, idle time.Duration) error {
	if own := time.Duration(l.Idle) * time.Second; own > 0 && (idle == 0 || own < idle) {
		idle = own
	}
	switch {
	case l.Session > 0 && now.Sub(began) >= time.Duration(l.Session)*time.Second:
		return ErrLong
	case idle > 0 && now.Sub(seen) > idle:
		return fmt.Errorf("you were signed out: nothing came for %s", idle)
	}
	return nil
}

// Limits are the least of an account and its teams.
func (x *Access) Limits(account, _ string) Limits {
	out := Limits{}
	if a := x.Accounts[account]; a != nil {
		out = a.Limits
	}
	for _, t := range x.Teams {
		if slices.Contains(t.Members, account) {
			out = out.Least(t.Limits)
		}
	}
	return out
}
