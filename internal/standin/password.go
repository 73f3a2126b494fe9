package standin

import (
	"crypto/rand"
	"errors"
	"fmt"
	"maps"
	"runtime"
	"sync"
	"time"

	"golang.org/x/crypto/bcrypt"
)

const windows = runtime.GOOS == "windows"

// Password is what a stand-in keeps of a password.
type Password struct {
	Hash  string `json:"hash"`
	First bool   `json:"first,omitempty"` // somebody else set it, and it has to be changed
	// Ends is when it lets in no more, and Lasts for how many seconds one does that its holder chooses; none for ever.
	Ends  *time.Time `json:"ends,omitempty"`
	Lasts int64      `json:"lasts,omitempty"`
	// Factor is the secret of the account's second factor, if it has one.
	Factor string `json:"factor,omitempty"`
	// Recovery are the hashes of the codes that count once in place of the second factor.
	Recovery []string `json:"recovery,omitempty"`
	// Keys are the hashes of the account's access keys, by their ids.
	Keys map[string]string `json:"keys,omitempty"`
}

// The lengths of passwords in bytes; bcrypt takes no more.
const (
	shortest = 12
	longest  = 72
)

// newPassword keeps a password, hashed at a cost.
func newPassword(text string, first bool, cost int) (Password, error) {
	if len(text) < shortest || len(text) > longest {
		return Password{}, fmt.Errorf("a password has %d to %d characters", shortest, longest)
	}
	hash, err := bcrypt.GenerateFromPassword([]byte(text), cost)
	return Password{Hash: string(hash), First: first}, err
}

// Fits says whether a password is the one that is kept.
func (p *Password) Fits(text string) bool {
	if p == nil || len(text) > longest {
		return false
	}
	if one, err := argonOf(p.Hash); err == nil {
		return one.fits(text)
	}
	return bcrypt.CompareHashAndPassword([]byte(p.Hash), []byte(text)) == nil
}

func (p *Password) over(now time.Time) bool { return p.Ends != nil && !now.Before(*p.Ends) }

// RandomPassword draws a password that nobody can guess.
func RandomPassword() string { return rand.Text() }

// ErrSlowed says that too many wrong passwords came for an account.
var ErrSlowed = errors.New("too many wrong passwords came for this account; wait a minute")

// Slowed slows down whoever tries passwords.
type Slowed struct {
	mu    sync.Mutex
	turn  sync.Cond
	tried map[string]*tries
}

// tries are those for one account.
type tries struct {
	wrong, underWay int
	last            time.Time // when a wrong one came
}

// What wrong passwords come to: each makes the next answer take longer, and after so many there is none for a while.
const (
	firstWait = 200 * time.Millisecond
	mostWrong = 6
	closedFor = time.Minute
	mostNames = 10_000
)

// Begin begins a try, and says how long its answer takes; ErrSlowed if there is none for now. Tries that could come to
// too many wrong ones together wait for each other, so that many at once are no way round.
func (s *Slowed) Begin(account string, now time.Time) (time.Duration, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.turn.L = &s.mu
	for {
		if len(s.tried) >= mostNames {
			s.forget(now)
		}
		t := s.tried[account]
		if t == nil {
			if s.tried == nil {
				s.tried = map[string]*tries{}
			}
			t = &tries{}
			s.tried[account] = t
		}
		if now.Sub(t.last) >= closedFor {
			t.wrong = 0
		}
		switch {
		case t.wrong >= mostWrong:
			return 0, ErrSlowed
		case t.wrong+t.underWay >= mostWrong:
			s.turn.Wait()
			continue
		}
		t.underWay++
		if t.wrong == 0 {
			return 0, nil
		}
		return firstWait << (t.wrong - 1), nil
	}
}

// forget makes room: of tries that are over, or, where somebody makes names up, of all.
func (s *Slowed) forget(now time.Time) {
	maps.DeleteFunc(s.tried, func(_ string, t *tries) bool { return t.underWay == 0 && now.Sub(t.last) >= closedFor })
	if len(s.tried) >= mostNames {
		maps.DeleteFunc(s.tried, func(_ string, t *tries) bool { return t.underWay == 0 })
	}
}

// End ends a try.
func (s *Slowed) End(account string, right bool, now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	t := s.tried[account]
	if t.underWay--; !right {
		t.wrong, t.last = t.wrong+1, now
	}
	s.turn.Broadcast()
}

// Wrong counts something else that was wrong.
func (s *Slowed) Wrong(account string, now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if t := s.tried[account]; t != nil {
		t.wrong, t.last = t.wrong+1, now
	}
}

// Right forgets what was wrong.
func (s *Slowed) Right(account string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if t := s.tried[account]; t != nil {
		if t.wrong = 0; t.underWay == 0 {
			delete(s.tried, account)
		}
	}
}
