package cli

import (
	"cmp"
	"os"

	"github.com/spf13/cobra"

	"hiddengate/internal/clock"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
)

// acknowledging is the flags by which somebody accepts what a role asks to be acknowledged.
type acknowledging struct{ why, by string }

// byVariable says who is at the keyboard, where the name of the account does not.
const byVariable = "HGATE_BY"

func (k *acknowledging) flags(c *cobra.Command) {
	c.Flags().StringVar(&k.why, "acknowledge", "", "accept what the role asks to be acknowledged, and say `why`")
	c.Flags().StringVar(&k.by, "by", "", "`who` accepts it ("+byVariable+", or the name of the account, where left out)")
}

// acceptance says who accepts, why, and that it is today.
func (k *acknowledging) acceptance(a *app, e *estate.Estate) (draft.Acceptance, error) {
	now, err := a.day(e.Zone)
	return draft.Acceptance{By: k.who(a), Why: k.why, Date: dateOf(e.Zone, now)}, err
}

// who names whoever is at the keyboard.
func (k *acknowledging) who(a *app) string {
	return cmp.Or(k.by, os.Getenv(byVariable), a.osUser())
}

// recheck sees, once a grant has been changed, that what its roles ask is accepted.
func (k *acknowledging) recheck(a *app, d *draft.Draft, e *estate.Estate, grant string) error {
	accepts, err := k.acceptance(a, e)
	if err != nil {
		return err
	}
	return d.AcknowledgeIn(grant, accepts)
}

func dateOf(zone *clock.Zone, at clock.Instant) string { return zone.DateOf(at).String() }
