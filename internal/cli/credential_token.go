package cli

import (
	"crypto/rand"
	"encoding/csv"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hiddengate/internal/clock"
	"hiddengate/internal/credential"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/lending"
	"hiddengate/internal/target"
	"hiddengate/internal/view"
)

// credentialToken has the commands about tokens for programs.
func (a *app) credentialToken() *cobra.Command {
	c := &cobra.Command{
		Use: "token", Short: "Make, list, replace and end tokens for programs",
		Long: `A token lets a program act as an account: an id, which is no secret, and a secret, which is shown once. The log
keeps a hash of the secret, and hgate push tells that to the system.`,
		Args: ownCommands,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	c.AddCommand(a.tokenMake(), a.tokenReplace(), a.tokenEnd(), a.tokenList())
	return c
}

// tokenMaking is a token on its way.
type tokenMaking struct {
	*app
	book    *book
	by      *acting
	who     actor
	account estate.Address
	body    ledger.TokenBody
	lasts   string
	out     string
}

func (m *tokenMaking) flags(c *cobra.Command, by *acting) {
	c.Flags().StringVar(&m.lasts, "lasts", "", "for how long it lets in, as a `duration` (as long as the settings let a "+
		"password, where left out, and no longer)")
	c.Flags().StringVar(&m.out, "out", "", "write it into this new `file` of CSV, which you alone may read, instead of "+
		"showing it")
	by.flags(m.app, c)
}

func (a *app) tokenMake() *cobra.Command {
	var by acting
	m := &tokenMaking{app: a, by: &by}
	c := &cobra.Command{
		Use: "make ACCOUNT", Short: "Make a token by which a program acts as an account",
		Long: `Makes a token for an account of a system that takes tokens, and shows it once. With --role it gives what grants
of these roles give and nothing else, as a session does that names them. Who acts holds the account, or may
do account.set-password on it.`,
		Example: "  hgate credential token make archive:accounts/nightly --role reader --out ~/token.csv",
		Args:    takes(1, 1), ValidArgsFunction: a.completeAccounts,
	}
	m.flags(c, &by)
	c.Flags().StringSliceVar(&m.body.Roles, "role", nil, "narrow it to this `role`; may be given again")
	_ = c.RegisterFlagCompletionFunc("role", a.completeSection("roles"))
	c.RunE = func(_ *cobra.Command, args []string) (err error) {
		if m.account, err = estate.ParseAddress(args[0]); err != nil {
			return err
		}
		return a.inTheNameOf(&by, func(b *book, who actor) error {
			m.book, m.who = b, who
			return m.run()
		})
	}
	return c
}

func (a *app) tokenReplace() *cobra.Command {
	var by acting
	var overlap string
	m := &tokenMaking{app: a, by: &by}
	c := &cobra.Command{
		Use: "replace TOKEN", Short: "Make a token that follows another, which counts for a while beside it",
		Long: `Makes a token for the same account and roles. The one that it follows counts for as long as --overlap says, so
that programs can be changed over, and then no more.`,
		Example: "  hgate credential token replace T1A2B3C4D5E6 --overlap 8h",
		Args:    takes(1, 1),
	}
	m.flags(c, &by)
	c.Flags().StringVar(&overlap, "overlap", "24h", "for how long the other still counts, as a `duration`")
	c.RunE = func(_ *cobra.Command, args []string) error {
		lasts, err := estate.ParseDuration(overlap)
		if err != nil {
			return err
		}
		return a.inTheNameOf(&by, func(b *book, who actor) error {
			old, err := a.tokenNamed(b, args[0])
			if err != nil {
				return err
			}
			m.book, m.who, m.account = b, who, old.Account
			m.body.Roles, m.body.Replaces, m.body.Overlap = old.Roles, old.ID, int64(lasts/time.Second)
			return m.run()
		})
	}
	return c
}

// tokenNamed finds a token that lets in.
func (a *app) tokenNamed(b *book, id string) (t *lending.Token, err error) {
	err = b.store.View(a.ctx, func(in *store.Reader) error {
		s, err := b.signIns(in)
		if err == nil {
			t = s.Tokens[id]
		}
		return err
	})
	switch {
	case err != nil:
		return nil, asRefused(err)
	case t == nil:
		return nil, &draft.Error{Message: fmt.Sprintf("there is no token %q", id), Help: "hgate credential token list"}
	case a.present() >= t.Ends:
		return nil, &draft.Error{Message: fmt.Sprintf("the token %s is over", id)}
	}
	return t, nil
}

func (m *tokenMaking) run() error {
	e := m.book.Gate.Estate()
	m.account = e.Canonical(m.account)
	if e.Systems[m.account.System] == nil {
		return unknown("system", m.account.System, keys(e.Systems))
	}
	for _, role := range m.body.Roles {
		if e.Roles[role] == nil {
			return unknown("role", role, keys(e.Roles))
		}
	}
	may := m.mayEquip(m.book, m.account, m.who)
	if err := may(nil); err != nil {
		return err
	}
	if err := m.takesTokens(m.account.System); err != nil {
		return err
	}
	holder, _, err := m.book.AccountOf(m.account)
	if err != nil {
		return &draft.Error{Message: err.Error()}
	}
	lasts := m.book.LastsPassword(false)
	if m.lasts != "" {
		wanted, err := estate.ParseDuration(m.lasts)
		if err != nil {
			return err
		}
		if wanted > lasts {
			return &draft.Error{Message: fmt.Sprintf("a token lets in for %s at most, as the settings say (passwords)",
				estate.DurationText(lasts))}
		}
		lasts = wanted
	}
	if m.out != "" {
		if err := m.outsideTheWorkspace("token", m.out); err != nil {
			return err
		}
	}
	id, secret := "T"+rand.Text()[:12], rand.Text()
	ends := m.present() + clock.Instant(lasts.Microseconds())
	m.body.Account, m.body.For, m.body.Token = m.account.String(), holder.String(), id
	m.body.Hash, m.body.Ends = credential.HashOf(secret), ledger.Time(ends)
	var text strings.Builder
	if err := csv.NewWriter(&text).WriteAll([][]string{{"account", "token", "secret", "ends"},
		{m.account.Name(), id, secret, m.body.Ends.String()}}); err != nil {
		return err
	}
	if err := keptIn(m.out, text.String(), func() error {
		_, err := m.say(m.book, m.by, m.who, spoken{kind: ledger.TokenMade, body: m.body, check: may})
		return err
	}); err != nil {
		return asRefused(err)
	}
	m.text(id, secret, ends)
	return nil
}

func (m *tokenMaking) text(id, secret string, ends clock.Instant) {
	p := m.page(m.Out)
	p.Line("%s", p.Paint(view.Yes, fmt.Sprintf("A token of %s is made: %s.", m.account, id)))
	if m.out != "" {
		p.Line("  it stands in     %s, which you alone may read", m.out)
	} else {
		p.Line("  shown this once  %s/%s.%s", target.Unescaped(m.account.Name()), id, secret)
	}
	gives := "all that the account has"
	if len(m.body.Roles) > 0 {
		gives = "what these roles give: " + strings.Join(m.body.Roles, ", ")
	}
	p.Line("  it gives         %s", gives)
	p.Line("  it lets in       until %s", clockText(m.book.Gate.Estate().Zone, m.present(), ends))
	if m.body.Replaces != "" {
		p.Line("  it follows       %s, which counts for %s more at most", m.body.Replaces,
			estate.DurationText(time.Duration(m.body.Overlap)*time.Second))
	}
	p.Line("  to tell it       hgate push %s", m.account.System)
}

// takesTokens says why no tokens are made for a system; nil if they are.
func (a *app) takesTokens(id string) error {
	c, err := a.carried(id, "")
	if err == nil && !c.driver.Tokens {
		err = &draft.Error{
			Message: fmt.Sprintf("%s takes no tokens from here: the driver %s tells of none", id,
				c.driver.Name),
		}
	}
	return err
}

func (a *app) tokenEnd() *cobra.Command {
	var by acting
	c := &cobra.Command{
		Use: "end TOKEN", Short: "End a token before its time",
		Long: `Ends a token: from now on it does not count, and the next hgate push takes it from the system. Who acts holds
its account, or may do account.set-password on it.`,
		Example: "  hgate credential token end T1A2B3C4D5E6",
		Args:    takes(1, 1),
	}
	by.flags(a, c)
	c.RunE = func(_ *cobra.Command, args []string) error {
		return a.inTheNameOf(&by, func(b *book, who actor) error {
			t, err := a.tokenNamed(b, args[0])
			if err != nil {
				return err
			}
			may := a.mayEquip(b, t.Account, who)
			if err := may(nil); err != nil {
				return err
			}
			if _, err := a.say(b, &by, who, spoken{kind: ledger.TokenEnded, body: ledger.TokenEndedBody{Token: t.ID},
				check: may}); err != nil {
				return asRefused(err)
			}
			p := a.page(a.Out)
			p.Line("%s", p.Paint(view.Yes, fmt.Sprintf("The token %s is over.", t.ID)))
			p.Line("  to tell it  hgate push %s", t.Account.System)
			return nil
		})
	}
	return c
}

func (a *app) tokenList() *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use: "list", Short: "List the tokens, whose each is and until when",
		Long:    "Lists the tokens that let in; with --all those too that are over. No secret is kept, so none is shown.",
		Example: "  hgate credential token list",
		Args:    takes(0, 0),
	}
	c.Flags().BoolVar(&all, "all", false, "list those too that are over")
	a.formats(c, "text", "json")
	c.RunE = func(*cobra.Command, []string) error {
		g, err := a.compiled()
		if err != nil {
			return err
		}
		s, err := a.signIns(g)
		if err != nil {
			return asRefused(err)
		}
		var tokens []*lending.Token
		for _, t := range s.Tokens {
			if all || a.present() < t.Ends {
				tokens = append(tokens, t)
			}
		}
		slices.SortFunc(tokens, func(x, y *lending.Token) int { return int(x.Number - y.Number) })
		return a.tokensText(g.Estate(), tokens)
	}
	return c
}

func (a *app) tokensText(e *estate.Estate, tokens []*lending.Token) error {
	if a.format == "json" {
		rows := []object{}
		for _, t := range tokens {
			rows = append(rows, object{{"token", t.ID}, {"account", t.Account.String()}, {"subject", t.For.String()},
				{"roles", append([]string{}, t.Roles...)}, {"made", ledger.Time(t.At).String()},
				{"ends", ledger.Time(t.Ends).String()}, {"replaces", t.Replaces}})
		}
		return a.json(object{{"rows", rows}})
	}
	p := a.page(a.Out)
	if len(tokens) == 0 {
		p.Line("There is no token.")
		return nil
	}
	var rows [][]view.Cell
	for _, t := range tokens {
		gives := "all"
		if len(t.Roles) > 0 {
			gives = strings.Join(t.Roles, ", ")
		}
		style := view.Plain
		if a.present() >= t.Ends {
			style = view.Faint
		}
		rows = append(rows, []view.Cell{{Text: t.ID, Style: style}, {Text: t.Account.String(), Style: style},
			{Text: t.For.String(), Style: style}, {Text: gives, Style: style},
			{Text: clockText(e.Zone, a.present(), t.Ends), Style: style}})
	}
	p.Table(0, []string{"token", "account", "of", "gives", "until"}, rows)
	return nil
}
