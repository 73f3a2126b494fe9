package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"hiddengate/internal/change"
	"hiddengate/internal/clock"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/lending"
	"hiddengate/internal/view"
)

// wish is what the flags of `request` say.
type wish struct {
	where, lasts, starts, reason, ticket string
	emergency, dryRun                    bool
}

func (a *app) requestCommand() *cobra.Command {
	var w wish
	var by acting
	c := &cobra.Command{
		Use: "request GRANT", Short: "Ask for access that a grant lends for a limited time",
		Long: `Asks for what an on-request grant lends, after telling what that gives, until when, and who has to
approve it. Nobody has to remember to end it: it is over when its time is.`,
		Example: `  hgate request drivers-past-the-limits --where north-dish --for 1h --reason "The dish is stuck" \
    --by marek.dvorin --key .keys/marek.dvorin
  hgate request drivers-past-the-limits --for 30m --starts 2036-12-02T06:00 --reason "Test run" \
    --by marek.dvorin --dry-run`,
		Args: takes(1, 1), ValidArgsFunction: a.completeLent,
	}
	f := c.Flags()
	f.StringVar(&w.where, "where", "",
		"the `place`, with all inside it (everything that the grant covers, where left out)")
	f.StringVar(&w.lasts, "for", "", "how long, as a `duration` such as 90m")
	f.StringVar(&w.starts, "starts", "", "the `time` from which it is wished (as soon as it is approved, where left out)")
	f.StringVar(&w.reason, "reason", "", "`why` it is needed")
	f.StringVar(&w.ticket, "ticket", "", "the `ticket` that it belongs to")
	f.BoolVar(&w.emergency, "emergency", false,
		"have it at once, and have it signed off afterwards; the grant must allow it")
	f.BoolVar(&w.dryRun, "dry-run", false, "tell what it would give, and ask for nothing")
	by.flags(a, c)
	c.RunE = func(_ *cobra.Command, args []string) error {
		return a.inTheNameOf(&by, func(b *book, who actor) error { return a.request(b, &by, who, wishFor{w, args[0]}) })
	}
	a.formats(c, "text", "json")
	c.AddCommand(a.requestCredential())
	return c
}

// asking reads what is wished.
func (w *wish) asking(a *app, e *estate.Estate, grant string, who estate.Principal) (out lending.Asking, err error) {
	out = lending.Asking{Who: who, Grant: grant, Reason: w.reason, Ticket: w.ticket, Emergency: w.emergency,
		Now: a.present()}
	if e.Grants[grant] == nil {
		return out, unknown("grant", grant, keys(e.Grants))
	}
	if w.lasts == "" {
		return out, &draft.Error{Message: "a request says for how long", Help: "add --for, as in --for 1h"}
	}
	if out.Lasts, err = estate.ParseDuration(w.lasts); err != nil {
		return out, fmt.Errorf("--for %s: %w", w.lasts, err)
	}
	if w.starts != "" {
		at, err := e.Zone.ParseTime(w.starts)
		if err != nil {
			return out, fmt.Errorf("--starts %s: %w", w.starts, err)
		}
		out.Starts = &at
	}
	if w.where != "" {
		if out.Within, err = estate.ParseAddress(w.where); err != nil {
			return out, fmt.Errorf("--where %s: %w", w.where, err)
		}
		out.Within = e.Canonical(out.Within)
	}
	return out, nil
}

// wishFor is what is wished of which grant.
type wishFor struct {
	wish
	grant string
}

func (a *app) request(b *book, by *acting, who actor, wanted wishFor) error {
	e, w, grant := b.Gate.Estate(), wanted.wish, wanted.grant
	ask, err := w.asking(a, e, grant, who.who)
	if err != nil {
		return err
	}
	var offer *lending.Offer
	look := func(r *store.Reader) (err error) {
		if ask.Others, err = b.requests(r, ask.Now, ledger.Requested); err == nil {
			offer, err = b.Offer(ask)
		}
		return err
	}
	if err := b.store.View(a.ctx, look); err != nil {
		return asRefused(err)
	}
	if a.format == "text" {
		offerText(a.page(a.Out), e, ask, offer)
	}
	if w.dryRun {
		if a.format == "text" {
			a.page(a.Out).Line("\nNothing was asked for.")
			return nil
		}
		return a.requestJSON(e, 0, ask, offer)
	}
	body := ledger.RequestBody{
		Grant:     grant,
		Seconds:   int64(ask.Lasts / time.Second),
		DecideBy:  ledger.Time(offer.DecideBy),
		Reason:    ask.Reason,
		Ticket:    ask.Ticket,
		Emergency: ask.Emergency,
	}
	if ask.Within != (estate.Address{}) {
		body.Within = ask.Within.String()
	}
	if ask.Starts != nil {
		at := ledger.Time(*ask.Starts)
		body.Starts = &at
	}
	made, err := a.say(b, by, who, spoken{kind: ledger.Requested, body: body, check: look})
	if err != nil {
		return asRefused(err)
	}
	if a.format == "json" {
		return a.requestJSON(e, made.Number, ask, offer)
	}
	p := a.page(a.Out)
	if offer.Needed == 0 {
		p.Line("\n%s", p.Paint(view.Yes, fmt.Sprintf("Request %d needs no approval: it holds %s.", made.Number,
			span(e.Zone, ask.Now, offer.Begins, offer.Over))))
		return nil
	}
	p.Line("\n%s", p.Paint(view.Maybe, fmt.Sprintf("Request %d waits for %s until %s.", made.Number,
		count(offer.Needed, "approval"), clockText(e.Zone, ask.Now, offer.DecideBy))))
	p.Line("  do: hgate approve %d --by %s", made.Number, offer.Approvers[0])
	return nil
}

// spoken is something that is put into the ledger once it is seen, in the same moment, that it may be.
type spoken struct {
	kind  ledger.Kind
	about int64
	body  any
	check func(*store.Reader) error
	then  func() error // done in the same moment: where it fails, nothing was said
}

// say signs an event and puts it into the ledger.
func (a *app) say(b *book, by *acting, who actor, s spoken) (made ledger.Event, err error) {
	e, err := a.event(b.id, who.text(), s.kind, s.body)
	if err != nil {
		return e, err
	}
	e.About = s.about
	if e.Signature, err = by.sign(a, b.Gate.Estate(), who, e.Statement); err != nil {
		return e, err
	}
	err = b.store.Update(a.ctx, func(w *store.Writer) error {
		if s.check != nil {
			if err := s.check(&w.Reader); err != nil {
				return err
			}
		}
		if made, err = w.Append(e); err != nil || s.then == nil {
			return err
		}
		return s.then()
	})
	return made, err
}

// asRefused gives an error of what is done in a ledger as the command ends with it: what the rules refuse is an answer
// of no.
func asRefused(err error) error {
	if err == nil {
		return nil
	}
	switch e := err.(type) {
	case *draft.Error, outside, answered:
		return err
	case *lending.Refusal:
		return &draft.Error{Message: e.Why, Help: e.Help}
	}
	return outside{err}
}

// offerText tells what would be lent.
func offerText(p *view.Page, e *estate.Estate, ask lending.Asking, o *lending.Offer) {
	p.Line("%s", p.Paint(view.Heading, fmt.Sprintf("%s asks for grant %s", ask.Who, o.Grant.ID)))
	needs := "no approval"
	if o.Needed > 0 {
		needs = fmt.Sprintf("%s, which can come from %s", count(o.Needed, "approval"), named(texts(o.Approvers)))
	} else if ask.Emergency {
		needs = "no approval now, as it is an emergency; an approver has to sign it off"
	}
	when := span(e.Zone, ask.Now, o.Begins, o.Over)
	if o.Needed > 0 && ask.Starts == nil {
		when = "for " + estate.DurationText(ask.Lasts) + " from the approval; until " + clockText(e.Zone, ask.Now, o.Over) +
			" if it comes now"
	}
	facts(p, 2, []pair{{"gives", p.Operations(namingOf(o.Operations))}, {"where", placeText(o.Grant, ask.Within)},
		{"when", when}, {"on condition", conditionText(o.Grant)}, {"needs", needs}, {"reason", ask.Reason},
		{"ticket", ask.Ticket}})
}

// conditionText says that a grant has a condition beside the loan's time.
func conditionText(g *estate.Grant) string {
	if g.When == nil {
		return ""
	}
	return "grant " + g.ID + " has one of its own: hgate show grant " + g.ID
}

// namingOf names operations in a sentence.
func namingOf(list []*estate.Operation) change.Naming {
	n := change.Naming{Count: len(list)}
	for _, o := range list {
		if o.Caution() != "" {
			n.Grave = append(n.Grave, o)
		} else {
			n.Others = append(n.Others, o.Name)
		}
	}
	return n
}

// placeText says where a loan holds.
func placeText(g *estate.Grant, within estate.Address) string {
	if within == (estate.Address{}) {
		return named(texts(g.On))
	}
	return within.String() + " and all inside it"
}

// clockText writes an instant on the local clock; of the same day as now by its time alone.
func clockText(zone *clock.Zone, now, at clock.Instant) string {
	text := zone.Format(at - at%(60*clock.Second))
	if zone.DateOf(now) == zone.DateOf(at) {
		return text[11:16]
	}
	return text[:10] + " " + text[11:16]
}

// span writes from when until when something holds.
func span(zone *clock.Zone, now, from, until clock.Instant) string {
	if from <= now {
		return "until " + clockText(zone, now, until)
	}
	return "from " + clockText(zone, now, from) + " until " + clockText(zone, now, until)
}

func (a *app) requestJSON(e *estate.Estate, number int64, ask lending.Asking, o *lending.Offer) error {
	out := object{{"written", number > 0}}
	if number > 0 {
		out = append(out, member{"number", number})
	}
	var operations []string
	for _, op := range o.Operations {
		operations = append(operations, op.Name)
	}
	out = append(out, member{"subject", ask.Who.String()}, member{"what", ask.Grant}, member{"operations", operations})
	if ask.Within != (estate.Address{}) {
		out = append(out, member{"where", ask.Within.String()})
	}
	return a.json(append(out, member{"starts", e.Zone.Format(o.Begins)}, member{"ends", e.Zone.Format(o.Over)},
		member{"approvals", o.Needed}, member{"approvers", append([]string{}, texts(o.Approvers)...)},
		member{"decide_by", e.Zone.Format(o.DecideBy)}))
}
