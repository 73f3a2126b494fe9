package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/review"
	"hiddengate/internal/survey"
	"hiddengate/internal/view"
)

func (a *app) reviewCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "review", Short: "Have access confirmed, or ended, by those who answer for it",
		Long: `A review lists the grants, memberships and loans that give access in some places. Those who answer for
them keep or end each, in the terminal or in a sheet that goes round; nobody confirms what they hold
themselves. Closing it writes a report, and takes out of the policy what was to end.`,
		Example: "  hgate review show",
		Args:    ownCommands,
		RunE:    func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	c.AddCommand(a.reviewOpenCommand(), a.reviewShowCommand(), a.reviewAnswerCommand(), a.reviewCloseCommand())
	return c
}

const openFirst = "  hgate review open --on scope:dishes --by group:site-directors --until 2036-07-01 \\\n" +
	"    --as ines.okafor --key .keys/ines.okafor\n"

func (a *app) reviewOpenCommand() *cobra.Command {
	var on, reviewers []string
	var until, used string
	var by acting
	c := &cobra.Command{
		Use: "open", Short: "Open a review", Example: strings.TrimSuffix(openFirst, "\n"), Args: takes(0, 0),
		Long: `Lists what gives access in the places: the grants that reach there, who is listed in the groups to
which they go, and what is lent. With --used it says of each when it was last used, by a log as 'trim'
reads it.`,
	}
	c.Flags().StringSliceVar(&on, "on", nil, "the `places` whose access is reviewed")
	c.Flags().StringSliceVar(&reviewers, "by", nil, "the `subjects` who are to answer")
	c.Flags().StringVar(&until, "until", "", "the last `date` for answers")
	c.Flags().StringVar(&used, "used", "", "a `file` with a log of what was done")
	by.flagsAs(a, c, "as")
	c.RunE = func(*cobra.Command, []string) error {
		if len(on) == 0 || len(reviewers) == 0 || until == "" {
			return &draft.Error{
				Message: "a review has places, reviewers and a last day",
				Help:    "add --on, --by and --until",
			}
		}
		return a.inTheNameOf(&by, func(b *book, who actor) error {
			body, err := a.opened(b.Gate, opening{on, reviewers, until, used})
			if err != nil {
				return err
			}
			made, err := a.say(b, &by, who, spoken{kind: ledger.ReviewOpened, body: body})
			if err != nil {
				return asRefused(err)
			}
			p := a.page(a.Out)
			p.Line("%s", p.Paint(view.Yes, fmt.Sprintf("Review %d asks about %s until %s.", made.Number,
				count(len(body.Items), "item"), until)))
			p.Line("  do: hgate review show %d", made.Number)
			return nil
		})
	}
	return c
}

// opening is what a review that is opened is about.
type opening struct {
	on, reviewers []string
	until, used   string
}

// opened says what a review asks.
func (a *app) opened(g *gate.Gate, o opening) (body ledger.ReviewBody, err error) {
	e := g.Estate()
	body.By = o.reviewers
	var places estate.Resources
	for _, text := range o.on {
		t, err := estate.ParseResourceTerm(text)
		if err != nil {
			return body, fmt.Errorf("--on %s: %w", text, err)
		}
		if t.Scope != "" && e.Scopes[t.Scope] == nil {
			return body, unknown("scope", t.Scope, keys(e.Scopes))
		}
		places = append(places, t)
		body.On = append(body.On, t.String())
	}
	for _, text := range o.reviewers {
		by, err := subjectsThere(g, "by", []string{text})
		if err != nil {
			return body, err
		}
		if len(g.Members(by)) == 0 {
			return body, fmt.Errorf("--by %s names nobody", text)
		}
	}
	m, err := estate.ParseMoment(e.Zone, o.until)
	if err != nil {
		return body, fmt.Errorf("--until %s: %w", o.until, err)
	}
	now := a.present()
	if m.OverAt(e.Zone, now) {
		return body, fmt.Errorf("--until %s is over", o.until)
	}
	body.Until = ledger.Time(m.End(e.Zone))
	body.Items = review.Items(g, places, a.loans(g, now))
	if len(body.Items) == 0 {
		return body, fmt.Errorf("nothing gives access there")
	}
	if o.used != "" {
		if err := a.lastUsed(g, o.used, body.Items); err != nil {
			return body, err
		}
	}
	return body, nil
}

// lastUsed finds out from a log when each item was last used.
func (a *app) lastUsed(g *gate.Gate, name string, items []ledger.ReviewItem) error {
	read := actionReader{zone: g.Estate().Zone, estate: g.Estate(), names: map[string]string{}, name: name}
	file, err := a.open(name)
	if err != nil {
		return outside{err}
	}
	defer file.Close()
	trimmer := survey.NewTrimmer(g)
	if err := read.each(file, trimmer.Take); err != nil {
		return err
	}
	for i := range items {
		one := &items[i]
		one.Used = "never"
		if last := review.LastUsed(g.Estate(), one, trimmer.LastUse); last > 0 {
			one.Used = stamp(g.Estate().Zone, last)
		}
	}
	return nil
}

// reviews reads all reviews, by number.
func (b *book) reviews(r *store.Reader) (out []*review.Review, err error) {
	about := map[int64][]ledger.Event{}
	var numbers []int64
	events, err := r.Reviews()
	for _, e := range events {
		if e.Kind == ledger.ReviewOpened {
			numbers = append(numbers, e.Number)
			about[e.Number] = []ledger.Event{e}
		} else if about[e.About] != nil {
			about[e.About] = append(about[e.About], e)
		}
	}
	for _, n := range numbers {
		if one := review.Read(&b.Book, about[n]); one != nil {
			out = append(out, one)
		}
	}
	return out, err
}

// review finds the review of a number, and who kept its items last before it.
func (b *book) review(r *store.Reader, number int64) (*review.Review, map[string]review.Answer, error) {
	all, err := b.reviews(r)
	if err != nil {
		return nil, nil, err
	}
	for _, one := range all {
		if one.Number == number {
			return one, one.Confirmed(all), nil
		}
	}
	return nil, nil, noReview(number)
}

func noReview(number int64) error {
	return &draft.Error{Message: fmt.Sprintf("there is no review %d", number), Help: "see `hgate review show`"}
}

func numberOf(text string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 1 {
		return 0, fmt.Errorf("%q is no number of a review: `hgate review show` lists them", text)
	}
	return n, nil
}

func (a *app) reviewShowCommand() *cobra.Command {
	var remind bool
	var by acting
	c := &cobra.Command{
		Use: "show [REVIEW]", Short: "Show what a review asks, and what is answered", Args: takes(0, 1),
		Long: `Lists the reviews, or the items of one with what each gives, when it was last used, who confirmed it
last, and what is answered. --format csv writes a sheet that can go round, and come back with
'review answer --from'. --remind puts a reminder into the log, of which notices tell.`,
		Example: openFirst + "  hgate review show\n  hgate review show 2 --format csv",
	}
	c.Flags().BoolVar(&remind, "remind", false, "remind those who have not answered, by notice")
	by.flags(a, c)
	c.RunE = func(_ *cobra.Command, args []string) error {
		if len(args) == 0 {
			if remind {
				return fmt.Errorf("--remind is about one review: name its number")
			}
			return a.listReviews()
		}
		number, err := numberOf(args[0])
		if err != nil {
			return err
		}
		if remind {
			return a.inTheNameOf(&by, func(b *book, who actor) error { return a.remind(b, &by, who, number) })
		}
		g, err := a.compiled()
		if err != nil {
			return err
		}
		sheet := reviewSheet{gate: g, now: a.present()}
		if err := a.reading(g, func(b *book, r *store.Reader) (err error) {
			sheet.of, sheet.before, err = b.review(r, number)
			return err
		}); err != nil {
			return asRefused(err)
		}
		if sheet.of == nil {
			return noReview(number)
		}
		return a.showReview(&sheet)
	}
	a.formats(c, "text", "csv", "md", "json")
	return c
}

func (a *app) listReviews() error {
	g, err := a.compiled()
	if err != nil {
		return err
	}
	var all []*review.Review
	if err := a.reading(g, func(b *book, r *store.Reader) error {
		all, err = b.reviews(r)
		return err
	}); err != nil {
		return asRefused(err)
	}
	zone, now := g.Estate().Zone, a.present()
	rows := [][]view.Cell{}
	var list []object
	for _, one := range all {
		state, style := "open", view.Maybe
		switch {
		case one.Closed != nil:
			state, style = "closed", view.Faint
		case now >= one.Until:
			state, style = "overdue", view.No
		}
		left := len(one.Left())
		rows = append(rows, []view.Cell{{Text: strconv.FormatInt(one.Number, 10)}, {Text: state, Style: style},
			{Text: strings.Join(one.Body.On, ", ")}, {Text: strings.Join(one.Body.By, ", ")},
			{Text: fmt.Sprintf("%d of %d answered", len(one.Body.Items)-left, len(one.Body.Items))},
			{Text: "until " + clockText(zone, now, one.Until)}})
		list = append(list, object{{"review", one.Number}, {"state", state}, {"on", one.Body.On},
			{"reviewers", one.Body.By}, {"items", len(one.Body.Items)}, {"left", left}, {"until", zone.Format(one.Until)}})
	}
	if a.format == "json" {
		return a.json(object{{"rows", append([]object{}, list...)}})
	}
	if len(rows) == 0 {
		a.page(a.Out).Line("There is no review.")
		return nil
	}
	a.page(a.Out).Table(0, []string{"", "state", "places", "reviewers", "answers", "when"}, rows)
	return nil
}

// remind puts a reminder into the log.
func (a *app) remind(b *book, by *acting, who actor, number int64) error {
	var left []string
	check := func(r *store.Reader) error {
		one, _, err := b.review(r, number)
		if err != nil {
			return err
		}
		if left = one.Left(); one.Closed != nil || len(left) == 0 {
			return &draft.Error{Message: fmt.Sprintf("review %d asks for nothing more", number)}
		}
		return nil
	}
	if err := b.store.View(a.ctx, check); err != nil {
		return asRefused(err)
	}
	if _, err := a.say(b, by, who, spoken{kind: ledger.ReviewReminded, about: number, body: map[string]any{"left": left},
		check: check}); err != nil {
		return asRefused(err)
	}
	a.page(a.Out).Line("The log reminds of %s; `hgate log deliver` sends it.", count(len(left), "item"))
	return nil
}
