package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/clock"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/lending"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/target"
	"hiddengate/internal/target/ldap"
	"hiddengate/internal/target/linux"
	"hiddengate/internal/target/mariadb"
	"hiddengate/internal/target/postgres"
	"hiddengate/internal/target/simulated"
)

// Drivers are those for real systems, of which the reference page tells.
var Drivers = append([]*target.Driver{postgres.Driver, mariadb.Driver, linux.Driver, ldap.Driver}, simulated.Drivers...)

func driverNames() (out []string) {
	for _, d := range Drivers {
		out = append(out, d.Name)
	}
	return out
}

// carrying is a system of the policy that is carried to a real one.
type carrying struct {
	id        string
	driver    *target.Driver
	reach     *policyfile.Reach // nil if your settings do not say how it is reached
	plain     *gate.Gate
	gate      *gate.Gate                 // with what is lent
	passwords map[string]target.Password // by account, of a system that takes them
	tokens    map[string][]target.Token
	lent      []estate.Elevation
	at        clock.Instant
}

// carried finds a system with what it has to give, its driver, and how your settings say that it is reached. A driver
// that is named is taken in place of theirs, and reaches nothing.
func (a *app) carried(id, driver string) (*carrying, error) {
	dir, err := a.folder()
	if err != nil {
		return nil, err
	}
	op, err := operator(dir)
	if err != nil {
		return nil, settled(err)
	}
	reach := op.Systems[id]
	if driver != "" {
		reach = &policyfile.Reach{Driver: driver}
	}
	c, err := a.carriedBy(id, reach)
	if err != nil {
		return nil, err
	}
	if c.gate, err = a.withLoans(c.gate, c.at); err != nil {
		return nil, err
	}
	c.lent = lending.Elevations(a.lent)
	return c, nil
}

// carriedBy finds a system as it stands in the policy, and its driver.
func (a *app) carriedBy(id string, reach *policyfile.Reach) (*carrying, error) {
	g, err := a.compiled()
	if err != nil {
		return nil, err
	}
	system := g.Estate().Systems[id]
	if system == nil {
		return nil, unknown("system", id, keys(g.Estate().Systems))
	}
	c := &carrying{id: id, plain: g, gate: g, at: a.present(), reach: reach}
	for _, d := range Drivers {
		if reach != nil && reach.Driver == d.Name || reach == nil && d.Kind == system.Kind.ID {
			c.driver = d
			break
		}
	}
	switch {
	case c.driver == nil && reach != nil:
		return nil, fmt.Errorf("there is no driver %q: write %s", reach.Driver, strings.Join(driverNames(), " or "))
	case c.driver == nil:
		return nil, &draft.Error{Message: fmt.Sprintf("no driver carries a %s", system.Kind.ID)}
	case c.driver.Kind != system.Kind.ID:
		return nil, fmt.Errorf("the driver %s carries a %s, and %s is a %s", c.driver.Name, c.driver.Kind, id, system.Kind.ID)
	}
	return c, nil
}

// howToConnect gives the commands by which a system of the kind can be reached.
func (c *carrying) howToConnect() string {
	var out []string
	for _, d := range Drivers {
		if d.Kind == c.driver.Kind {
			out = append(out, fmt.Sprintf("hgate connect %s --driver %s --at %s", c.id, d.Name, d.Address))
		}
	}
	return strings.Join(out, "\n  or: ")
}

// openSystem reaches the real system, and reads it.
func (a *app) openSystem(c *carrying) (target.System, target.Snapshot, error) {
	if c.reach == nil {
		return nil, nil, &draft.Error{Message: fmt.Sprintf("your settings do not say how %s is reached", c.id),
			Help: c.howToConnect()}
	}
	secret, err := reveal(c.reach.Secret)
	if err != nil {
		return nil, nil, outside{err}
	}
	done := a.progress("reading " + c.id)
	defer done()
	s, err := c.driver.Connect(a.ctx, target.Connection{System: c.id, At: c.reach.At, Secret: secret,
		Listed: inventoryState(c.gate, c.id).Places})
	if err != nil {
		return nil, nil, outside{err}
	}
	snap, err := s.Read(a.ctx)
	if err != nil {
		s.Close()
		return nil, nil, outside{fmt.Errorf("%s cannot be read: %w", c.id, err)}
	}
	return s, snap, nil
}

// reached is a system that has been read, with what it has to give.
type reached struct {
	*carrying
	system      target.System
	was         target.Snapshot
	arrangement *target.Arrangement
}

// reached reaches a system and reads it. Whoever has it closes it.
func (a *app) reached(c *carrying) (*reached, error) {
	s, snap, err := a.openSystem(c)
	if err != nil {
		return nil, err
	}
	if c.driver.Verifiers != "" || c.driver.Tokens {
		if err = a.signInsOf(c); err != nil {
			s.Close()
			return nil, outside{err}
		}
	}
	arrangement, err := a.arranged(c, snap.State())
	if err != nil {
		s.Close()
		return nil, err
	}
	return &reached{c, s, snap, arrangement}, nil
}

// arranged says what a system has to give, as it is now.
func (a *app) arranged(c *carrying, state *target.State) (*target.Arrangement, error) {
	task := target.Task{Gate: c.gate, System: c.id, At: c.at, Carries: &c.driver.Carries, State: state, Lent: c.lent}
	task.Passwords, task.Tokens = c.passwords, c.tokens
	task.Create = c.reach != nil && c.reach.Create
	w, err := target.Work(a.ctx, task)
	if err != nil {
		return nil, err
	}
	return w.Arrange(a.ctx)
}

// inventoryState is a system as the policy's inventory has it.
func inventoryState(g *gate.Gate, id string) *target.State {
	s := &target.State{}
	tree := g.Estate().Tree
	first := tree.Find(id)
	for i := first; i < tree.End(first); i++ {
		r := tree.At(i)
		in := estate.Address{System: id, Path: target.AccountsIn}
		if !r.Address.Inside(in) {
			p := target.Place{Path: r.Address.Path, Type: r.Type}
			if entry := tree.Entry(i); entry != nil {
				p.Rows = entry.Rows
			}
			s.Places = append(s.Places, p)
		}
	}
	return s
}

// asideText tells which accounts are left alone, and who has none.
func (a *app) asideText(w *target.Wanted, s *target.State) {
	p := a.page(a.Err)
	if len(w.Without) > 0 {
		p.Line("hgate: no account: %s %s access and no account of %s that the policy lists; list one with its owner, or let "+
			"push make those that are not there (accounts: create)", some(w.Without),
			map[bool]string{true: "has", false: "have"}[len(w.Without) == 1], w.System)
	}
	if len(w.Reserved) > 0 {
		p.Line("hgate: left alone: %s", strings.Join(w.Reserved, ", "))
	}
	var unlisted []string
	for i := range s.Places {
		if !w.Listed(i) {
			unlisted = append(unlisted, s.Address(w.System, i).String())
		}
	}
	if len(unlisted) > 0 {
		p.Line("hgate: in no inventory, and so not looked at: %s", someTexts(unlisted))
	}
	if len(s.Aside) > 0 {
		p.Line("hgate: not looked at: %s", someTexts(s.Aside))
	}
	if len(s.Unnamed) > 0 {
		p.Line("hgate: no address can name %s", someTexts(s.Unnamed))
	}
}

func some(list []estate.Principal) string {
	var out []string
	for _, p := range list {
		out = append(out, p.String())
	}
	return someTexts(out)
}

// someTexts names a few of many.
func someTexts(list []string) string {
	const most = 5
	if len(list) <= most+1 {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(list[:most], ", "), len(list)-most)
}

// systemArg completes the first argument with the systems that some driver carries.
func (a *app) systemArg(c *cobra.Command) { c.ValidArgsFunction = a.completeSection("systems") }
