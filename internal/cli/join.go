package cli

import (
	"encoding/csv"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/clock"
	"hiddengate/internal/credential"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/lending"
	"hiddengate/internal/view"
)

// joining is somebody who joins by a code.
type joining struct {
	*app
	book       *book
	invitation *lending.Invitation
	proof      string
	typed      bool
	out        string
	passwords  [][]string // account and password, as they are shown
	factors    []equipped
	body       ledger.JoinedBody
}

// equipped is an account with the second factor that it is to have.
type equipped struct {
	account estate.Address
	system  asking
	factor  *credential.Factor
}

func (a *app) joinCommand() *cobra.Command {
	j := &joining{app: a}
	c := &cobra.Command{
		Use: "join CODE", Short: "Join by the code of an invitation",
		Long: `Makes whoever the code was given to active, and sets what they sign in with: a password for each account that
the policy lists for them in a system that takes passwords from here, and a second factor in one that asks
for it and is reached, where whoever invited them may set these. Each is shown this once. The code counts
once.`,
		Example: "  hgate join ABCD-EFGH-IJKL-MNOP --typed",
		Args:    takes(1, 1),
	}
	c.Flags().BoolVar(&j.typed, "typed", false, "type the passwords, each twice, instead of having them made")
	c.Flags().StringVar(&j.out, "out", "", "write the passwords into this new `file` of CSV, which you alone may read, "+
		"instead of showing them")
	c.RunE = func(_ *cobra.Command, args []string) error {
		if j.typed && j.out != "" {
			return errors.New("--out is for passwords that are made here")
		}
		j.proof = credential.HashOf(args[0])
		return j.run()
	}
	return c
}

func (j *joining) run() error {
	g, err := j.compiled()
	if err != nil {
		return err
	}
	if j.book, err = j.openBook(g); err != nil {
		return err
	}
	err = j.joined()
	for _, f := range j.factors {
		f.system.Close()
	}
	j.book.store.Close()
	if err != nil {
		return err
	}
	return j.activate()
}

// look finds the invitation, which has to be open.
func (j *joining) look(in *store.Reader) error {
	s, err := j.book.signIns(in)
	if err != nil {
		return err
	}
	if j.invitation, err = s.MayJoin(j.proof, j.present()); err != nil {
		return err
	}
	person := j.book.Gate.Estate().Subject(j.invitation.Person)
	return j.mayActivate(j.book.Gate.Estate(), person, j.invitation.By)
}

func (j *joining) joined() error {
	if err := j.book.store.View(j.ctx, j.look); err != nil {
		return asRefused(err)
	}
	if j.out != "" {
		if err := j.outsideTheWorkspace("password", j.out); err != nil {
			return err
		}
	}
	if err := j.equipAll(); err != nil {
		return err
	}
	var text strings.Builder
	if err := csv.NewWriter(&text).WriteAll(append([][]string{{"account", "password"}}, j.passwords...)); err != nil {
		return err
	}
	if len(j.passwords) == 0 {
		j.out = ""
	}
	if err := keptIn(j.out, text.String(), j.tell); err != nil {
		return asRefused(err)
	}
	j.text()
	return nil
}

// tell puts into the log that somebody joined, and tells the systems of their second factors.
func (j *joining) tell() error {
	j.body.Invitation = ledger.Other{Number: j.invitation.Number, ID: j.invitation.ID}
	j.body.Proof = j.proof
	e, err := j.event(j.book.id, j.invitation.Person.String(), ledger.Joined, j.body)
	if err != nil {
		return err
	}
	told := false
	return j.book.store.Update(j.ctx, func(w *store.Writer) error {
		if err := j.look(&w.Reader); err != nil {
			return err
		}
		if _, err := w.Append(e); err != nil || told {
			return err
		}
		told = true
		for _, f := range j.factors {
			if err := j.equip(f.system, f.account, f.factor); err != nil {
				return err
			}
		}
		return nil
	})
}

// equipAll makes a password for each account that takes one, and a second factor where one is asked for.
func (j *joining) equipAll() error {
	b, i := j.book, j.invitation
	for r := range b.Gate.Estate().Tree.All() {
		holder, _, err := b.AccountOf(r.Address)
		if r.Type != "account" || err != nil || holder != i.Person || b.MayEquip(r.Address, i.By, i.At) != nil {
			continue
		}
		if form, err := j.takesVerifiers(b.Gate.Estate(), r.Address.System); err == nil {
			if err := j.password(r.Address, form); err != nil {
				return err
			}
		}
		if err := j.factor(r.Address); err != nil {
			return err
		}
	}
	return nil
}

func (j *joining) password(account estate.Address, form credential.Form) error {
	if j.typed {
		j.page(j.Out).Line("For %s:", account)
	}
	password, err := j.newPassword(j.book.Gate.Estate().Passwords.Length, j.typed)
	if err != nil {
		return err
	}
	verifier, err := credential.VerifierIn(form, password)
	if err != nil {
		return err
	}
	ends := j.present() + clock.Instant(j.book.LastsPassword(false).Microseconds())
	j.body.Passwords = append(j.body.Passwords, ledger.PasswordBody{Account: account.String(),
		For: j.invitation.Person.String(), Verifier: verifier, Ends: ledger.Time(ends)})
	j.passwords = append(j.passwords, []string{account.String(), password})
	return nil
}

// factor makes a second factor for an account in a system that asks for them and is reached.
func (j *joining) factor(account estate.Address) error {
	dir, err := j.folder()
	if err != nil {
		return err
	}
	op, err := operator(dir)
	if err != nil {
		return settled(err)
	}
	reach := op.Systems[account.System]
	if reach == nil {
		return nil
	}
	for _, d := range Drivers {
		if d.Name != reach.Driver || !d.Factors {
			continue
		}
		s, err := j.asksForFactors(account.System)
		if err != nil {
			return err
		}
		one := equipped{account, s, credential.NewFactor()}
		j.factors = append(j.factors, one)
		if err := (&equipping{app: j.app, book: j.book}).arrives(account, one.factor); err != nil {
			return err
		}
		j.body.Factors = append(j.body.Factors, ledger.FactorBody{Account: account.String(),
			For: j.invitation.Person.String(), Codes: len(one.factor.Recovery)})
	}
	return nil
}

func (j *joining) text() {
	p := j.page(j.Out)
	p.Line("%s", p.Paint(view.Yes, fmt.Sprintf("Welcome, %s.", j.invitation.Person)))
	if j.out != "" {
		p.Line("  the passwords stand in %s, which you alone may read", j.out)
	}
	systems := map[string]bool{}
	for _, one := range j.passwords {
		if j.out == "" && !j.typed {
			p.Line("  the password of %s, shown this once: %s", one[0], one[1])
		}
		system, _, _ := strings.Cut(one[0], ":")
		systems[system] = true
	}
	for _, f := range j.factors {
		p.Line("  %s asks for a code of the second factor", f.account.System)
		showRecovery(p, f.factor)
	}
	for _, system := range keys(systems) {
		p.Line("  to tell it        hgate push %s", system)
	}
}

// activate writes that the person is active.
func (j *joining) activate() error {
	id := j.invitation.Person.ID
	err := j.edit(editing{yes: true, who: j.invitation.Person.String()}, func(d *draft.Draft, _ *estate.Estate) error {
		return d.Set("people", id, "status", nil)
	})
	if err != nil {
		j.page(j.Err).Line("hgate: %s has joined, and is not active yet: hgate set person %s --status active", id, id)
	}
	return err
}
