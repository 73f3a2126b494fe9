package cli

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/spf13/cobra"

	"hiddengate/internal/clock"
	"hiddengate/internal/gate"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/logbook"
	"hiddengate/internal/notice"
	"hiddengate/internal/policyfile"
)

func (a *app) logDeliverCommand() *cobra.Command {
	var watch bool
	c := &cobra.Command{
		Use: "deliver", Short: "Send the notices that your settings name",
		Long: `Sends what happened to those whom 'notify' in your settings names: to a web address, by mail or into a
file. What fails is tried again later, after pauses that get longer, for more than a day. A notice may
come twice, and is never lost. No other command waits for it. A new notice begins with the last day.`,
		Example: "  hgate log deliver\n  hgate log deliver --watch",
		Args:    takes(0, 0),
	}
	c.Flags().BoolVar(&watch, "watch", false, "stay, and send what comes, until it is interrupted")
	c.RunE = func(*cobra.Command, []string) error {
		if watch {
			return a.staying(func() error {
				_, err := a.deliver(false)
				return err
			})
		}
		failed, err := a.deliver(true)
		if err == nil && failed > 0 {
			err = answered(exitOutside)
		}
		return err
	}
	return c
}

// back is how far back a new notice begins.
const back = clock.Day

// deliver sends what is due, and tells what fails.
func (a *app) deliver(tell bool) (failed int, err error) {
	g, err := a.compiled() // whose scopes notices name
	if err != nil {
		return 0, err
	}
	dir, err := a.folder()
	if err != nil {
		return 0, err
	}
	op, err := operator(dir)
	if err != nil {
		return 0, settled(err)
	}
	if len(op.Notices) == 0 {
		return 0, fmt.Errorf("your settings name nobody who should hear of anything: see `notify` in docs/running.md")
	}
	s, err := a.ledger(dir, false)
	if s == nil || err != nil {
		return 0, err
	}
	defer s.Close()
	for _, n := range op.Notices {
		secret, err := reveal(n.Secret)
		if err != nil {
			return failed, outside{fmt.Errorf("notice %s: %w", n.Name, err)}
		}
		d := deliverer{a, s, g, n, notice.Way{To: n.To, Secret: secret, Mail: notice.Mail(n.Mail)}, nil}
		if n.On != nil {
			d.area = logbook.NewArea(g, n.On)
		}
		sent, err := d.all()
		if err != nil {
			failed++
			a.page(a.Err).Line("hgate: notice %s: %s", n.Name, err)
		}
		if sent > 0 || tell && err == nil {
			a.page(a.Out).Line("notice %s: %s sent", n.Name, count(sent, "event"))
		}
		if a.ctx.Err() != nil {
			return failed, a.ctx.Err()
		}
	}
	return failed, nil
}

// deliverer sends the notices of one name.
type deliverer struct {
	app    *app
	store  *store.Store
	gate   *gate.Gate
	notice *policyfile.Notice
	way    notice.Way
	area   *logbook.Area // nil: anywhere
}

// batch is how many events are looked at in one go.
const batch = 500

// all sends what is due, in order, until something fails. Nothing is kept open while it sends.
func (d *deliverer) all() (sent int, err error) {
	for {
		due, tries, err := d.due()
		if err != nil || due.last == 0 {
			return sent, err
		}
		for _, t := range due.entries {
			if d.app.ctx.Err() != nil {
				return sent, d.app.ctx.Err()
			}
			m, err := d.message(t)
			if err != nil {
				return sent, err
			}
			wrong := d.way.Send(d.app.ctx, m)
			tries++
			one := store.Delivery{Event: t.Number, Tries: tries, Done: true}
			if wrong != nil && !notice.GivenUp(tries) {
				one.Done, one.Due = false, notice.Next(tries, d.app.present())
			}
			if err := d.keep(one); err != nil {
				return sent, err
			}
			switch {
			case wrong == nil:
			case one.Done:
				return sent, fmt.Errorf("%w; event %d is given up, as it was tried %d times", wrong, t.Number, tries)
			default:
				return sent, fmt.Errorf("%w; it is tried again later", wrong)
			}
			tries = 0
			sent++
		}
		// what nobody wants to hear of is passed over
		if err := d.keep(store.Delivery{Event: due.last, Done: true}); err != nil {
			return sent, err
		}
	}
}

// due gives the events that are to be sent now, and how often the first was tried.
func (d *deliverer) due() (due portion, tries int, err error) {
	err = d.store.View(d.app.ctx, func(r *store.Reader) error {
		last, known, err := r.Delivered(d.notice.Name)
		if err != nil {
			return err
		}
		wanted := store.Filter{After: last.Event}
		if !known {
			wanted.From = d.app.present() - back
		}
		if known && !last.Done {
			if last.Due > d.app.present() {
				return nil // it is not yet time
			}
			wanted.After, tries = last.Event-1, last.Tries
		}
		due, err = portionOf(r, wanted, batch, d.wants)
		return err
	})
	return due, tries, err
}

// keep writes down how far it has come, also where the command is interrupted.
func (d *deliverer) keep(one store.Delivery) error {
	return d.store.Update(context.WithoutCancel(d.app.ctx), func(w *store.Writer) error {
		return w.Deliver(d.notice.Name, one)
	})
}

// wants says whether the notice is about an event.
func (d *deliverer) wants(t *logbook.Entry) bool {
	about := false
	for _, kind := range d.notice.About {
		about = about || t.Kind.In(kind)
	}
	return about && (d.area == nil || d.area.Has(t))
}

// message makes what is sent of an event.
func (d *deliverer) message(t *logbook.Entry) (notice.Message, error) {
	text, err := json.Marshal(cloudEvent(t))
	zone := d.gate.Estate().Zone
	line := fmt.Sprintf("%s %s", t.Who(), t.Sentence(zone))
	return notice.Message{ID: t.Hash, Event: text, Subject: line, At: d.app.now(),
		Text: fmt.Sprintf("%s\n\n%s, %s\nEvent %d, %s\n", line, stamp(zone, clock.Instant(t.Time)), t.Origin(), t.Number,
			t.Hash)}, err
}
