package cli

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v4"

	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/review"
	"hiddengate/internal/splice"
)

func (a *app) reviewCloseCommand() *cobra.Command {
	var by acting
	var e editing
	var report string
	c := &cobra.Command{
		Use: "close REVIEW", Short: "Close a review, and take out of the policy what is to end",
		Long: `Takes out of the policy what the reviewers ended, after telling whose access that changes, ends what
is lent, and writes a report. What nobody answered stays, and the report says so. Who opened the
review closes it, or the workspace's owner.`,
		Example: openFirst + "  hgate review close 2 --report review.md --by ines.okafor --key .keys/ines.okafor",
		Args:    takes(1, 1),
	}
	c.Flags().StringVar(&report, "report", "", "a new `file` for the report, whose name ends in .txt, .csv or .md")
	by.flags(a, c)
	a.editFlags(c, &e)
	c.RunE = func(_ *cobra.Command, args []string) error {
		number, err := numberOf(args[0])
		if err != nil {
			return err
		}
		format := map[string]string{".txt": "text", ".csv": "csv", ".md": "md"}[filepath.Ext(report)]
		if report != "" && format == "" {
			return fmt.Errorf("--report %s: its name ends in .txt, .csv or .md", report)
		}
		return a.inTheNameOf(&by, func(b *book, who actor) error {
			return a.closeReview(b, &by, who, closing{number, e, reportIn{report, format}})
		})
	}
	return c
}

// closing is which review is closed, how the policy is edited, and where the report goes.
type closing struct {
	number int64
	edit   editing
	report reportIn
}

// reportIn is where a report goes, and how it is written.
type reportIn struct{ name, format string }

func (a *app) closeReview(b *book, by *acting, who actor, what closing) error {
	number, edit, to := what.number, what.edit, what.report
	var r *review.Review
	var before map[string]review.Answer
	check := func(in *store.Reader) (err error) {
		if r, err = b.review(in, number); err != nil {
			return err
		}
		if before, err = b.confirmed(in, r); err != nil {
			return err
		}
		if r.Closed != nil {
			return &draft.Error{Message: fmt.Sprintf("review %d is closed", number)}
		}
		if err := r.MayClose(&b.Book, who.who); err != nil {
			return &draft.Error{Message: err.Error()}
		}
		return nil
	}
	if err := b.store.View(a.ctx, check); err != nil {
		return refusedLoan(err)
	}
	a.acts = who.text()
	ended := endedItems(r)
	if policy := ended.policy(); len(policy) > 0 {
		if err := a.edit(edit, func(d *draft.Draft, old *estate.Estate) error {
			return a.takeOut(d, old, policy)
		}); err != nil {
			return err
		}
	}
	if edit.dryRun {
		return nil
	}
	for _, one := range ended.loans() {
		if err := a.endLoan(b, by, who, one); err != nil {
			return err
		}
	}
	left := len(r.Left())
	body := ledger.ClosedBody{Review: r.ID, Kept: len(r.Body.Items) - left - len(ended), Ended: len(ended), Left: left}
	if _, err := a.say(b, by, who, spoken{ledger.ReviewClosed, number, body, check}); err != nil {
		return refusedLoan(err)
	}
	a.page(a.Out).
		Line("Review %d is closed: %d kept, %d ended, %d not answered.", number, body.Kept, body.Ended, body.Left)
	if to.name == "" {
		return nil
	}
	return a.writeReport(b, r, before, to)
}

// ending is what a review ends.
type ending []*ledger.ReviewItem

func endedItems(r *review.Review) (out ending) {
	for i := range r.Body.Items {
		if one := &r.Body.Items[i]; r.Answers[one.Key].Says == review.End {
			out = append(out, one)
		}
	}
	return out
}

func (e ending) policy() (out ending) {
	for _, one := range e {
		if one.Loan == 0 {
			out = append(out, one)
		}
	}
	return out
}

func (e ending) loans() (out ending) {
	for _, one := range e {
		if one.Loan > 0 {
			out = append(out, one)
		}
	}
	return out
}

// takeOut takes out of the policy what is to end; what is gone already stays so.
func (a *app) takeOut(d *draft.Draft, old *estate.Estate, items ending) error {
	for _, one := range items {
		if one.Group == "" {
			if old.Grants[one.Grant] != nil {
				if err := a.remove(removal{d, old, true}, sectionNamed("grants"), one.Grant); err != nil {
					return err
				}
			}
			continue
		}
		group := old.Groups[one.Group]
		if group == nil {
			continue
		}
		for _, t := range group.Members {
			if !t.Not && t.String() == one.Member {
				if err := d.Change("groups", one.Group, "members",
					draft.Items{Drop: []*yaml.Node{splice.Scalar(one.Member)}}); err != nil {
					return err
				}
				break
			}
		}
	}
	return nil
}

// endLoan ends what is lent; what is over already stays so.
func (a *app) endLoan(b *book, by *acting, who actor, one *ledger.ReviewItem) error {
	now := a.present()
	body := ledger.DecisionBody{Why: "by a review"}
	over := false
	check := func(in *store.Reader) error {
		r, err := b.request(in, one.Loan)
		if err != nil || r == nil {
			over = r == nil
			return err
		}
		if over = finished(r, now); over {
			return nil
		}
		body.Request = r.ID
		if err := b.MayEnd(r, who.who, now); err != nil {
			return &draft.Error{Message: fmt.Sprintf("loan %d: %s", one.Loan, err)}
		}
		return nil
	}
	if err := b.store.View(a.ctx, check); err != nil || over {
		return refusedLoan(err)
	}
	_, err := a.say(b, by, who, spoken{ledger.Finished, one.Loan, body, check})
	return refusedLoan(err)
}

// writeReport writes what a review came to into a new file.
func (a *app) writeReport(b *book, r *review.Review, before map[string]review.Answer, to reportIn) error {
	f, err := createFile(to.name)
	if err != nil {
		return err
	}
	defer f.Close()
	inner := &app{
		Streams: Streams{In: strings.NewReader(""), Out: f, Err: a.Err},
		ctx:     a.ctx,
		now:     a.now,
		format:  to.format,
		color:   "never",
		dir:     a.dir,
	}
	if err := inner.showReview(b.Gate, r, before); err != nil {
		return err
	}
	if err := f.Sync(); err != nil {
		return outside{err}
	}
	a.page(a.Out).Line("Wrote %s.", to.name)
	return nil
}
