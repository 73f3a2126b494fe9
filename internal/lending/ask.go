package lending

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
)

// Asking is what somebody would ask for.
type Asking struct {
	Who            estate.Principal
	Grant          string
	Within         estate.Address // zero: all of the grant's places
	Lasts          time.Duration
	Starts         *clock.Instant // nil: at once
	Reason, Ticket string
	Emergency      bool
	Now            clock.Instant
	Others         []*Request // those that may be in force in that time, of anybody
}

// Offer is what would be lent, and what it takes.
type Offer struct {
	Grant      *estate.Grant
	Operations []*estate.Operation // that it gives there
	// Begins and Over are when it is in force, once it has all approvals; if it waits for them, as if it had them now.
	Begins, Over clock.Instant
	DecideBy     clock.Instant
	Needed       int // approvals before it begins
	Approvers    []estate.Principal
}

// Refusal is why nothing is lent, and what to do.
type Refusal struct{ Why, Help string }

func (r *Refusal) Error() string { return r.Why }

func refuse(help, format string, args ...any) *Refusal {
	return &Refusal{fmt.Sprintf(format, args...), help}
}

// Offer tells what somebody would get by asking. The error is a Refusal that says why nothing.
func (b *Book) Offer(a Asking) (*Offer, error) {
	e := b.estate()
	g := e.Grants[a.Grant]
	begins := a.Now
	if a.Starts != nil {
		begins = max(begins, *a.Starts)
	}
	who := e.Subject(a.Who)
	switch {
	case g == nil:
		return nil, refuse("", "there is no grant %q", a.Grant)
	case g.OnRequest == nil:
		return nil, refuse("", "grant %s stands: whoever is in its `to` has it without asking", g.ID)
	case who == nil || !b.Gate.Selects(g.To, a.Who):
		return nil, refuse("", "grant %s is not for %s: its `to` is %s", g.ID, a.Who, terms(g.To))
	case !who.ActiveAt(e.Zone, a.Now):
		return nil, refuse("", "%s is not active", a.Who)
	case !who.ActiveAt(e.Zone, begins):
		return nil, refuse("", "%s is not active when it would begin", a.Who)
	case a.Starts != nil && *a.Starts < a.Now:
		return nil, refuse("", "the time at which it should begin is over")
	case a.Lasts <= 0:
		return nil, refuse("", "the time for which it should last is none")
	case a.Lasts%time.Second != 0:
		return nil, refuse("", "the time for which it should last has parts of seconds")
	case a.Lasts > g.OnRequest.Longest:
		return nil, refuse("", "grant %s is lent for at most %s", g.ID, estate.DurationText(g.OnRequest.Longest))
	case a.Emergency && !g.OnRequest.Emergency:
		return nil, refuse("leave --emergency out", "grant %s is not lent in emergencies without its approvals", g.ID)
	case g.OnRequest.Reason && strings.TrimSpace(a.Reason) == "":
		return nil, refuse("add --reason", "grant %s is lent only to who says why", g.ID)
	case g.OnRequest.Ticket && strings.TrimSpace(a.Ticket) == "":
		return nil, refuse("add --ticket", "grant %s is lent only for a ticket", g.ID)
	case a.Emergency && strings.TrimSpace(a.Reason) == "":
		return nil, refuse("add --reason", "an emergency has a reason")
	}
	o := &Offer{Grant: g, Begins: begins, DecideBy: a.Now + clock.Instant(g.OnRequest.Patience().Microseconds())}
	if !a.Emergency {
		o.Needed = g.OnRequest.Approvals
	}
	o.Over = min(begins+clock.Instant(a.Lasts.Microseconds()), lastOf(e, g, a.Who))
	if o.Over <= begins {
		return nil, refuse("", "the end of %s, of grant %s or of its roles comes before it would begin", a.Who, g.ID)
	}
	if o.Operations = b.Gate.Reached(g.On, a.Within).Gives(g); len(o.Operations) == 0 {
		return nil, refuse("", "grant %s gives nothing in %s", g.ID, a.Within)
	}
	o.Approvers = b.Approvers(g, a.Who, a.Now)
	if o.Needed > len(o.Approvers) {
		return nil, refuse("see `hgate check`", "grant %s needs %d approvals, and %d could approve: nobody could lend it",
			g.ID, o.Needed, len(o.Approvers))
	}
	if why := b.kept(a, g, o); why != nil {
		return nil, why
	}
	return o, nil
}

// kept says whether a loan would break a separation of roles, or a role's `at-most`.
func (b *Book) kept(a Asking, g *estate.Grant, o *Offer) *Refusal {
	holds := func(gr *estate.Grant, p estate.Principal) bool { return b.holds(a.Others, gr, p, o) }
	e := b.estate()
	var roles []string
	for _, gr := range estate.Sorted(e.Grants) {
		if gr == g || holds(gr, a.Who) {
			for _, ref := range gr.Roles {
				roles = append(roles, ref.ID)
			}
		}
	}
	for _, sep := range estate.Sorted(e.Separations) {
		if !sep.Session && b.Gate.Held(sep, roles) > sep.AtMost {
			return refuse("", "the separation %s keeps its roles apart: with grant %s, %s would hold more than %d of them (%s)",
				sep.ID, g.ID, a.Who, sep.AtMost, sep.Source.Short())
		}
	}
	for _, role := range estate.Sorted(e.Roles) {
		if role.AtMost == 0 && role.AtMostPerSystem == 0 || !b.Gate.IsOf(g, role.ID) {
			continue
		}
		is := b.Gate.Holding(role.ID, func(gr *estate.Grant, p estate.Principal, s *estate.Subject) bool {
			return s.Status != "left" && holds(gr, p)
		})
		all, in := is.All, is.In
		if role.AtMost > 0 && !all[a.Who] && len(all) >= role.AtMost {
			return refuse("", "role %s is held by %d in that time, and allows %d (%s)", role.ID, len(all), role.AtMost,
				role.Source.Short())
		}
		for _, system := range b.Gate.Systems(g.On) {
			if a.Within.System != "" && a.Within.System != system {
				continue
			}
			if n := len(in[system]); role.AtMostPerSystem > 0 && !in[system][a.Who] && n >= role.AtMostPerSystem {
				return refuse("", "role %s is held by %d in %s in that time, and allows %d (%s)", role.ID, n, system,
					role.AtMostPerSystem, role.Source.Short())
			}
		}
	}
	return nil
}

// holds says whether somebody has a grant at some moment of an offer: by what stands, or is lent.
func (b *Book) holds(others []*Request, g *estate.Grant, p estate.Principal, o *Offer) bool {
	if !b.Gate.Selects(g.To, p) {
		return false
	}
	if g.OnRequest == nil {
		zone := b.estate().Zone
		return (g.Starts == nil || g.Starts.BegunAt(zone, o.Over-1)) && (g.Ends == nil || !g.Ends.OverAt(zone, o.Begins))
	}
	return slices.ContainsFunc(others, func(r *Request) bool {
		return r.GrantID == g.ID && r.Subject == p && r.Begins < o.Over && o.Begins < r.Over
	})
}

// terms writes subjects as a file does.
func terms(list estate.Subjects) string {
	var out []string
	for _, t := range list {
		out = append(out, t.String())
	}
	return strings.Join(out, ", ")
}
