package target

import (
	"slices"
	"time"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// signedIn is the fact that a system with sessions can see to.
var signedIn = estate.FactNamed("signed-in-within")

// asked is what the policy is asked with: the moment, and what holds in every session of the system.
func (w *Wanted) asked() *gate.Context {
	c := w.Gate.NewContext()
	c.Time(w.At)
	if w.recent != "" {
		c.Say(signedIn, w.recent)
	}
	return c
}

// mostRecent is the shortest time that anything which reaches into the system asks to have signed in within. Where all
// sessions are over by then, whatever asks so holds in all of them, so that it can be given. It is "" where nothing
// asks, or the system does not end sessions.
func (w *Wanted) mostRecent() string {
	if !w.Carries.Sessions {
		return ""
	}
	least := len(signedIn.Words)
	note := func(values []string) {
		if len(values) > 0 {
			least = min(least, slices.Index(signedIn.Words, values[len(values)-1]))
		}
	}
	inCondition := func(c *estate.Condition) {
		for _, t := range c.Facts {
			if t.Fact == signedIn.Name {
				note(t.Values)
			}
		}
	}
	e := w.Gate.Estate()
	for _, b := range e.Blocks {
		b.When.Each(inCondition)
	}
	for _, g := range e.Grants {
		if w.reach(g) == nil {
			continue
		}
		g.When.Each(inCondition)
		w.eachRole(g.Roles, func(r *estate.Role) { note(r.SignedIn) })
	}
	if least == len(signedIn.Words) {
		return ""
	}
	return signedIn.Words[least]
}

// eachRole visits roles and those that they include, each once.
func (w *Wanted) eachRole(refs []estate.Ref, visit func(*estate.Role)) {
	seen := map[string]bool{}
	var look func(refs []estate.Ref)
	look = func(refs []estate.Ref) {
		for _, ref := range refs {
			if r := w.Gate.Estate().Roles[ref.ID]; r != nil && !seen[r.ID] {
				seen[r.ID] = true
				visit(r)
				look(r.Include)
			}
		}
	}
	look(refs)
}

// Sessions says for how long whoever has some grants stays signed in, and for how long without doing anything, as the
// roles of these grants say, and those that they include: the shortest of each; 0 where none says so.
func (w *Wanted) Sessions(grants ...string) (session, idle time.Duration) {
	for _, id := range grants {
		if g := w.Gate.Estate().Grants[id]; g != nil {
			w.eachRole(g.Roles, func(r *estate.Role) {
				session, idle = shorter(session, r.Session), shorter(idle, r.Idle)
			})
		}
	}
	if most, err := estate.ParseDuration(w.recent); err == nil {
		session = shorter(session, most)
	}
	return session, idle
}

// shorter gives the shorter of two times, of which 0 is none.
func shorter(a, b time.Duration) time.Duration {
	if a == 0 || b == 0 {
		return max(a, b)
	}
	return min(a, b)
}
