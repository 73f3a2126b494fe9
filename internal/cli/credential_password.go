package cli

import (
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"hiddengate/internal/clock"
	"hiddengate/internal/credential"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/lending"
	"hiddengate/internal/view"
)

func (a *app) credentialPassword() *cobra.Command {
	var by acting
	var typed bool
	var out string
	c := &cobra.Command{
		Use: "password ACCOUNT", Short: "Set the password of an account",
		Long: `Makes a password for an account by the rules in the settings (passwords), and shows it once; or has it typed
twice. Nothing keeps it: the log keeps a verifier, from which it cannot be read, and hgate push tells that to
the system. One that somebody else set lets in for a day, until its holder sets their own; that one lasts 90
days. The rules may say otherwise. Who acts has to be allowed account.set-password on the account. A database of
PostgreSQL takes a verifier for SCRAM-SHA-256, a stand-in one for Argon2id.`,
		Example: "  hgate credential password obsdb:accounts/ines.okafor --by ines.okafor --key .keys/ines.okafor",
		Args:    takes(1, 1), ValidArgsFunction: a.completeAccounts,
	}
	c.Flags().BoolVar(&typed, "typed", false, "type it, twice, instead of having it made")
	c.Flags().StringVar(&out, "out", "", "write it into this new `file`, which you alone may read, instead of showing it")
	by.flags(a, c)
	c.RunE = func(_ *cobra.Command, args []string) error {
		account, err := estate.ParseAddress(args[0])
		if err != nil {
			return err
		}
		if typed && out != "" {
			return errors.New("--out is for a password that is made here")
		}
		return a.inTheNameOf(&by, func(b *book, who actor) error { return a.setPassword(b, &by, who, account, typed, out) })
	}
	return c
}

func (a *app) setPassword(b *book, by *acting, who actor, account estate.Address, typed bool, out string) error {
	e := b.Gate.Estate()
	account = e.Canonical(account)
	form, err := a.takesVerifiers(e, account.System)
	if err != nil {
		return err
	}
	look := func(*store.Reader) error {
		if err := b.MaySetPassword(account, who.who, a.present()); err != nil {
			return &draft.Error{Message: err.Error()}
		}
		return nil
	}
	if err := look(nil); err != nil {
		return err
	}
	holder, _, err := b.AccountOf(account)
	if err != nil {
		return &draft.Error{Message: err.Error()}
	}
	if out != "" {
		if err := a.outsideTheWorkspace("password", out); err != nil {
			return err
		}
	}
	password, err := a.newPassword(e.Passwords.Length, typed)
	if err != nil {
		return err
	}
	verifier, err := credential.VerifierIn(form, password)
	if err != nil {
		return err
	}
	first := holder != who.who
	ends := a.present() + clock.Instant(b.LastsPassword(first).Microseconds())
	body := ledger.PasswordBody{Account: account.String(), For: holder.String(), Verifier: verifier, First: first,
		Ends: ledger.Time(ends)}
	if err := keptIn(out, password+"\n", func() error {
		_, err := a.say(b, by, who, spoken{kind: ledger.PasswordSet, body: body, check: look})
		return err
	}); err != nil {
		return asRefused(err)
	}
	p := a.page(a.Out)
	p.Line("%s", p.Paint(view.Yes, fmt.Sprintf("The password of %s is set.", account)))
	switch {
	case out != "":
		p.Line("  it stands in    %s, which you alone may read", out)
	case !typed:
		p.Line("  shown this once %s", password)
	}
	p.Line("  it lets in      until %s%s", clockText(e.Zone, a.present(), ends),
		map[bool]string{true: "; by then " + holder.String() + " has to set their own"}[first])
	p.Line("  to tell it      hgate push %s", account.System)
	return nil
}

// takesVerifiers says in which form a system takes the verifiers of passwords. Its error says why none is set here.
func (a *app) takesVerifiers(e *estate.Estate, id string) (credential.Form, error) {
	s := e.Systems[id]
	if s == nil {
		return "", unknown("system", id, keys(e.Systems))
	}
	dir, err := a.folder()
	if err != nil {
		return "", err
	}
	op, err := operator(dir)
	if err != nil {
		return "", settled(err)
	}
	for _, d := range Drivers {
		if reach := op.Systems[id]; d.Verifiers != "" && d.Kind == s.Kind.ID && (reach == nil || reach.Driver == d.Name) {
			return d.Verifiers, nil
		}
	}
	return "", &draft.Error{Message: fmt.Sprintf("system %s takes no verifier of a password from here", id),
		Help: "`hgate push` hands out first passwords there, or set it in the system itself"}
}

// newPassword makes a password, or has it typed twice.
func (a *app) newPassword(length int, typed bool) (string, error) {
	if !typed {
		return credential.NewPassword(length)
	}
	in, isFile := a.In.(*os.File)
	if !isFile || !term.IsTerminal(int(in.Fd())) {
		return "", &draft.Error{Message: "a password is typed at a terminal", Help: "leave --typed out to have one made"}
	}
	text, err := a.typedTwice(in, "A password: ")
	if err != nil {
		return "", err
	}
	if err := credential.CheckPassword(text, length); err != nil {
		return "", &draft.Error{Message: "the password is not taken: " + err.Error()}
	}
	return text, nil
}

// typedTwice has a secret typed twice at a terminal, where nobody sees it.
func (a *app) typedTwice(in *os.File, ask string) (string, error) {
	var typed [2]string
	for i, ask := range []string{ask, "Once more: "} {
		fmt.Fprint(a.page(a.Err), ask)
		text, err := term.ReadPassword(int(in.Fd()))
		fmt.Fprintln(a.page(a.Err))
		if err != nil {
			return "", outside{err}
		}
		typed[i] = string(text)
	}
	if typed[0] != typed[1] {
		return "", errors.New("the two are not the same")
	}
	return typed[0], nil
}

// keptIn keeps a secret in a new file, "" for none, once something is said of it; where that fails the file goes again.
func keptIn(out, secret string, say func() error) error {
	if out == "" {
		return say()
	}
	if err := writeFile(out, []byte(secret)); err != nil {
		return err
	}
	err := say()
	if err != nil {
		os.Remove(out)
	}
	return err
}

// toldPasswords lists the passwords that a push tells, which from then on the system has.
func (r *reached) toldPasswords() (out []int64) {
	for _, h := range r.arrangement.Holders {
		if p, ok := r.passwords[h.Account]; ok && p.Verifier != "" {
			out = append(out, p.Number)
			p.Verifier = ""
			r.passwords[h.Account] = p
		}
	}
	return out
}

// completeAccounts offers the accounts that the policy lists.
func (a *app) completeAccounts(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	g, err := a.compiled()
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	b := lending.Book{Gate: g}
	var out []string
	for r := range g.Estate().Tree.All() {
		if holder, _, err := b.AccountOf(r.Address); err == nil && r.Type == "account" {
			out = append(out, r.Address.String()+"\t"+holder.String())
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}
