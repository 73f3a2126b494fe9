package cli

import (
	"fmt"
	"iter"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hiddengate/internal/estate"
	"hiddengate/internal/target"
	"hiddengate/internal/view"
	"hiddengate/internal/visible"
)

// probing says what is asked, and how fast.
type probing struct {
	sample int
	who    []string
	where  []string
	rate   int
}

func (a *app) probeCommand() *cobra.Command {
	var q probing
	c := &cobra.Command{
		Use: "probe SYSTEM", Short: "Ask a real system itself, as each account, whether it does what the policy says",
		Long: `Asks the system about every account, operation and resource that its driver carries. It tries for
real where that is harmless, in that the system gets ready to do it as the account and then does not,
and asks the system's own functions elsewhere; nothing is changed. It exits with 1 on a difference, and
tells its cause in the system.`,
		Example: "  hgate probe obsdb\n  hgate probe obsdb --who group:juniors --where obsdb:sky\n" +
			"  hgate probe obsdb --sample 1000 --format junit",
		Args: takes(1, 1),
	}
	a.systemArg(c)
	c.Flags().IntVar(&q.sample, "sample", 0, "ask so `many` questions, chosen at random; all, where left out")
	c.Flags().StringSliceVar(&q.who, "who", nil, "ask about these `subjects` alone")
	c.Flags().StringSliceVar(&q.where, "where", nil, "ask about these `places` alone")
	c.Flags().IntVar(&q.rate, "rate", 0, "ask so `many` questions a second at most")
	a.formats(c, "text", "json", "junit")
	c.RunE = func(_ *cobra.Command, args []string) error {
		if q.sample < 0 || q.rate < 0 {
			return fmt.Errorf("--sample and --rate are numbers from 1 on")
		}
		return a.probe(args[0], q)
	}
	return c
}

// probed is what a system said.
type probed struct {
	asked, tried int
	wrong        []target.Answer
}

func (a *app) probe(id string, q probing) error {
	c, err := a.carried(id, "")
	if err != nil {
		return err
	}
	who, covered, err := q.chosen(c)
	if err != nil {
		return err
	}
	r, err := a.reached(c)
	if err != nil {
		return err
	}
	defer r.system.Close()
	state := r.arrangement.State
	within := make([]bool, len(state.Places))
	for place := range within {
		within[place] = covered(state.Address(c.id, place))
	}
	questions := sampled(r.arrangement.Questions(who, func(place int) bool { return within[place] }), q.sample)
	var out probed
	begun := time.Now()
	done := a.progress("asking " + c.id)
	err = r.system.Ask(a.ctx, r.was, questions, func(answer target.Answer) bool {
		out.asked++
		if answer.Tried {
			out.tried++
		}
		if !answer.Agrees() {
			out.wrong = append(out.wrong, answer)
		}
		return q.wait(a, begun, out.asked)
	})
	done()
	if err == nil {
		err = a.ctx.Err()
	}
	if err != nil {
		return outside{err}
	}
	switch a.format {
	case "json":
		err = a.probeJSON(c, state, out)
	case "junit":
		err = a.probeJUnit(c, state, out)
	default:
		a.probeText(c, state, out)
		a.asideText(r.arrangement.Wanted, state)
	}
	if err == nil && len(out.wrong) > 0 {
		err = answered(exitNo)
	}
	return err
}

// wait holds the pace; false if the command is to end.
func (q probing) wait(a *app, begun time.Time, asked int) bool {
	if q.rate > 0 {
		due := begun.Add(time.Duration(asked) * time.Second / time.Duration(q.rate))
		select {
		case <-time.After(time.Until(due)):
		case <-a.ctx.Done():
		}
	}
	return a.ctx.Err() == nil
}

// chosen says about whom and where is asked.
func (q probing) chosen(c *carrying) (who func(estate.Principal) bool, where func(estate.Address) bool, err error) {
	who, where = func(estate.Principal) bool { return true }, func(estate.Address) bool { return true }
	if len(q.who) > 0 {
		list, err := subjectsThere(c.gate, "who", q.who)
		if err != nil {
			return nil, nil, err
		}
		if len(c.gate.Members(list)) == 0 {
			return nil, nil, fmt.Errorf("--who %s names nobody", strings.Join(q.who, ","))
		}
		who = func(p estate.Principal) bool { return c.gate.Selects(list, p) }
	}
	if len(q.where) > 0 {
		var list estate.Resources
		for _, text := range q.where {
			t, err := estate.ParseResourceTerm(text)
			if err != nil {
				return nil, nil, fmt.Errorf("--where %s: %w", text, err)
			}
			if t.Scope != "" && c.gate.Estate().Scopes[t.Scope] == nil {
				return nil, nil, unknown("scope", t.Scope, keys(c.gate.Estate().Scopes))
			}
			list = append(list, t)
		}
		e := c.gate.Estate()
		where = func(at estate.Address) bool {
			if row := e.Tree.Find(e.Canonical(at).String()); row >= 0 {
				return c.gate.Covers(list, e.Tree.At(row))
			}
			return e.Systems[c.id].Judge && c.gate.Covers(list, e.Unlisted(at))
		}
	}
	return who, where, nil
}

// sampled chooses some of the questions at random, in their order; all, where most is 0. All are equally likely (J. S.
// Vitter, "Random Sampling with a Reservoir", 1985, algorithm R).
func sampled(questions iter.Seq[target.Question], most int) iter.Seq[target.Question] {
	if most == 0 {
		return questions
	}
	type numbered struct {
		target.Question
		number int
	}
	var chosen []numbered
	n := 0
	for q := range questions {
		if n < most {
			chosen = append(chosen, numbered{q, n})
		} else if i := rand.IntN(n + 1); i < most {
			chosen[i] = numbered{q, n}
		}
		n++
	}
	slices.SortFunc(chosen, func(a, b numbered) int { return a.number - b.number })
	return func(yield func(target.Question) bool) {
		for _, one := range chosen {
			if !yield(one.Question) {
				return
			}
		}
	}
}

func verdict(allowed bool) string { return map[bool]string{true: "allow", false: "deny"}[allowed] }

func howAsked(a target.Answer) string { return map[bool]string{true: "tried", false: "asked"}[a.Tried] }

func (a *app) probeText(c *carrying, state *target.State, out probed) {
	p := a.page(a.Out)
	said := fmt.Sprintf("%d of %s, %d of them tried", out.asked-len(out.wrong), count(out.asked, "answer"), out.tried)
	switch {
	case out.asked == 0:
		p.Line("There is nothing to ask %s about.", c.id)
		return
	case len(out.wrong) == 0:
		p.Line("%s", p.Paint(view.Yes, fmt.Sprintf("%s does what the policy says: %s.", c.id, said)))
		return
	}
	p.Line("%s", p.Paint(view.No, fmt.Sprintf("%s does not do what the policy says: it agrees in %s.", c.id, said)))
	for _, d := range target.Group(out.wrong) {
		var operations []*estate.Operation
		for _, name := range d.Operations {
			operations = append(operations, c.gate.Estate().Operations[name])
		}
		var places []string
		for _, n := range d.Places {
			places = append(places, state.Address(c.id, n).String())
		}
		word, style, says := "cannot use", view.Maybe, "which the policy allows"
		if d.Allowed {
			word, style, says = "can use", view.No, "which the policy denies"
		}
		p.Line("  %s %s %s on %s, %s: %s", p.Paint(view.Heading, someTexts(d.Accounts)), p.Paint(style, word),
			p.Operations(namingOf(operations)), someTexts(places), says, d.Why)
	}
	p.Line("  do: hgate push %s", c.id)
}

func (a *app) probeJSON(c *carrying, state *target.State, out probed) error {
	differences := []object{}
	for _, w := range out.wrong {
		differences = append(differences, object{{"account", w.Holder.Account}, {"subject", w.Holder.Subject.String()},
			{"operation", w.Operation}, {"resource", state.Address(c.id, w.Place).String()}, {"system", verdict(w.Allowed)},
			{"policy", verdict(w.Expected)}, {"how", howAsked(w)}, {"why", w.Why}})
	}
	return a.json(object{{"system", c.id}, {"asked", out.asked}, {"agreed", out.asked - len(out.wrong)},
		{"tried", out.tried}, {"differences", differences}})
}

// probeJUnit writes a case for the system, and one for each difference.
func (a *app) probeJUnit(c *carrying, state *target.State, out probed) error {
	s := junitSuite{Name: "hgate probe " + c.id, Tests: out.asked, Failures: len(out.wrong)}
	s.Cases = append(s.Cases, junitCase{Name: fmt.Sprintf("%d answers that agree", out.asked-len(out.wrong)),
		Classname: c.id})
	for _, w := range out.wrong {
		s.Cases = append(s.Cases, junitCase{
			Name:      visible.Clean(fmt.Sprintf("%s %s %s", w.Holder.Account, w.Operation, state.Address(c.id, w.Place))),
			Classname: c.id,
			Failure: &junitFailure{Message: fmt.Sprintf("the system says %s, the policy %s", verdict(w.Allowed),
				verdict(w.Expected)), Text: visible.Clean(w.Why)}})
	}
	return a.junit(s)
}
