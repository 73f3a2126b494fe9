package standin

import (
	"crypto/rand"
	"errors"
	"fmt"
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
	// Factor is the secret of the account's second factor, if it has one.
	Factor string `json:"factor,omitempty"`
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
	return p != nil && len(text) <= longest && bcrypt.CompareHashAndPassword([]byte(p.Hash), []byte(text)) == nil
}

// RandomPassword draws a password that nobody can guess.
func RandomPassword() string { return rand.Text() }

// ErrSlowed says that too many wrong passwords came for an account.
var ErrSlowed = errors.New("too many wrong passwords came for this account; wait a minute")

// Slowed slows down whoever tries passwords.
type Slowed struct {
	mu    sync.Mutex
	wrong map[string]*tries
}

type tries struct {
	count int
	last  time.Time
}

// What wrong passwords come to: each makes the next answer take longer, and after so many there is none for a while.
const (
	firstWait = 200 * time.Millisecond
	mostWrong = 6
	closedFor = time.Minute
	mostNames = 10_000
)

// Try counts a try before it is known what comes of it, so that many at once are no way round, and says how long its
// answer takes; ErrSlowed if there is none for now.
func (s *Slowed) Try(account string, now time.Time) (time.Duration, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.wrong == nil || len(s.wrong) >= mostNames {
		s.forget(now)
	}
	t := s.wrong[account]
	if t == nil || now.Sub(t.last) >= closedFor {
		s.wrong[account] = &tries{count: 1, last: now}
		return 0, nil
	}
	if t.count >= mostWrong {
		return 0, ErrSlowed
	}
	t.count, t.last = t.count+1, now
	return firstWait << (t.count - 2), nil
}

// forget makes room: of old tries, or of all where somebody makes names up.
func (s *Slowed) forget(now time.Time) {
	for name, t := range s.wrong {
		if now.Sub(t.last) >= closedFor {
			delete(s.wrong, name)
		}
	}
	if s.wrong == nil || len(s.wrong) >= mostNames {
		s.wrong = map[string]*tries{}
	}
}

// Right notes that the right password came.
func (s *Slowed) Right(account string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.wrong, account)
}
