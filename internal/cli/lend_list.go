package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/lending"
	"hiddengate/internal/view"
)

func (a *app) requestsCommand() *cobra.Command {
	var all bool
	var who string
	c := &cobra.Command{
		Use: "requests", Short: "List who asked for what, and what is lent",
		Long: `Lists the requests that wait for approvals, what is lent now or will be, and what was lent in an
emergency and is not signed off yet. --all lists those that are over as well.`,
		Example: "  hgate requests\n  hgate requests --all --who marek.dvorin",
		Args:    takes(0, 0),
	}
	c.Flags().BoolVar(&all, "all", false, "those too that are over, refused or taken back")
	c.Flags().StringVar(&who, "who", "", "those of one `subject` alone")
	_ = c.RegisterFlagCompletionFunc("who", a.completeSection("people"))
	c.Flags().StringVar(&a.at, "at", "", "the `time` at which they are looked at (now, where left out)")
	c.RunE = func(*cobra.Command, []string) error {
		g, err := a.compiled()
		if err != nil {
			return err
		}
		e := g.Estate()
		now, err := a.day(e.Zone)
		if err != nil {
			return err
		}
		var only *estate.Principal
		if who != "" {
			p, err := subject(g, who)
			if err != nil {
				return err
			}
			only = &p
		}
		var list []*lending.Request
		err = a.reading(g, func(b *book, r *store.Reader) error {
			if now < a.present() {
				b.Until = now
			}
			if all {
				list, err = b.everyRequest(r)
			} else {
				list, err = b.requests(r, now)
			}
			return err
		})
		if err != nil {
			return outside{err}
		}
		var shown []*lending.Request
		for _, r := range list {
			if only != nil && r.Subject != *only || !all && finished(r, now) {
				continue
			}
			shown = append(shown, r)
		}
		if a.format == "json" {
			return a.json(object{{"rows", requestObjects(e, shown, now)}})
		}
		a.requestsText(e, shown, now, all)
		return nil
	}
	a.formats(c, "text", "json")
	return c
}

// finished says whether nothing of a request is left at an instant: it neither waits, nor is lent, nor will be.
func finished(r *lending.Request, at clock.Instant) bool {
	state := r.StateAt(at)
	return state != lending.Waiting && state != lending.Coming && state != lending.InForce && !r.ToSignOff()
}

// everyRequest reads all requests that there ever were, by number.
func (b *book) everyRequest(r *store.Reader) (out []*lending.Request, err error) {
	b.About = r.About
	about := map[int64][]ledger.Event{}
	var numbers []int64
	wanted := store.Filter{Kinds: []string{"request.", "loan.", "credential."}}
	err = r.Events(wanted, func(number int64, e ledger.Event, wrong error) bool {
		switch {
		case wrong != nil:
		case e.Kind.IsRequest():
			numbers = append(numbers, number)
			about[number] = []ledger.Event{e}
		case about[e.About] != nil:
			about[e.About] = append(about[e.About], e)
		}
		return true
	})
	for _, n := range numbers {
		if one := b.Read(about[n]); one != nil {
			out = append(out, one)
		}
	}
	return out, err
}

func (a *app) requestsText(e *estate.Estate, list []*lending.Request, now clock.Instant, all bool) {
	p := a.page(a.Out)
	if len(list) == 0 {
		p.Line("%s", map[bool]string{true: "Nobody has asked for anything.",
			false: "No request waits, and nothing is lent; --all lists those that are over."}[all])
		return
	}
	a.requestsTable(e, list, now)
}

// requestsTable writes requests in rows.
func (a *app) requestsTable(e *estate.Estate, list []*lending.Request, now clock.Instant) {
	var rows [][]view.Cell
	for _, r := range list {
		state := r.StateAt(now)
		style := map[lending.State]view.Style{lending.Waiting: view.Maybe, lending.Coming: view.Yes,
			lending.InForce: view.Yes,
			lending.Refused: view.No}[state]
		word := state.String()
		if r.ToSignOff() {
			word += view.Break + "to be signed off"
			style = view.Maybe
		}
		where := "all of it"
		if r.Credential != nil {
			where = ""
		}
		if r.Within != (estate.Address{}) {
			where = r.Within.String()
		}
		rows = append(rows, []view.Cell{{Text: strconv.FormatInt(r.Number, 10)}, {Text: word, Style: style},
			{Text: r.Subject.String()}, {Text: whatText(r)}, {Text: where}, {Text: timesOf(e, r, now)},
			{Text: remarks(r, state), Style: view.Faint}})
	}
	a.page(a.Out).Table(0, []string{"", "state", "who", "what", "where", "when", "why"}, rows)
}

// timesOf says when something is or was lent, or until when it waits.
func timesOf(e *estate.Estate, r *lending.Request, now clock.Instant) string {
	if r.Begins > 0 {
		if r.Over == r.Begins {
			return "never"
		}
		return span(e.Zone, now, r.Begins, r.Over)
	}
	text := estate.DurationText(r.Asked)
	if r.Wished != nil {
		text += " from " + clockText(e.Zone, now, *r.Wished)
	}
	if r.StateAt(now) == lending.Waiting {
		text += ", if approved by " + clockText(e.Zone, now, r.DecideBy)
	}
	return text
}

// whatText names what a request is for: a grant by its id alone.
func whatText(r *lending.Request) string {
	if r.Credential != nil {
		return "credential" + view.Break + r.Credential.ProfileID
	}
	return r.GrantID
}

// remarks says why somebody asked, and who said what.
func remarks(r *lending.Request, state lending.State) string {
	var parts []string
	if r.Reason != "" {
		parts = append(parts, r.Reason)
	}
	if r.Ticket != "" {
		parts = append(parts, "ticket "+r.Ticket)
	}
	for _, s := range r.Approvals {
		parts = append(parts, "approved by "+s.By.String())
	}
	if r.Asker != r.Subject {
		parts = append(parts, "asked for by "+askerText(r))
	}
	if c := r.Credential; c != nil && c.Issued == nil && state == lending.InForce {
		parts = append(parts, "to be issued")
	}
	if state == lending.Waiting {
		parts = append(parts, fmt.Sprintf("needs %d more", r.Needed-len(r.Approvals)))
	}
	for _, one := range []struct {
		what string
		said *lending.Said
	}{{"refused", r.Refused}, {"ended", r.Ended}} {
		s := one.said
		if s == nil {
			continue
		}
		text := one.what + " by " + s.By.String()
		if s.Why != "" {
			text += ": " + s.Why
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, "; ")
}

func requestObjects(e *estate.Estate, list []*lending.Request, now clock.Instant) []object {
	rows := []object{}
	for _, r := range list {
		rows = append(rows, requestObject(e, r, now))
	}
	return rows
}

// lentTo lists what a person or service asked for and has not had to its end; nil for other sections.
func (a *app) lentTo(g *gate.Gate, section, id string) ([]*lending.Request, error) {
	if section != "people" && section != "services" {
		return nil, nil
	}
	out := []*lending.Request{}
	now := a.present()
	for _, r := range a.askedFor(g, now) {
		if r.Subject == subjectOf(sectionNamed(section), id) && !finished(r, now) {
			out = append(out, r)
		}
	}
	return out, nil
}

// fixedStates are the states as other programs read them; they do not become more.
var fixedStates = map[lending.State]string{lending.Waiting: "waiting", lending.Coming: "to-come",
	lending.InForce: "in-force", lending.Over: "over", lending.Ended: "over", lending.Withdrawn: "lapsed",
	lending.Refused: "refused", lending.Lapsed: "lapsed", lending.Void: "lapsed"}

// requestObject writes a request as JSON.
func requestObject(e *estate.Estate, r *lending.Request, now clock.Instant) object {
	state := r.StateAt(now)
	kind, what := "loan", r.GrantID
	if c := r.Credential; c != nil {
		if kind, what = "credential", c.ProfileID; c.Profile != nil {
			what = c.Profile.Address().String()
		}
	}
	out := object{{"number", r.Number}, {"kind", kind}, {"state", fixedStates[state]}, {"detail", state.String()},
		{"subject", r.Subject.String()}, {"what", what}}
	add := func(key, text string) {
		if text != "" {
			out = append(out, member{key, text})
		}
	}
	if r.Within != (estate.Address{}) {
		add("where", r.Within.String())
	}
	out = append(out, member{"made", e.Zone.Format(r.Made)}, member{"seconds", int64(r.Asked.Seconds())})
	if r.Begins > 0 {
		add("starts", e.Zone.Format(r.Begins))
		add("ends", e.Zone.Format(r.Over))
	} else {
		add("decide_by", e.Zone.Format(r.DecideBy))
	}
	if r.Asker != r.Subject {
		add("asked_by", askerText(r))
	}
	if c := r.Credential; c != nil && c.Issued != nil {
		add("authority", c.Issued.Authority)
		add("serial", c.Issued.Serial)
		add("certificate", c.Issued.Certificate)
	}
	add("reason", r.Reason)
	add("ticket", r.Ticket)
	approvals := []object{}
	for _, s := range r.Approvals {
		approvals = append(approvals, saidObject(e, s))
	}
	out = append(out, member{"emergency", r.Emergency}, member{"to_sign_off", r.ToSignOff()},
		member{"needs", r.Needed}, member{"approvals", approvals})
	if r.Refused != nil {
		out = append(out, member{"refused", saidObject(e, *r.Refused)})
	}
	if r.Ended != nil {
		out = append(out, member{"ended", saidObject(e, *r.Ended)})
	}
	return out
}

// askerText names who asked.
func askerText(r *lending.Request) string {
	if r.Asker == (estate.Principal{}) {
		return "a stranger"
	}
	return r.Asker.String()
}

func saidObject(e *estate.Estate, s lending.Said) object {
	out := object{{"by", s.By.String()}, {"at", e.Zone.Format(s.At)}}
	if s.Why != "" {
		out = append(out, member{"why", s.Why})
	}
	return out
}
