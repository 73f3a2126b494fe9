package cli

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"hiddengate/internal/clock"
	"hiddengate/internal/draft"
	"hiddengate/internal/gate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/review"
	"hiddengate/internal/tabular"
	"hiddengate/internal/view"
)

// reviewColumns are the columns of a review's sheet; a reviewer fills in the last two.
var reviewColumns = []string{"item", "what", "gives", "used", "confirmed", "answered", "answer", "why"}

// reviewSheet is a review as it is shown.
type reviewSheet struct {
	gate   *gate.Gate
	now    clock.Instant
	of     *review.Review
	before map[string]review.Answer // who kept each item last, in an earlier review
}

// row writes an item for people, with reviewColumns but the last two.
func (s *reviewSheet) row(one *ledger.ReviewItem) []string {
	var what string
	switch {
	case one.Loan > 0:
		what = fmt.Sprintf("%s has borrowed grant %s", one.Member, one.Grant)
	case one.Group != "":
		what = fmt.Sprintf("%s is a member of %s", one.Member, one.Group)
	default:
		what = fmt.Sprintf("goes to %s on %s", strings.Join(one.To, ", "), strings.Join(one.Where, ", "))
		if one.OnRequest {
			what += ", on request"
		}
	}
	gives := one.Gives
	if len(gives) > 3 {
		gives = append(gives[:3:3], fmt.Sprintf("%d more", len(one.Gives)-3))
	}
	confirmed, answered := "", ""
	if last, ok := s.before[one.Key]; ok {
		confirmed = s.signed(last)
	}
	if answer, ok := s.of.Answers[one.Key]; ok {
		if answered = answer.Says + " by " + s.signed(answer); answer.Why != "" {
			answered += ": " + answer.Why
		}
	}
	return []string{one.Key, what, strings.Join(gives, ", "), one.Used, confirmed, answered}
}

// signed names who answered, and the day.
func (s *reviewSheet) signed(a review.Answer) string {
	return a.By.String() + " " + dateOf(s.gate.Estate().Zone, a.At)
}

// rows gives a row for each item.
func (s *reviewSheet) rows() (out [][]string) {
	for i := range s.of.Body.Items {
		out = append(out, s.row(&s.of.Body.Items[i]))
	}
	return out
}

func (a *app) showReview(s *reviewSheet) error {
	switch a.format {
	case "csv":
		return s.csv(a.Out)
	case "md":
		s.markdown(a.page(a.Out))
	case "json":
		return a.json(s.object())
	default:
		s.text(a.page(a.Out))
	}
	return nil
}

func (s *reviewSheet) csv(out io.Writer) error {
	w := tabular.NewWriter(out)
	w.Write(reviewColumns)
	for _, row := range s.rows() {
		w.Write(append(row, "", ""))
	}
	return w.Flush()
}

func (s *reviewSheet) object() object {
	items := []object{}
	for _, row := range s.rows() {
		one := object{}
		for k, text := range row {
			if text != "" {
				one = append(one, member{reviewColumns[k], text})
			}
		}
		items = append(items, one)
	}
	return object{{"review", s.of.Number}, {"items", items}}
}

func (s *reviewSheet) text(p *view.Page) {
	r := s.of
	state := fmt.Sprintf("%d of %d answered, until %s", len(r.Body.Items)-len(r.Left()), len(r.Body.Items),
		clockText(s.gate.Estate().Zone, s.now, r.Until))
	if r.Closed != nil {
		state = "closed"
	}
	p.Line("%s  %s", p.Paint(view.Heading, fmt.Sprintf("review %d", r.Number)), state)
	p.Line("of %s, by %s", strings.Join(r.Body.On, ", "), strings.Join(r.Body.By, ", "))
	var rows [][]view.Cell
	for _, row := range s.rows() {
		style := map[string]view.Style{review.Keep: view.Yes, review.End: view.No}[r.Answers[row[0]].Says]
		if row[5] == "" {
			row[5], style = "open", view.Maybe
		}
		rows = append(rows, []view.Cell{{Text: row[0]}, {Text: row[1]}, {Text: row[2]}, {Text: row[3], Style: view.Faint},
			{Text: row[4], Style: view.Faint}, {Text: row[5], Style: style}})
	}
	p.Table(0, []string{"item", "what", "gives", "last used", "confirmed", "answer"}, rows)
}

// markdown writes a review as a table of Markdown.
func (s *reviewSheet) markdown(p io.Writer) {
	cell := strings.NewReplacer("|", "\\|", "\n", " ").Replace
	fmt.Fprintln(p, "| item | what | gives | last used | confirmed | answer |\n|---|---|---|---|---|---|")
	for _, row := range s.rows() {
		for k := range row {
			row[k] = cell(row[k])
		}
		fmt.Fprintln(p, "| "+strings.Join(row, " | ")+" |")
	}
}

func (a *app) reviewAnswerCommand() *cobra.Command {
	var by acting
	var from, why string
	c := &cobra.Command{
		Use: "answer REVIEW [ITEM keep|end]", Short: "Answer for items of a review",
		Long: `Keeps or ends one item; without one it asks for each that is open, in the terminal. --from reads a
sheet that 'review show --format csv' wrote and somebody filled in: the columns item, answer and why.`,
		Example: openFirst + "  hgate review answer 2 'grant drivers-steer' keep --why \"They drive\" \\\n" +
			"    --by vera.stahl --key .keys/vera.stahl",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 1 || len(args) == 3 {
				return nil
			}
			return fmt.Errorf(
				"this is written `hgate review answer REVIEW ITEM keep`, or end; or with the number of the review alone")
		},
	}
	c.Flags().StringVar(&from, "from", "", "read the answers from a CSV `file`")
	c.Flags().StringVar(&why, "why", "", "`why`")
	by.flags(a, c)
	c.RunE = func(_ *cobra.Command, args []string) error {
		number, err := numberOf(args[0])
		if err != nil {
			return err
		}
		if from != "" && len(args) > 1 {
			return fmt.Errorf("--from has the items; leave %q out", args[1])
		}
		return a.inTheNameOf(&by, func(b *book, who actor) error {
			return a.answerReview(b, &by, who, answering{number, func(r *review.Review) ([]ledger.ItemAnswer, error) {
				switch {
				case from != "":
					return a.answersFrom(from)
				case len(args) == 3:
					return []ledger.ItemAnswer{{Item: args[1], Answer: args[2], Why: why}}, nil
				}
				return a.askEach(b, r, who)
			}})
		})
	}
	return c
}

// answering is which review is answered, and how the answers are found.
type answering struct {
	number  int64
	answers func(*review.Review) ([]ledger.ItemAnswer, error)
}

// answerReview puts answers into the log, all or none.
func (a *app) answerReview(b *book, by *acting, who actor, what answering) error {
	g := b.Gate
	var r *review.Review
	look := func(in *store.Reader) (err error) {
		r, _, err = b.review(in, what.number)
		return err
	}
	if err := b.store.View(a.ctx, look); err != nil {
		return asRefused(err)
	}
	list, err := what.answers(r)
	if err != nil || len(list) == 0 {
		return err
	}
	check := func(in *store.Reader) error {
		if err := look(in); err != nil {
			return err
		}
		if !who.active(g.Estate(), a.present()) {
			return &draft.Error{Message: who.who.String() + " is not active, and so answers nothing"}
		}
		for _, one := range list {
			if one.Answer != review.Keep && one.Answer != review.End {
				return &draft.Error{
					Message: fmt.Sprintf("%q is no answer for %s: write keep or end", one.Answer, one.Item),
				}
			}
			if err := r.MayAnswer(g, one.Item, who.who); err != nil {
				return &draft.Error{Message: err.Error()}
			}
		}
		return nil
	}
	if err := b.store.View(a.ctx, check); err != nil {
		return asRefused(err)
	}
	if _, err := a.say(b, by, who, spoken{kind: ledger.ReviewAnswered, about: what.number,
		body:  ledger.AnswerBody{Review: r.ID, Answers: list},
		check: check}); err != nil {
		return asRefused(err)
	}
	a.page(a.Out).Line("Took down %s.", count(len(list), "answer"))
	return nil
}

// maxAnswers bounds how long a sheet of answers is, in bytes.
const maxAnswers = 64 << 20

// answersFrom reads the answers of a sheet; rows without one are left out.
func (a *app) answersFrom(name string) (out []ledger.ItemAnswer, err error) {
	file, err := a.open(name)
	if err != nil {
		return nil, outside{err}
	}
	defer file.Close()
	rows := csv.NewReader(io.LimitReader(file, maxAnswers))
	rows.FieldsPerRecord = -1
	heading, err := rows.Read()
	if err != nil {
		return nil, fmt.Errorf("%s:1:1: it has no heading; `hgate review show --format csv` writes such a sheet", name)
	}
	at := map[string]int{}
	for i, column := range heading {
		at[tabular.Value(strings.TrimPrefix(column, "\ufeff"))] = i
	}
	for _, column := range []string{"item", "answer"} {
		if _, ok := at[column]; !ok {
			return nil, fmt.Errorf("%s:1:1: it has no column %q", name, column)
		}
	}
	for {
		row, err := rows.Read()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		line, _ := rows.FieldPos(0)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		cell := func(column string) string {
			if i, ok := at[column]; ok && i < len(row) {
				return strings.TrimSpace(tabular.Value(row[i]))
			}
			return ""
		}
		answer := cell("answer")
		if answer == "" {
			continue
		}
		if answer != review.Keep && answer != review.End {
			return nil, fmt.Errorf("%s:%d:1: %q is no answer: write keep or end", name, line, answer)
		}
		out = append(out, ledger.ItemAnswer{Item: cell("item"), Answer: answer, Why: cell("why")})
	}
}

// askEach asks for each item that is open and theirs to answer.
func (a *app) askEach(b *book, r *review.Review, who actor) (out []ledger.ItemAnswer, err error) {
	in, isFile := a.In.(*os.File)
	if !isFile || !term.IsTerminal(int(in.Fd())) {
		return nil, &draft.Error{Message: "there is nobody to ask: this is no terminal",
			Help: "name an item and keep or end, or read a sheet with --from"}
	}
	p := a.page(a.Out)
	lines := bufio.NewReader(a.In)
	for _, key := range r.Left() {
		if r.MayAnswer(b.Gate, key, who.who) != nil {
			continue
		}
		row := (&reviewSheet{gate: b.Gate, of: r}).row(r.Item(key))
		p.Line("\n%s  %s", p.Paint(view.Heading, row[0]), row[1])
		facts(p, 2, []pair{{"gives", row[2]}, {"last used", row[3]}})
		fmt.Fprint(p, "Keep, end, later, or quit? [k/e/l/q] ")
		text, err := lines.ReadString('\n')
		if err != nil || a.ctx.Err() != nil {
			return nil, errors.Join(a.ctx.Err(), answered(exitNo))
		}
		switch strings.ToLower(strings.TrimSpace(text)) {
		case "k", "keep":
			out = append(out, ledger.ItemAnswer{Item: key, Answer: review.Keep})
		case "e", "end":
			fmt.Fprint(p, "Why? ")
			why, _ := lines.ReadString('\n')
			out = append(out, ledger.ItemAnswer{Item: key, Answer: review.End, Why: strings.TrimSpace(why)})
		case "q", "quit":
			return out, nil
		}
	}
	return out, nil
}
