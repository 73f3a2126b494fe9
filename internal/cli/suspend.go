package cli

import (
	"fmt"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v4"

	"hiddengate/internal/clock"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/splice"
	"hiddengate/internal/view"
)

// absence is a time in which somebody is suspended, as flags say it.
type absence struct{ from, until, why string }

func (w *absence) flags(c *cobra.Command) {
	c.Flags().StringVar(&w.from, "from", "", "the first `date or time` of an absence (now, where left out)")
	c.Flags().StringVar(&w.until, "until", "", "the last `date`, or the time at which it is over")
	c.Flags().StringVar(&w.why, "why", "", "`why` they are away")
}

// check says what is wrong with the flags; dated says whether they name a time at all.
func (w *absence) check() (dated bool, err error) {
	switch {
	case w.until != "":
		return true, nil
	case w.from != "":
		return false, fmt.Errorf(
			"--from needs --until, the last day of the absence; without either the suspension has no end")
	case w.why != "":
		return false, fmt.Errorf("--why stands in the record of a dated absence; add --until, or leave --why out")
	}
	return false, nil
}

// node gives the absence as it stands in a file.
func (w *absence) node(zone *clock.Zone, now clock.Instant) (*yaml.Node, error) {
	if w.from == "" {
		w.from = zone.Format(now)
	}
	var moments [2]*estate.Moment
	for i, text := range []string{w.from, w.until} {
		m, err := estate.ParseMoment(zone, text)
		if err != nil {
			return nil, fmt.Errorf("--%s %s: %w", []string{"from", "until"}[i], text, err)
		}
		moments[i] = m
	}
	if from := moments[0]; !from.IsDate && moments[1].OverAt(zone, from.Instant) || from.IsDate &&
		(moments[1].IsDate && moments[1].Date.String() < from.Date.String() ||
			!moments[1].IsDate && zone.DateOf(moments[1].Instant).String() < from.Date.String()) {
		return nil, fmt.Errorf("the absence would be over before it begins: --from %s, --until %s", w.from, w.until)
	}
	pairs := []*yaml.Node{splice.Scalar("starts"), splice.Scalar(w.from), splice.Scalar("ends"), splice.Scalar(w.until)}
	if w.why != "" {
		pairs = append(pairs, splice.Scalar("why"), splice.Scalar(w.why))
	}
	return splice.Map(pairs...), nil
}

func (a *app) suspendCommand() *cobra.Command {
	var e editing
	var w absence
	c := &cobra.Command{
		Use: "suspend SUBJECT…", Short: "Keep people or services from everything, until they are resumed",
		Long: `Takes all access from people or services, and leaves their groups and grants as they are. With --until
it lasts for a time, which stands in the files as 'away': every decision, test and proof at a moment
within it says no, and nobody has to remember to end it.`,
		Example: "  hgate suspend pia.lindqvist\n  hgate suspend service:nightly-reduce\n" +
			"  hgate suspend ines.okafor --from 2028-02-01 --until 2028-03-31 --why Teaching",
		Args: cobra.MinimumNArgs(1), ValidArgsFunction: a.completeStatus("active"),
	}
	a.editFlags(c, &e)
	w.flags(c)
	c.RunE = func(_ *cobra.Command, args []string) error {
		dated, err := w.check()
		if err != nil {
			return err
		}
		e.head = view.And(args) + " " + verb(len(args), "lose") + " all access."
		if dated {
			e.head = view.And(args) + " " + verb(len(args), "lose") + " all access"
			if w.from != "" {
				e.head += " from " + w.from
			}
			e.head += " until " + w.until + "."
		}
		return a.edit(e, func(d *draft.Draft, old *estate.Estate) error {
			now, err := a.day(old.Zone)
			if err != nil {
				return err
			}
			return eachPresent(old, args, func(s policyfile.Section, id string) error {
				if err := unprotected(old, s, id, "suspended"); err != nil {
					return err
				}
				if !dated {
					return d.Set(s.Name, id, "status", splice.Scalar("suspended"))
				}
				one, err := w.node(old.Zone, now)
				if err != nil {
					return err
				}
				return d.Change(s.Name, id, "away", draft.Items{Add: []*yaml.Node{one}})
			})
		})
	}
	return c
}

func (a *app) resumeCommand() *cobra.Command {
	var e editing
	c := &cobra.Command{
		Use: "resume SUBJECT…", Short: "Let suspended people or services in again",
		Long:    `Ends a suspension: one without an end, and every dated absence that is not over.`,
		Example: "  hgate resume pia.lindqvist\n  hgate resume service:nightly-reduce",
		Args:    cobra.MinimumNArgs(1), ValidArgsFunction: a.completeStatus("suspended"),
	}
	a.editFlags(c, &e)
	c.RunE = func(_ *cobra.Command, args []string) error {
		return a.edit(e, func(d *draft.Draft, old *estate.Estate) error {
			now, err := a.day(old.Zone)
			if err != nil {
				return err
			}
			return eachPresent(old, args, func(s policyfile.Section, id string) error {
				if err := d.Set(s.Name, id, "status", nil); err != nil {
					return err
				}
				return endAbsences(d, old, s, id, now)
			})
		})
	}
	return c
}

// endAbsences takes out the absences that are not over.
func endAbsences(d *draft.Draft, old *estate.Estate, s policyfile.Section, id string, now clock.Instant) error {
	body, err := d.Body(s.Name, id)
	if err != nil {
		return err
	}
	list := splice.Under(body, "away")
	if list == nil {
		return nil
	}
	items := []*yaml.Node{list}
	if list.Kind == yaml.SequenceNode {
		items = list.Content
	}
	left := splice.List()
	for i, one := range old.Subject(subjectOf(s, id)).Away {
		if one.Ends.OverAt(old.Zone, now) {
			left.Content = append(left.Content, items[i])
		}
	}
	if len(left.Content) == 0 {
		left = nil
	}
	return d.Set(s.Name, id, "away", left)
}

// eachPresent goes over people and services, none of whom has left or is yet to come.
func eachPresent(old *estate.Estate, subjects []string, do func(s policyfile.Section, id string) error) error {
	for _, who := range subjects {
		s, id, err := subjectSection(who)
		if err != nil {
			return err
		}
		if err := existing(old, s, id); err != nil {
			return err
		}
		if was := old.Subject(subjectOf(s, id)).Status; was == "left" || was == "invited" {
			has := map[string]string{"left": "has left", "invited": "is invited and has not come yet"}[was]
			return &draft.Error{Message: who + " " + has + ", and so has no access that could be suspended or resumed",
				Help: fmt.Sprintf("if they are there: hgate set %s %s --status active", s.One, id)}
		}
		if err := do(s, id); err != nil {
			return err
		}
	}
	return nil
}
