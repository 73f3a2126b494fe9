package standin

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/bcrypt"
)

// Settings are the access settings of some kind of stand-in.
type Settings interface {
	// Check says what is wrong with them where there are some rights, and places of some types; nil for nothing.
	Check(rights []string, types map[string]string) error
	// Has says whether there is an account.
	Has(account string) bool
	// Open says whether an account is one and is not closed at a moment.
	Open(account string, now time.Time) bool
	// May says whether an account that has chosen a role has a right at a place at a moment; with "" by any of its roles.
	May(account, role, right, place string, now time.Time) bool
	// Limits are for how long an account that has chosen a role stays signed in.
	Limits(account, role string) Limits
	// Keepers lists the accounts that may do everything.
	Keepers() []string
	// Tell tells what whoever has one of the rights to see accounts and groups of them is shown; nil for other rights.
	Tell(right string) []string
}

// State is all of a stand-in that outlives it.
type State[S Settings] struct {
	Settings  S                   `json:"settings"`
	Passwords map[string]Password `json:"passwords"`
	Places    map[string]*Node    `json:"places"`
}

// Node is a place with the lines that it has by topic.
type Node struct {
	Type  string              `json:"type"`
	Lines map[string][]string `json:"lines,omitempty"`
}

// Core is what all stand-ins do alike: they keep a state, and let keepers read and replace their access settings.
// Whoever calls its methods holds the lock, unless they say otherwise.
type Core[S Settings] struct {
	sync.Mutex
	State[S]
	Commands []Command
	Folder   *Folder
	Idle     time.Duration
	Now      func() time.Time
	cost     int // of hashing a password
	slowed   Slowed
}

const (
	stateName = "state.json"
	// Keeper is the account that is there at first; the file of that name has its password.
	Keeper = "keeper"
	// LogTopic are the lines of a place that say what was done there.
	LogTopic = "log"
	// mostLines are those of one topic at one place; the oldest go.
	mostLines = 500
)

// Open opens the state of a stand-in, and makes it the first time: with some settings that have one keeper, and with
// a root of some type.
func Open[S Settings](how Options, root Place, commands []Command, first S) (*Core[S], error) {
	folder, err := OpenFolder(how.Data)
	if err != nil {
		return nil, err
	}
	c := &Core[S]{Commands: commands, Folder: folder, Idle: how.Idle, Now: how.Now, cost: bcrypt.DefaultCost}
	if how.Quick {
		c.cost = bcrypt.MinCost
	}
	text, found, err := folder.Read(stateName)
	switch {
	case err != nil:
	case !found:
		err = c.begin(append([]Place{root}, how.Places...), first)
	default:
		if err = Strictly(text, &c.State); err == nil {
			err = c.Settings.Check(RightsOf(c.Commands), c.types())
		}
		if err != nil {
			err = fmt.Errorf("%s: %w", folder.Path(stateName), err)
		}
	}
	if err != nil {
		folder.Close()
		return nil, err
	}
	return c, nil
}

func (c *Core[S]) begin(places []Place, first S) error {
	c.State = State[S]{Settings: first, Passwords: map[string]Password{}, Places: map[string]*Node{}}
	for _, p := range places {
		if p.Path == "" || strings.Contains(p.Path, "*") {
			return fmt.Errorf("%.80q is no place: it is empty, or has a star, which stands for what is inside", p.Path)
		}
		c.Places[p.Path] = &Node{Type: p.Type}
	}
	text := RandomPassword()
	kept, err := newPassword(text, false, c.cost)
	if err != nil {
		return err
	}
	c.Passwords[Keeper] = kept
	if err := c.Folder.Write(Keeper, []byte(text+"\n")); err != nil {
		return err
	}
	return c.save()
}

// Close lets go of the folder.
func (c *Core[S]) Close() error { return c.Folder.Close() }

func (c *Core[S]) types() map[string]string {
	out := map[string]string{}
	for path, n := range c.Places {
		out[path] = n.Type
	}
	return out
}

// Paths lists the places in order.
func (c *Core[S]) Paths() []string { return slices.Sorted(maps.Keys(c.Places)) }

// save puts the state in place. Nobody is told that something is done before it is.
func (c *Core[S]) save() error {
	text, err := json.Marshal(c.State)
	if err == nil && len(text) > MostState {
		err = errors.New("it is full")
	}
	if err != nil {
		return err
	}
	return c.Folder.Write(stateName, text)
}

// View is what whoever manages accounts reads: the settings with the places that they can name.
type View[S Settings] struct {
	Revision string  `json:"revision"`
	Settings S       `json:"settings"`
	Places   []Place `json:"places"`
}

// View gives the settings as they are.
func (c *Core[S]) View() View[S] {
	out := View[S]{Revision: revision(c.Settings), Settings: c.Settings}
	for _, at := range c.Paths() {
		out.Places = append(out.Places, Place{Path: at, Type: c.Places[at].Type})
	}
	return out
}

func revision(settings any) string {
	text, err := json.Marshal(settings)
	if err != nil { // it was read as JSON
		panic(err)
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:8])
}

// Next is what is put in place of the settings.
type Next[S Settings] struct {
	Was      string            `json:"was"` // the revision of those that were read
	Settings S                 `json:"settings"`
	First    map[string]string `json:"first,omitempty"` // first passwords of accounts, which have to be changed
	// Set are passwords that somebody set for accounts, as far as a verifier tells of them.
	Set map[string]Verified `json:"set,omitempty"`
}

// Changed is what is answered where the settings are no more those that were read.
const Changed = "The settings were changed meanwhile."

// Replace puts other settings in place; all of it or nothing. It says what is wrong with them, or fails.
func (c *Core[S]) Replace(by string, text []byte) (wrong string, err error) {
	var next Next[S]
	if err := Strictly(text, &next); err != nil {
		return "What you sent cannot be read: " + err.Error() + ".", nil
	}
	if revision(c.Settings) != next.Was {
		return Changed, nil
	}
	if err := next.Settings.Check(RightsOf(c.Commands), c.types()); err != nil {
		return "The settings are wrong: " + err.Error() + ".", nil
	}
	if is := c.Settings.Keepers(); !slices.Contains(is, by) && !slices.Equal(is, next.Settings.Keepers()) {
		return "A keeper alone makes keepers.", nil
	}
	passwords := maps.Clone(c.Passwords)
	maps.DeleteFunc(passwords, func(account string, _ Password) bool { return !next.Settings.Has(account) })
	for _, account := range slices.Sorted(maps.Keys(next.First)) {
		if !next.Settings.Has(account) {
			return fmt.Sprintf("There is no account %.80q to have a password.", account), nil
		}
		kept, err := newPassword(next.First[account], true, c.cost)
		if err != nil {
			return "The password of " + account + " cannot be taken: " + err.Error() + ".", nil
		}
		was := passwords[account]
		kept.Factor, kept.Recovery = was.Factor, was.Recovery
		passwords[account] = kept
	}
	for _, account := range slices.Sorted(maps.Keys(next.Set)) {
		set := next.Set[account]
		if !next.Settings.Has(account) {
			return fmt.Sprintf("There is no account %.80q to have a password.", account), nil
		}
		if _, err := argonOf(set.Verifier); err != nil {
			return "The password of " + account + " cannot be taken: " + err.Error() + ".", nil
		}
		kept := passwords[account]
		kept.Hash, kept.First, kept.Ends, kept.Lasts = set.Verifier, set.First, set.Ends, set.Lasts
		passwords[account] = kept
	}
	was := c.State
	c.Settings, c.Passwords = next.Settings, passwords
	if err := c.save(); err != nil {
		c.State = was
		return "", err
	}
	return "", nil
}

// nobody is what a password is held against where there is no account, so that the answer takes as long.
var nobody = sync.OnceValue(func() Password {
	p, err := newPassword(RandomPassword(), false, bcrypt.DefaultCost)
	if err != nil {
		panic(err)
	}
	return p
})

var errOver = errors.New("the time of your password is over: have a new one set")

// ErrNotIn says that somebody may not sign in.
var ErrNotIn = errors.New("there is no such account with that password, or it is closed")

// SignIn says whether an account may sign in with a password; wrong ones are slowed down. The caller does not hold the
// lock, and says SignedIn when nothing else is wanted.
func (c *Core[S]) SignIn(account, text string) error {
	wait, err := c.slowed.Begin(account, c.Now())
	if err != nil {
		return err
	}
	time.Sleep(wait)
	c.Lock()
	kept, found := c.Passwords[account]
	open := c.Settings.Open(account, c.Now())
	c.Unlock()
	if !found {
		kept = nobody()
	}
	fits := kept.Fits(text) && found && open
	c.slowed.End(account, fits, c.Now())
	switch {
	case !fits:
		return ErrNotIn
	case kept.over(c.Now()):
		return errOver
	}
	return nil
}

// NotSignedIn counts that something else was wrong, as the code of a second factor.
func (c *Core[S]) NotSignedIn(account string) { c.slowed.Wrong(account, c.Now()) }

// SignedIn forgets the tries of an account that has shown all that signing in takes.
func (c *Core[S]) SignedIn(account string) { c.slowed.Right(account) }

// Choose changes the password of an account to one of its own. It says what is wrong with that, or fails. The caller
// does not hold the lock.
func (c *Core[S]) Choose(account, text string) (wrong string, err error) {
	kept, err := newPassword(text, false, c.cost)
	if err != nil {
		return "It cannot be taken: " + err.Error() + ".", nil
	}
	c.Lock()
	defer c.Unlock()
	was := c.Passwords[account]
	kept.Factor, kept.Recovery, kept.Keys = was.Factor, was.Recovery, was.Keys
	if was.Lasts > 0 {
		ends := c.Now().Add(time.Duration(was.Lasts) * time.Second).UTC()
		kept.Ends, kept.Lasts = &ends, was.Lasts
	}
	switch {
	case !c.Settings.Open(account, c.Now()):
		return "Your account is closed.", nil
	case was.First && was.Fits(text):
		return "Choose another than the one that you were given.", nil
	}
	return "", c.Keep(account, kept)
}

// Keep puts what an account signs in with in place.
func (c *Core[S]) Keep(account string, kept Password) error {
	was, had := c.Passwords[account]
	c.Passwords[account] = kept
	err := c.save()
	if err != nil {
		if c.Passwords[account] = was; !had {
			delete(c.Passwords, account)
		}
	}
	return err
}

// HasFirst says whether an account has to choose a password of its own.
func (c *Core[S]) HasFirst(account string) bool { return c.Passwords[account].First }

// Change changes the lines that a place has of a topic, and writes what was done into its log.
func (c *Core[S]) Change(at, topic, by, what string, change func(lines []string) []string) error {
	n := c.Places[at]
	was := n.Lines
	next := map[string][]string{}
	maps.Copy(next, was)
	if change != nil {
		next[topic] = newest(change(slices.Clone(next[topic])))
	}
	next[LogTopic] = newest(append(slices.Clone(next[LogTopic]), fmt.Sprintf("%s %s: %s",
		c.Now().UTC().Format(time.RFC3339), by, what)))
	n.Lines = next
	if err := c.save(); err != nil {
		n.Lines = was
		return err
	}
	return nil
}

func newest(lines []string) []string { return lines[max(0, len(lines)-mostLines):] }
