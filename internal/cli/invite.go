package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"hiddengate/internal/change"
	"hiddengate/internal/clock"
	"hiddengate/internal/credential"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/lending"
	"hiddengate/internal/view"
)

const invited = "invited"

func (a *app) inviteCommand() *cobra.Command {
	var by acting
	var lasts, out string
	c := &cobra.Command{
		Use: "invite PERSON", Short: "Give somebody who is invited a code by which they join",
		Long: `Makes a code that counts once, and lapses, for a person with the status invited. It is shown this once; the log
keeps a hash. With it they run hgate join, which makes them active and lets them set what they sign in with.
Who invites has to be allowed to make the person active.`,
		Example: "  hgate add person sela.moreau --status invited --name \"Sela Moreau\" --yes\n" +
			"  hgate invite sela.moreau --by ines.okafor --key .keys/ines.okafor",
		Args: takes(1, 1), ValidArgsFunction: a.completeStatus(invited),
	}
	c.Flags().StringVar(&lasts, "lasts", "3d", "after how long it lapses, as a `duration`")
	c.Flags().StringVar(&out, "out", "", "write the code into this new `file`, which you alone may read, instead of "+
		"showing it")
	by.flags(a, c)
	c.RunE = func(_ *cobra.Command, args []string) error {
		duration, err := estate.ParseDuration(lasts)
		if err != nil {
			return err
		}
		span := clock.Instant(duration.Microseconds())
		if span > lending.LongestInvitation {
			return &draft.Error{Message: "an invitation lapses within 30 days"}
		}
		return a.inTheNameOf(&by, func(b *book, who actor) error {
			return a.invite(b, &by, who, args[0], span, out)
		})
	}
	return c
}

func (a *app) invite(b *book, by *acting, who actor, id string, lasts clock.Instant, out string) error {
	e := b.Gate.Estate()
	s := e.People[id]
	switch {
	case s == nil:
		return unknown("person", id, keys(e.People))
	case s.Status != invited:
		return &draft.Error{Message: fmt.Sprintf("%s is not invited: the status is %s", id, statusOf(s)),
			Help: fmt.Sprintf("hgate set person %s --status invited", id)}
	}
	if err := a.mayActivate(e, s, who.who); err != nil {
		return err
	}
	if out != "" {
		if err := a.outsideTheWorkspace("code", out); err != nil {
			return err
		}
	}
	code := credential.NewCode()
	ends := a.present() + lasts
	body := ledger.InvitationBody{Person: s.Principal().String(), Ends: ledger.Time(ends),
		Hash: credential.HashOf(credential.HashOf(code))}
	if err := keptIn(out, code+"\n", func() error {
		_, err := a.say(b, by, who, spoken{kind: ledger.Invited, body: body})
		return err
	}); err != nil {
		return asRefused(err)
	}
	p := a.page(a.Out)
	p.Line("%s", p.Paint(view.Yes, fmt.Sprintf("%s can join until %s.", id, clockText(e.Zone, a.present(), ends))))
	if out != "" {
		p.Line("  the code stands in  %s, which you alone may read", out)
	} else {
		p.Line("  shown this once     %s", code)
	}
	p.Line("  to join             hgate join CODE")
	return nil
}

func statusOf(s *estate.Subject) string {
	if s.Status == "" {
		return "active"
	}
	return s.Status
}

// mayActivate says why somebody may not make another active; nil if they may. Where nobody owns the workspace, whoever
// may write its files does.
func (a *app) mayActivate(e *estate.Estate, s *estate.Subject, by estate.Principal) error {
	now, err := a.day(e.Zone)
	if err != nil {
		return err
	}
	if who := e.Subject(by); who == nil || !who.ActiveAt(e.Zone, now) {
		return &draft.Error{Message: fmt.Sprintf("%s is not active, and so invites nobody", by)}
	}
	if e.Owner == nil {
		return nil
	}
	active := *s
	active.Status = ""
	breaches, err := change.Judge(a.ctx, e, e.With(estate.Put("people", &active)), by, now)
	if err != nil {
		return err
	}
	if len(breaches) > 0 {
		return &draft.Error{Message: fmt.Sprintf("%s may not make %s active: %s", by, s.ID, breaches[0].Message)}
	}
	return nil
}
