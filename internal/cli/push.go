package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/draft"
	"hiddengate/internal/finding"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/target"
	"hiddengate/internal/view"
)

// pushing is how a system is told.
type pushing struct {
	dryRun, yes, watch bool
	despite            string
}

func (a *app) pushCommand() *cobra.Command {
	var how pushing
	c := &cobra.Command{
		Use: "push SYSTEM", Short: "Tell a real system what it has to give, after showing the difference",
		Long: `Reads the system, shows what it has to be told so that it gives what the policy gives now, asks, and
tells it: all of it or nothing. It touches what it made and what the policy names, and never the account
by which it came. It refuses while a test or guarantee fails or an error finding stands; --despite gives
a reason, which the log keeps. What came between reading and telling is noticed, and nothing is done.
With --watch it stays, and tells what changes: the policy, a loan that begins or ends, drift.`,
		Example: "  hgate push obsdb --dry-run\n  hgate push obsdb --yes\n  hgate push obsdb --watch --yes",
		Args:    takes(1, 1),
	}
	a.systemArg(c)
	c.Flags().BoolVar(&how.dryRun, "dry-run", false, "show the difference, and tell nothing")
	c.Flags().BoolVarP(&how.yes, "yes", "y", false, "tell without asking")
	c.Flags().StringVar(&how.despite, "despite", "", "tell though something stands against it, and say `why`")
	c.Flags().BoolVar(&how.watch, "watch", false, "stay, and tell whatever changes, as when a loan ends")
	a.formats(c, "text", "json")
	c.RunE = func(_ *cobra.Command, args []string) error {
		switch {
		case !how.watch:
			return a.push(args[0], how)
		case !how.yes || how.dryRun || a.format != "text":
			return fmt.Errorf("--watch tells without asking, and prints text: write --watch --yes")
		}
		longRun()
		return a.staying(func() error { return a.push(args[0], how) })
	}
	return c
}

func (a *app) push(id string, how pushing) error {
	c, err := a.carried(id, "")
	if err != nil {
		return err
	}
	r, err := a.reached(c)
	if err != nil {
		return err
	}
	defer r.system.Close()
	plan := r.was.Plan(r.arrangement)
	if a.format != "json" && (!how.watch || len(plan.Statements) > 0) {
		a.pushText(c, plan)
		a.asideText(r.arrangement.Wanted, r.was.State())
	}
	applied, passwords := false, ""
	if len(plan.Statements) > 0 && !how.dryRun {
		if err := a.mayPush(r, plan, how); err != nil {
			return err
		}
		if passwords, err = firstPasswords(c.id, plan); err != nil {
			return outside{err}
		}
		told, err := a.tell(r, plan, how.despite)
		if passwords != "" && !told {
			os.Remove(passwords) // they are nobody's
		}
		if err != nil {
			return err
		}
		applied = true
	}
	if a.format == "json" {
		return a.pushJSON(c, plan, applied, passwords)
	}
	if applied {
		p := a.page(a.Out)
		p.Line("%s was told.", c.id)
		if passwords != "" {
			p.Line("The first passwords of %s, which have to be changed, are in %s, which you alone may read.",
				count(len(plan.First), "account"), passwords)
		}
	}
	return nil
}

func (a *app) pushText(c *carrying, plan *target.Plan) {
	p := a.page(a.Out)
	if len(plan.Statements) == 0 {
		p.Line("%s gives what the policy gives: there is nothing to tell it.", c.id)
	} else {
		p.Line("%s", p.Paint(view.Heading, fmt.Sprintf("%s has to be told %s", c.id, count(len(plan.Statements), "thing"))))
		a.statementsText(p, plan)
	}
	for _, left := range plan.Left {
		p.Line("%s %s", p.Paint(view.Maybe, "left as it is:"), left)
	}
}

func (a *app) pushJSON(c *carrying, plan *target.Plan, applied bool, passwords string) error {
	changes := []object{}
	for _, s := range plan.Statements {
		changes = append(changes, object{{"do", string(s.Do)}, {"text", s.Text}, {"grants", append([]string{}, s.Grants...)},
			{"why", s.Why}})
	}
	out := object{{"system", c.id}, {"changes", changes}, {"applied", applied}, {"left", append([]string{}, plan.Left...)}}
	if passwords != "" {
		out = append(out, object{{"first-passwords", passwords}}...)
	}
	return a.json(out)
}

// mayPush sees that nothing stands against telling a system, and asks.
func (a *app) mayPush(c *reached, plan *target.Plan, how pushing) error {
	found, err := a.checkAll(c.plain, c.at)
	if err != nil {
		return err
	}
	var against []string
	for _, t := range found.tests {
		against = append(against, "test "+t.ID+" fails")
	}
	for _, g := range found.guarantees {
		against = append(against, "guarantee "+g.ID+" fails")
	}
	if n := tally(found.found)[diagnostic.Error]; n > 0 {
		against = append(against, "`hgate check` finds "+count(n, "error"))
	}
	for _, one := range c.arrangement.Forbidden() {
		against = append(against, fmt.Sprintf("%s forbids %s what the system gives to whoever gets in (%s)", one.By,
			one.Subject, one.Operation))
	}
	if shutOut := c.shutOut(plan, found); len(shutOut) > 0 {
		against = append(against, fmt.Sprintf("%s would have nothing to sign in with (no-sign-in): %s",
			count(len(shutOut), "account"), someTexts(shutOut)))
	}
	if len(against) > 0 && how.despite == "" {
		return &draft.Error{Message: fmt.Sprintf("%s, so nothing was told to %s", someTexts(against), c.id),
			Help: "mend it, or add --despite \"REASON\""}
	}
	if how.yes {
		return nil
	}
	in, isFile := a.In.(*os.File)
	if !isFile || !term.IsTerminal(int(in.Fd())) {
		return &draft.Error{Message: fmt.Sprintf("nobody can be asked, so nothing was told to %s", c.id),
			Help: "look at it with --dry-run, and tell it with --yes"}
	}
	p := a.page(a.Err)
	fmt.Fprintf(p, "Tell %s? [y/N] ", c.id)
	line, err := a.answer()
	if err != nil {
		return err
	}
	if word := strings.ToLower(strings.TrimSpace(line)); word != "y" && word != "yes" {
		p.Line("Nothing was told.")
		return answered(exitNo)
	}
	return nil
}

// shutOut lists the accounts of a system by which nobody could sign in, as far as the system says how people do; those
// aside to which the push hands out a password.
func (r *reached) shutOut(plan *target.Plan, c checked) (out []string) {
	s := r.gate.Estate().Systems[r.id]
	without := finding.WithoutSignIn(r.gate, s, r.at, c.loans, c.set)
	for _, h := range r.arrangement.Holders {
		if slices.Contains(without, h.Subject) &&
			!(slices.Contains(s.SignIn, "password") && slices.Contains(plan.First, h.Account)) {
			out = append(out, h.Account)
		}
	}
	return out
}

// check sees that a system which was told has nothing left to be told.
func (a *app) check(r *reached, is target.Snapshot) (err error) {
	arrangement := r.arrangement
	if !slices.Equal(is.State().Places, r.was.State().Places) { // somebody made something meanwhile
		if arrangement, err = a.arranged(r.carrying, is.State()); err != nil {
			return err
		}
	}
	if again := is.Plan(arrangement); len(again.Statements) > 0 {
		return fmt.Errorf("the system does not do what it is told, and nothing was done: it would still need\n  %s",
			again.Statements[0].Text)
	}
	return nil
}

// tell carries a plan out, and puts it into the log: both or neither. It says whether the system may have been told,
// which it can have been though something failed.
func (a *app) tell(c *reached, plan *target.Plan, despite string) (told bool, err error) {
	dir, err := a.folder()
	if err != nil {
		return false, err
	}
	log, err := a.ledger(dir, true)
	if err != nil {
		return false, err
	}
	defer log.Close()
	e := c.gate.Estate()
	id, err := a.begun(log, dir, e)
	if err != nil {
		return false, outside{err}
	}
	who := ""
	if p, ok := userIs(e, a.osUser()); ok {
		who = p.String()
	}
	body := ledger.PushedBody{System: c.id, Driver: c.driver.Name, Count: len(plan.Statements), Despite: despite}
	for _, one := range plan.Statements[:min(len(plan.Statements), ledger.MostStatements)] {
		body.Statements = append(body.Statements, one.Text)
	}
	body.Passwords = c.toldPasswords()
	for account := range plan.Passwords {
		if segment, ok := target.Escaped(account); ok {
			body.First = append(body.First, c.id+":"+target.AccountsIn+"/"+segment)
		}
	}
	slices.Sort(body.First)
	note := func(w *store.Writer) error {
		event, err := a.event(id, who, ledger.Pushed, body)
		if err == nil {
			_, err = w.Append(event)
		}
		return err
	}
	defer a.progress("telling " + c.id)()
	err = log.Update(context.WithoutCancel(a.ctx), func(w *store.Writer) error {
		if err := note(w); err != nil || told {
			return err
		}
		check := func(is target.Snapshot) error { return a.check(c, is) }
		if err := c.system.Write(a.ctx, c.was, plan, check); err != nil {
			return err
		}
		told = true
		return nil
	})
	if errors.Is(err, target.ErrPartly) { // the log has to say so
		body.Partly = true
		err = errors.Join(err, log.Update(context.WithoutCancel(a.ctx), note))
		return true, outside{fmt.Errorf("%s was told in part, and the rest is in the next push: %w", c.id, err)}
	}
	switch {
	case err == nil:
	case errors.Is(err, target.ErrChanged):
		err = outside{fmt.Errorf("%w, so nothing was told to %s; run the command again", err, c.id)}
	case told:
		err = outside{fmt.Errorf("%s was told, and the log has no event of it: %w", c.id, err)}
	default:
		err = outside{err}
	}
	return told, err
}
