package cli

import (
	"fmt"
	"math"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/logbook"
	"hiddengate/internal/view"
)

// logFlags are what `log` is asked for.
type logFlags struct {
	actor, subject, object, where, since, until string
	kinds                                       []string
	last                                        int
	follow                                      bool
}

func (a *app) logCommand() *cobra.Command {
	var f logFlags
	c := &cobra.Command{
		Use: "log", Short: "Tell who did what, when, and from where",
		Long: `Tells the events of the workspace's ledger: who asked for what, approved, refused or ended it, and
who changed the policy with which effect. Changes of the files by another way than a command are told
as found.`,
		Example: "  hgate log --since 2027-12-01 --actor ines.okafor\n  hgate log --object 'grant books'\n" +
			"  hgate log --kind request. --format ndjson",
		Args: ownCommands,
	}
	fl := c.Flags()
	fl.StringVar(&f.actor, "actor", "", "what this `subject` did")
	fl.StringVar(&f.subject, "subject", "", "what concerns the access of this `subject`")
	fl.StringVar(&f.object, "object", "", "what concerns this `entry`, such as 'grant books'")
	fl.StringVar(&f.where, "where", "", "what concerns this `place`, or what is inside it; or a scope:NAME")
	fl.StringSliceVar(&f.kinds, "kind", nil,
		"events of this `kind`, such as request.made, or request. for all that begin so")
	fl.StringVar(&f.since, "since", "", "from this `date or time` on")
	fl.StringVar(&f.until, "until", "", "before this `time`, or through this date")
	fl.IntVar(&f.last, "last", 0, "the last so `many` of them (30 in text, where left out)")
	fl.BoolVar(&f.follow, "follow", false, "go on with what comes, until it is interrupted")
	_ = c.RegisterFlagCompletionFunc("actor", a.completeSection("people"))
	_ = c.RegisterFlagCompletionFunc("subject", a.completeSection("people"))
	var kinds []string
	for _, k := range ledger.Kinds {
		kinds = append(kinds, string(k))
	}
	_ = c.RegisterFlagCompletionFunc("kind", cobra.FixedCompletions(kinds, cobra.ShellCompDirectiveNoFileComp))
	c.RunE = func(cmd *cobra.Command, _ []string) error {
		if f.last < 0 {
			return fmt.Errorf("--last %d: write how many, from 1", f.last)
		}
		if f.follow && a.format == "json" {
			return fmt.Errorf("--follow never comes to the end of one JSON document: use --format ndjson")
		}
		if f.last == 0 && a.format == "text" && !f.follow {
			f.last = 30
		}
		g, err := a.compiled()
		if err != nil {
			return err
		}
		return a.log(g, f)
	}
	a.formats(c, "text", "json", "ndjson", "csv", "syslog", "cloudevents")
	c.AddCommand(a.logVerifyCommand(), a.logHeadCommand(), a.logStatementCommand(), a.logExportCommand(),
		a.logImportCommand(), a.logPrepareCommand(), a.logDeliverCommand())
	return c
}

// pace is how often a log that is followed is looked at.
const pace = 500 * time.Millisecond

func (a *app) log(g *gate.Gate, f logFlags) error {
	wanted, err := f.filter(g.Estate().Zone)
	if err != nil {
		return err
	}
	match, err := f.matcher(g)
	if err != nil {
		return err
	}
	dir, err := a.folder()
	if err != nil {
		return err
	}
	s, err := a.ledger(dir, false)
	if err != nil {
		return err
	}
	defer func() {
		if s != nil {
			s.Close()
		}
	}()
	if s != nil {
		if err := a.noted(s, dir, g.Estate()); err != nil {
			a.page(a.Err).Line("hgate: what was changed in the files by another way could not be noted: %s", err)
		}
	}
	out := a.logWriter(g.Estate())
	for first := true; ; first = false {
		if s == nil {
			if s, err = a.ledger(dir, false); err != nil {
				return err
			}
		}
		if s != nil {
			if wanted.After, err = a.logOnce(s, wanted, f, match, out); err != nil {
				return err
			}
		}
		f.last = 0 // what comes is told as a whole
		if first && !out.any() && a.format == "text" && !f.follow {
			a.page(a.Out).Line("The log has no such events.")
		}
		if !f.follow {
			return out.end()
		}
		select {
		case <-a.ctx.Done():
			return nil
		case <-time.After(pace):
		}
	}
}

// atOnce is how many events are read in one go.
const atOnce = 2000

// logOnce tells the events that are there, and gives the number of the last one.
func (a *app) logOnce(s *store.Store, wanted store.Filter, f logFlags, match func(*logbook.Entry) bool,
	out *logWriter) (int64, error) {
	if f.last > 0 {
		last, kept, err := a.newest(s, wanted, f.last, match)
		for i := len(kept) - 1; i >= 0 && err == nil; i-- {
			err = out.write(kept[i])
		}
		if err != nil {
			return last, outside{err}
		}
		return last, out.flush()
	}
	for {
		var batch portion
		err := s.View(a.ctx, func(r *store.Reader) (err error) {
			batch, err = portionOf(r, wanted, atOnce, match)
			return err
		})
		wanted.After = max(wanted.After, batch.last)
		for i := 0; i < len(batch.entries) && err == nil; i++ {
			err = out.write(batch.entries[i])
		}
		if err != nil {
			return wanted.After, outside{err}
		}
		if !batch.more {
			return wanted.After, out.flush()
		}
	}
}

// portion is some of the events that are wanted, in order.
type portion struct {
	entries []*logbook.Entry // those that match
	last    int64            // the number of the last that was looked at; 0 for none
	more    bool             // there may be more behind it
}

// portionOf looks at the next events that are wanted, up to so many.
func portionOf(
	r *store.Reader, wanted store.Filter, most int, match func(*logbook.Entry) bool,
) (out portion, err error) {
	var events []ledger.Event
	if err := r.Events(wanted, func(number int64, e ledger.Event, wrong error) bool {
		if out.last = number; wrong == nil {
			events = append(events, e)
		}
		out.more = len(events) == most
		return !out.more
	}); err != nil {
		return out, err
	}
	reading := logbook.Reader{Find: r.Event}
	for _, e := range events {
		t, err := reading.Read(e)
		if err != nil {
			return out, err
		}
		if match(t) {
			out.entries = append(out.entries, t)
		}
	}
	return out, nil
}

// newest reads the last so many events that match, the newest first, and gives the number of the newest of all.
func (a *app) newest(s *store.Store, wanted store.Filter, most int,
	match func(*logbook.Entry) bool) (last int64, out []*logbook.Entry, err error) {
	last = wanted.After
	err = s.View(a.ctx, func(r *store.Reader) error {
		head, err := r.Head()
		if err != nil {
			return err
		}
		last = max(last, head.Number)
		reading := logbook.Reader{Find: r.Event}
		for before := int64(math.MaxInt64); len(out) < most; {
			events, err := r.Newest(wanted, before, atOnce)
			if err != nil || len(events) == 0 {
				return err
			}
			for _, e := range events {
				before = e.Number
				t, err := reading.Read(e)
				if err != nil {
					return err
				}
				if match(t) && len(out) < most {
					out = append(out, t)
				}
			}
		}
		return nil
	})
	return last, out, err
}

// filter reads what the store looks for.
func (f *logFlags) filter(zone *clock.Zone) (out store.Filter, err error) {
	out.Actor, out.Kinds = f.actor, f.kinds
	if f.since != "" {
		m, err := estate.ParseMoment(zone, f.since)
		if err != nil {
			return out, fmt.Errorf("--since %s: %w", f.since, err)
		}
		out.From = m.Begin(zone)
	}
	if f.until != "" {
		m, err := estate.ParseMoment(zone, f.until)
		if err != nil {
			return out, fmt.Errorf("--until %s: %w", f.until, err)
		}
		out.Until = m.End(zone)
	}
	for _, kind := range f.kinds {
		if !knownKind(kind) {
			return out, fmt.Errorf("--kind %s is no kind of event: write one, as request.made, or a beginning, as `request.`",
				kind)
		}
	}
	return out, nil
}

// matcher reads what of events is compared beside what the store looks for.
func (f *logFlags) matcher(g *gate.Gate) (func(*logbook.Entry) bool, error) {
	var area *logbook.Area
	if f.where != "" {
		on, err := estate.ParseResourceTerm(f.where)
		if err != nil {
			return nil, fmt.Errorf("--where %s: %w", f.where, err)
		}
		if on.Scope != "" && g.Estate().Scopes[on.Scope] == nil {
			return nil, unknown("scope", on.Scope, keys(g.Estate().Scopes))
		}
		area = logbook.NewArea(g, estate.Resources{on})
	}
	var subject estate.Principal
	if f.subject != "" {
		var err error
		if subject, err = estate.ParsePrincipal(f.subject); err != nil {
			return nil, fmt.Errorf("--subject %s: %w", f.subject, err)
		}
	}
	return func(t *logbook.Entry) bool {
		return (f.subject == "" || t.Concerns(subject)) && (f.object == "" || t.Names(f.object)) &&
			(area == nil || area.Has(t))
	}, nil
}

func knownKind(filter string) bool {
	for _, k := range ledger.Kinds {
		if k.In(filter) {
			return true
		}
	}
	return false
}

// logText writes an event: who, when and from where, and then what.
func logText(p *view.Page, zone *clock.Zone, t *logbook.Entry) {
	p.Line("%s  %s  %s  %s", p.Paint(view.Faint, strconv.FormatInt(t.Number, 10)), stamp(zone, clock.Instant(t.Time)),
		p.Paint(view.Heading, t.Who()), p.Paint(view.Faint, t.Origin()))
	p.Table(len(strconv.FormatInt(t.Number, 10))+2, nil, [][]view.Cell{{{Text: t.Sentence(zone)}}})
}

// stamp writes an instant on the local clock, with its second.
func stamp(zone *clock.Zone, at clock.Instant) string {
	text := zone.Format(at)
	date, hours, seconds := text[:10], text[11:16], ":00"
	if text[16] == ':' {
		seconds = text[16:19]
	}
	return date + " " + hours + seconds
}
