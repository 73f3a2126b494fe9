package cli

import (
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"hiddengate/internal/clock"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/lending"
	"hiddengate/internal/view"
)

// deciding is a command by which somebody says yes, no or enough to a request.
type deciding struct {
	use, short, long, example string
	kind                      ledger.Kind
	why                       string // the flag that says why; "" if there is none
	needsWhy                  bool
	may                       func(*lending.Book, *lending.Request, estate.Principal, clock.Instant) error
}

// askFirst is the request that the examples are about.
const askFirst = "  hgate request drivers-past-the-limits --for 1h --reason \"The dish is stuck\" \\\n" +
	"    --by marek.dvorin --key .keys/marek.dvorin\n"

var decisions = []deciding{
	{use: "approve", short: "Approve a request, or sign off what was lent in an emergency", kind: ledger.Approved,
		long: "Approves a request. It begins with the last approval that it needs, or when it was wished. Nobody\n" +
			"approves what they asked for, and each approver counts once.",
		example: askFirst + "  hgate approve 2 --by ines.okafor --key .keys/ines.okafor", why: "why",
		may: (*lending.Book).MayApprove},
	{use: "refuse", short: "Refuse a request, and end what was lent in an emergency", kind: ledger.Refused,
		long: "Refuses a request that waits, or what was lent in an emergency and is not signed off: that ends it.",
		example: askFirst +
			"  hgate refuse 2 --reason \"The wind is too strong\" --by ines.okafor --key .keys/ines.okafor",
		why: "reason", needsWhy: true,
		may: (*lending.Book).MayRefuse},
	{use: "finish", short: "End what is lent before its time, or take a request back", kind: ledger.Finished,
		long: "Ends what is lent at once, or takes back a request that has not begun. Who asked for it may, an\n" +
			"approver of its grant, and the workspace's owner.",
		example: askFirst + "  hgate finish 2 --by marek.dvorin --key .keys/marek.dvorin",
		why:     "why", may: (*lending.Book).MayEnd},
}

func (a *app) decideCommand(d deciding) *cobra.Command {
	var by acting
	var why string
	c := &cobra.Command{
		Use:   d.use + " [REQUEST]",
		Short: d.short,
		Long: d.long + " Without a number it is about\nthe only request of which " +
			"that can be said.",
		Example:           d.example,
		Args:              takes(0, 1),
		ValidArgsFunction: a.completeRequests,
	}
	c.Flags().StringVar(&why, d.why, "", "`why`")
	sign := true
	if d.kind == ledger.Approved {
		c.Flags().
			BoolVar(&sign, "issue", true, "sign a credential at once that has all its approvals, if its authority's key "+
				"is at hand")
	}
	by.flags(a, c)
	c.RunE = func(_ *cobra.Command, args []string) error {
		number := int64(0)
		if len(args) > 0 {
			var err error
			if number, err = requestNumber(args[0]); err != nil {
				return err
			}
		}
		if d.needsWhy && why == "" {
			return &draft.Error{Message: "who is refused is told why", Help: "add --" + d.why}
		}
		return a.inTheNameOf(&by, func(b *book, who actor) (err error) {
			if number == 0 {
				if number, err = a.onlyOne(b, who, d); err != nil {
					return err
				}
			}
			return a.decide(b, &by, who, d, decided{number, why, sign})
		})
	}
	a.formats(c, "text", "json")
	return c
}

// onlyOne finds the only request that somebody may decide so.
func (a *app) onlyOne(b *book, who actor, d deciding) (int64, error) {
	now := a.present()
	var found []string
	var number int64
	err := b.store.View(a.ctx, func(r *store.Reader) error {
		list, err := b.requests(r, now)
		for _, one := range list {
			if d.may(&b.Book, one, who.who, now) == nil {
				number = one.Number
				found = append(found, strconv.FormatInt(number, 10))
			}
		}
		return err
	})
	switch {
	case err != nil:
		return 0, outside{err}
	case len(found) == 0:
		return 0, &draft.Error{
			Message: fmt.Sprintf("there is no request for %s to %s", who.who, d.use),
			Help:    "see `hgate requests`",
		}
	case len(found) > 1:
		return 0, &draft.Error{
			Message: fmt.Sprintf("there are several requests for %s to %s: %s", who.who, d.use, named(found)),
			Help:    "name one of them",
		}
	}
	return number, nil
}

// decided is what somebody says of which request.
type decided struct {
	number int64
	why    string
	sign   bool // a credential, at once
}

func (a *app) decide(b *book, by *acting, who actor, d deciding, what decided) error {
	now := a.present()
	var r *lending.Request
	look := func(in *store.Reader) (err error) {
		if r, err = b.request(in, what.number); err != nil {
			return err
		}
		if r == nil {
			return &draft.Error{
				Message: fmt.Sprintf("there is no request %d", what.number),
				Help:    "see `hgate requests --all`",
			}
		}
		if !who.active(b.Gate.Estate(), now) {
			return &draft.Error{Message: who.who.String() + " is not active, and so decides nothing"}
		}
		if why := d.may(&b.Book, r, who.who, now); why != nil {
			return &draft.Error{Message: fmt.Sprintf("request %d: %s", what.number, why)}
		}
		return nil
	}
	if err := b.store.View(a.ctx, look); err != nil {
		return asRefused(err)
	}
	body := ledger.DecisionBody{Request: r.ID, Why: what.why}
	if _, err := a.say(b, by, who, spoken{kind: d.kind, about: what.number, body: body, check: look}); err != nil {
		return asRefused(err)
	}
	if err := b.store.View(a.ctx, func(in *store.Reader) (err error) {
		r, err = b.request(in, what.number)
		return err
	}); err != nil || r == nil {
		return outside{err}
	}
	signs := r.Credential != nil && what.sign && d.kind == ledger.Approved && r.StateAt(now) == lending.InForce
	if a.format == "json" && !signs {
		return a.json(requestObject(b.Gate.Estate(), r, now))
	}
	p := a.page(a.Out)
	state := r.StateAt(now)
	text, style := fmt.Sprintf("Request %d is %s", r.Number, state), view.Maybe
	e := b.Gate.Estate()
	switch state {
	case lending.InForce, lending.Coming:
		style = view.Yes
		if r.Credential != nil {
			if a.format == "json" {
				return a.issueApproved(b, by, who, r)
			}
			p.Line("%s", p.Paint(style, fmt.Sprintf("Request %d is approved: a credential of profile %s in the name of %s.",
				r.Number, r.Credential.ProfileID, r.Subject)))
			if !what.sign {
				p.Line("  to sign it: hgate credential issue %d", r.Number)
				return nil
			}
			return a.issueApproved(b, by, who, r)
		}
		text += fmt.Sprintf(": %s may use grant %s on %s %s", r.Subject, r.GrantID, placeText(r.Grant, r.Within),
			span(e.Zone, now, r.Begins, r.Over))
	case lending.Waiting:
		text += fmt.Sprintf(" for %s more", count(r.Needed-len(r.Approvals), "approval"))
	case lending.Refused, lending.Ended, lending.Withdrawn:
		style = view.No
	}
	if d.kind == ledger.Approved && r.Emergency {
		text = fmt.Sprintf("Request %d is signed off", r.Number)
	}
	p.Line("%s", p.Paint(style, text+"."))
	return nil
}

// active says whether who acts is active.
func (w actor) active(e *estate.Estate, at clock.Instant) bool {
	s := e.Subject(w.who)
	return s != nil && s.ActiveAt(e.Zone, at)
}

// lendCommands are those about what is lent, and about the log.
func (a *app) lendCommands() []*cobra.Command {
	out := []*cobra.Command{a.requestCommand(), a.requestsCommand()}
	for _, d := range decisions {
		out = append(out, a.decideCommand(d))
	}
	return append(out, a.inviteCommand(), a.joinCommand(), a.credentialCommand(), a.logCommand(), a.reviewCommand())
}

// completeLent offers the grants that are lent.
func (a *app) completeLent(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	g, err := a.compiled()
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []string
	for _, gr := range estate.Sorted(g.Estate().Grants) {
		if gr.OnRequest != nil {
			out = append(out, gr.ID)
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// completeRequests offers the requests of which something is left.
func (a *app) completeRequests(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	g, err := a.compiled()
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	now := a.present()
	list, err := a.readLoans(g, now)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []string
	for _, r := range list {
		if !finished(r, now) {
			out = append(out, fmt.Sprintf("%d\t%s, %s", r.Number, r.Subject, r.What()))
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}
