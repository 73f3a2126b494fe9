package cli

import (
	"bytes"
	"fmt"
	"maps"
	"path/filepath"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v4"

	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/splice"
	"hiddengate/internal/view"
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
	number, edit := what.number, what.edit
	sheet := reviewSheet{gate: b.Gate, now: a.present()}
	check := func(in *store.Reader) (err error) {
		if sheet.of, sheet.before, err = b.review(in, number); err != nil {
			return err
		}
		if sheet.of.Closed != nil {
			return &draft.Error{Message: fmt.Sprintf("review %d is closed", number)}
		}
		if err := sheet.of.MayClose(&b.Book, who.who); err != nil {
			return &draft.Error{Message: err.Error()}
		}
		return nil
	}
	if err := b.store.View(a.ctx, check); err != nil {
		return asRefused(err)
	}
	var report *newFile
	if what.report.name != "" && !edit.dryRun {
		var err error
		if report, err = createFile(what.report.name); err != nil {
			return err
		}
		defer report.drop()
	}
	edit.who = who.text()
	policy, loans := sheet.of.Ended()
	if len(policy) > 0 {
		if err := a.edit(edit, func(d *draft.Draft, old *estate.Estate) error {
			return a.takeOut(d, old, policy)
		}); err != nil {
			return err
		}
	}
	if edit.dryRun {
		return nil
	}
	for _, one := range loans {
		if err := a.endLoan(b, by, who, one); err != nil {
			return err
		}
	}
	ended, left := len(policy)+len(loans), len(sheet.of.Left())
	body := ledger.ClosedBody{Review: sheet.of.ID, Kept: len(sheet.of.Body.Items) - left - ended, Ended: ended, Left: left}
	answers := sheet.of.Answers
	if _, err := a.say(b, by, who, spoken{kind: ledger.ReviewClosed, about: number, body: body,
		check: func(in *store.Reader) error {
			if err := check(in); err != nil {
				return err
			}
			if !maps.Equal(answers, sheet.of.Answers) {
				return &draft.Error{Message: fmt.Sprintf("review %d was answered meanwhile; close it again", number)}
			}
			return nil
		}}); err != nil {
		return asRefused(err)
	}
	p := a.page(a.Out)
	p.Line("Review %d is closed: %d kept, %d ended, %d not answered.", number, body.Kept, body.Ended, body.Left)
	if report == nil {
		return nil
	}
	if err := b.store.View(a.ctx, func(in *store.Reader) (err error) {
		sheet.of, sheet.before, err = b.review(in, number)
		return err
	}); err != nil {
		return asRefused(err)
	}
	if err := what.report.write(report, &sheet); err != nil {
		return err
	}
	p.Line("Wrote %s.", what.report.name)
	return nil
}

// write writes what a review came to.
func (to reportIn) write(f *newFile, s *reviewSheet) error {
	var text bytes.Buffer
	switch to.format {
	case "csv":
		if err := s.csv(&text); err != nil {
			return err
		}
	case "md":
		s.markdown(&view.Page{Writer: &text})
	default:
		s.text(&view.Page{Writer: &text, Width: 100})
	}
	if _, err := f.Write(text.Bytes()); err != nil {
		return outside{err}
	}
	return f.keep()
}

// takeOut takes out of the policy what is to end; what is gone already stays so.
func (a *app) takeOut(d *draft.Draft, old *estate.Estate, items []*ledger.ReviewItem) error {
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
		return asRefused(err)
	}
	_, err := a.say(b, by, who, spoken{kind: ledger.Finished, about: one.Loan, body: body, check: check})
	return asRefused(err)
}
