package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/lending"
	"hiddengate/internal/survey"
)

// lentFlag is the flag by which nothing that is lent counts.
func (a *app) lentFlag(c *cobra.Command) {
	c.Flags().BoolVar(&a.withoutLent, "without-lent", false, "count no loan, but what stands alone")
}

// compiledLent gives the workspace's gate with what is lent at --at.
func (a *app) compiledLent() (*gate.Gate, error) {
	g, err := a.compiled()
	if err != nil {
		return nil, err
	}
	return a.lentAt(g)
}

// lentAt lays over a gate what is lent at --at, or from now on where that is open.
func (a *app) lentAt(g *gate.Gate) (*gate.Gate, error) {
	at, _, err := a.instant(g.Estate().Zone)
	if err != nil {
		return nil, err
	}
	return a.withLoans(g, at)
}

// withLoans lays over a gate what is lent at an instant or later.
func (a *app) withLoans(g *gate.Gate, at clock.Instant) (*gate.Gate, error) {
	if a.withoutLent {
		return g, nil
	}
	a.lent = a.loans(g, at)
	return g.WithLent(lending.Elevations(a.lent))
}

// loanOf finds the loan by which somebody has a grant in a place at a moment, or ever where that is open.
func (a *app) loanOf(
	grant string,
	who estate.Principal,
	place estate.Address,
	at clock.Instant,
	timed bool,
) *lending.Request {
	for _, r := range a.lent {
		if r.GrantID == grant && r.Subject == who && (r.Within == (estate.Address{}) || place.Inside(r.Within)) &&
			(!timed || r.Begins <= at && at < r.Over) && r.Begins < r.Over {
			return r
		}
	}
	return nil
}

// loanText names a loan and its time.
func loanText(zone *clock.Zone, now clock.Instant, r *lending.Request) string {
	return fmt.Sprintf("request %d, %s", r.Number, span(zone, now, r.Begins, r.Over))
}

// lentText says of an on-request grant whether it is lent to the one who asks, and until when.
func (a *app) lentText(g *gate.Gate, req gate.Request, c gate.Cause) string {
	place, err := estate.ParseAddress(req.Resource)
	if err != nil {
		return ""
	}
	at, timed := req.Context.Moment()
	r := a.loanOf(c.Grant.ID, req.Subject, g.Estate().Canonical(place), at, timed)
	switch {
	case r != nil && timed:
		return loanText(g.Estate().Zone, at, r)
	case r != nil:
		return loanText(g.Estate().Zone, a.present(), r)
	case c.Met:
		return "as if it were lent"
	}
	return "on request, and not lent now"
}

// askCommand is the command by which somebody asks for a grant that is not lent to them; "" where that is not what it
// lacks.
func askCommand(n survey.Near, req gate.Request) string {
	if n.Lacks != "approval" || req.Subject.Kind == estate.IsAnonymous {
		return ""
	}
	lends := n.Grant.OnRequest
	line := fmt.Sprintf("hgate request %s --where %s --for %s", n.Grant.ID, quoted(req.Resource),
		estate.DurationText(min(lends.Longest, time.Hour)))
	if lends.Reason {
		line += " --reason WHY"
	}
	if lends.Ticket {
		line += " --ticket TICKET"
	}
	return line
}
