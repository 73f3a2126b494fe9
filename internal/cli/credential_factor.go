package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"rsc.io/qr"

	"hiddengate/internal/credential"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/target"
	"hiddengate/internal/view"
)

func (a *app) credentialFactor() *cobra.Command {
	var by acting
	var remove bool
	var out string
	c := &cobra.Command{
		Use: "second-factor ACCOUNT", Short: "Give an account a second factor, or take it away",
		Long: `Makes what an app for one-time codes needs (RFC 6238), shows it once as a QR code and as text, and asks for
a first code before anything counts. Then it tells the system, which asks for a code from then on, and shows
recovery codes, each of which counts once in place of one. Nothing keeps the secret here. Who acts holds the
account, or may do account.set-password on it. It is for systems that ask for second factors and can be
told of them.`,
		Example: "  hgate credential second-factor proposals:accounts/ines.okafor \\\n" +
			"    --by ines.okafor --key .keys/ines.okafor",
		Args: takes(1, 1), ValidArgsFunction: a.completeAccounts,
	}
	c.Flags().BoolVar(&remove, "remove", false, "take it away, as when it is lost")
	c.Flags().StringVar(&out, "out", "", "write it into this new `file`, which you alone may read, instead of showing it")
	by.flags(a, c)
	c.RunE = func(_ *cobra.Command, args []string) error {
		account, err := estate.ParseAddress(args[0])
		if err != nil {
			return err
		}
		if remove && out != "" {
			return errors.New("--remove makes nothing that could go into a file")
		}
		return a.inTheNameOf(&by, func(b *book, who actor) error {
			e := &equipping{app: a, book: b, by: &by, who: who, account: b.Gate.Estate().Canonical(account), out: out}
			return e.run(remove)
		})
	}
	return c
}

// equipping gives an account a second factor.
type equipping struct {
	*app
	book    *book
	by      *acting
	who     actor
	account estate.Address
	out     string
	holder  estate.Principal
}

func (e *equipping) run(remove bool) (err error) {
	if e.book.Gate.Estate().Systems[e.account.System] == nil {
		return unknown("system", e.account.System, keys(e.book.Gate.Estate().Systems))
	}
	may := e.mayEquip(e.book, e.account, e.who)
	if err := may(nil); err != nil {
		return err
	}
	if e.holder, _, err = e.book.AccountOf(e.account); err != nil {
		return &draft.Error{Message: err.Error()}
	}
	if e.out != "" {
		if err := e.outsideTheWorkspace("second factor", e.out); err != nil {
			return err
		}
	}
	s, err := e.asksForFactors(e.account.System)
	if err != nil {
		return err
	}
	defer s.Close()
	body := ledger.FactorBody{Account: e.account.String(), For: e.holder.String(), Removed: remove}
	p := e.page(e.Out)
	told := false
	set := func(f *credential.Factor) error {
		_, err := e.say(e.book, e.by, e.who, spoken{kind: ledger.FactorSet, body: body, check: may, then: func() error {
			if told {
				return nil
			}
			told = true
			return e.equip(s, e.account, f)
		}})
		return err
	}
	if remove {
		if err := set(&credential.Factor{}); err != nil {
			return asRefused(err)
		}
		p.Line("%s", p.Paint(view.Yes, fmt.Sprintf("%s has no second factor any more.", e.account)))
		return nil
	}
	f := credential.NewFactor()
	body.Codes = len(f.Recovery)
	text := f.Address(e.book.Gate.Estate().Title, e.account.String()) + "\n" + strings.Join(f.Recovery, "\n") + "\n"
	if err := keptIn(e.out, text, func() error {
		if err := e.arrives(e.account, f); err != nil {
			return err
		}
		return set(f)
	}); err != nil {
		return asRefused(err)
	}
	p.Line("%s", p.Paint(view.Yes, fmt.Sprintf("%s has a second factor: %s asks for its codes from now on.", e.account,
		e.account.System)))
	if e.out == "" {
		showRecovery(p, f)
		return nil
	}
	p.Line("  it stands in  %s, with its recovery codes, which you alone may read", e.out)
	return nil
}

// equip tells a system of the second factor of an account.
func (a *app) equip(s target.Equipping, account estate.Address, f *credential.Factor) error {
	var hashes []string
	for _, code := range f.Recovery {
		hashes = append(hashes, credential.HashOf(code))
	}
	if err := s.Equip(a.ctx, target.Unescaped(account.Name()), f.Secret, hashes); err != nil {
		return outside{fmt.Errorf("%s was not told: %w", account.System, err)}
	}
	return nil
}

// asking is a system that asks for second factors, and has been reached.
type asking interface {
	target.System
	target.Equipping
}

// asksForFactors reaches a system that asks for second factors. Its error says why a system is none.
func (a *app) asksForFactors(id string) (asking, error) {
	c, err := a.carried(id, "")
	if err != nil {
		return nil, err
	}
	if !c.driver.Factors {
		return nil, &draft.Error{Message: fmt.Sprintf("%s cannot be told of second factors: the driver %s has none", id,
			c.driver.Name)}
	}
	s, _, err := a.openSystem(c)
	if err != nil {
		return nil, err
	}
	return s.(asking), nil
}

// arrives shows a second factor, unless it stands in a file, and sees by a first code that it has arrived.
func (e *equipping) arrives(account estate.Address, f *credential.Factor) error {
	if e.out == "" {
		if err := e.shows(account, f); err != nil {
			return err
		}
	}
	for range 3 {
		fmt.Fprint(e.page(e.Err), "The code that the app shows now: ")
		line, err := e.answer()
		if err != nil {
			return err
		}
		if line == "" {
			break
		}
		if f.Fits(strings.ReplaceAll(strings.TrimSpace(line), " ", ""), e.present().Time()) {
			return nil
		}
		e.page(e.Err).Line("That is not the code of now.")
	}
	return &draft.Error{Message: "no code came that fits, so nothing was set",
		Help: "see that the clocks of both are right, and run the command again"}
}

func (e *equipping) shows(account estate.Address, f *credential.Factor) error {
	code, err := qr.Encode(f.Address(e.book.Gate.Estate().Title, account.String()), qr.L)
	if err != nil {
		return err
	}
	p := e.page(e.Out)
	p.Line("The second factor of %s. It is shown this once.", account)
	p.Line("Scan it with an app for one-time codes, or type the secret there.\n")
	p.Squares(code.Size, code.Black)
	p.Line("\n  secret  %s\n", grouped(f.Secret))
	return nil
}

// grouped writes a long text in groups of four.
func grouped(text string) string {
	var parts []string
	for len(text) > 4 {
		parts, text = append(parts, text[:4]), text[4:]
	}
	return strings.Join(append(parts, text), " ")
}

func showRecovery(p *view.Page, f *credential.Factor) {
	p.Line("  recovery codes, each of which counts once in place of a code, and which are shown this once:")
	for _, code := range f.Recovery {
		p.Line("    %s", code)
	}
}
