package cli

import (
	"fmt"
	"net/netip"
	"slices"

	"hiddengate/internal/clock"
	"hiddengate/internal/credential"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/lending"
	"hiddengate/internal/target/linux"
)

// sshAccess says what a certificate for SSH may let its holder do for a time: what the policy surely allows for all of
// it, to whoever signs in with a certificate. Whoever may only open applications gets a command that opens one.
func (b *book) sshAccess(g *gate.Gate, r *lending.Request, span credential.Span) (out credential.Access, err error) {
	e, p := g.Estate(), r.Credential.Profile
	system := p.System.ID
	if out.Accounts = b.Accounts(system, r.Subject); len(out.Accounts) == 0 {
		return out, &draft.Error{Message: fmt.Sprintf("%s has no account on %s", r.Subject, system),
			Help: fmt.Sprintf("hgate add resource %s:accounts/NAME --owner %s", system, r.Subject)}
	}
	from, until := clock.Instant(span.From.UnixMicro()), clock.Instant(span.Until.UnixMicro())
	sure := func(operation string, at *estate.Resource) ([]netip.Prefix, error) {
		if e.Offer(at.System.Kind.ID).Valid(operation, at.Type) == nil {
			return nil, nil
		}
		return g.SureFrom(r.Subject, operation, at, "certificate", from, until)
	}
	top := e.Tree.Find(system)
	networks, err := sure("host.sign-in", e.Tree.At(top))
	if err != nil {
		return out, err
	}
	var programs []string
	if len(networks) == 0 {
		for i := top + 1; i < e.Tree.End(top); i++ {
			one, err := sure("application.open", e.Tree.At(i))
			if err != nil {
				return out, err
			}
			if len(one) == 0 || len(programs) > 0 && !slices.Equal(one, networks) {
				continue // a certificate is for the same networks, whatever is opened
			}
			networks = one
			programs = append(programs, e.Tree.At(i).Address.Name())
		}
	}
	if len(networks) == 0 {
		return out, &draft.Error{
			Message: fmt.Sprintf(
				"the policy does not let %s sign in to %s, or open an application there, at every moment until %s "+
					"with a certificate alone",
				r.Subject,
				system,
				e.Zone.Format(until),
			),
			Help: fmt.Sprintf("hgate try %s host.sign-in %s --sign-in certificate --at any", r.Subject, system),
		}
	}
	if len(programs) > 0 {
		slices.Sort(programs)
		out.Command = linux.Opener(programs)
	}
	if !everywhere(networks) {
		for _, n := range networks {
			out.From = append(out.From, n.String())
		}
	}
	return out, nil
}

// everywhere says whether some networks are all there are.
func everywhere(networks []netip.Prefix) bool {
	return len(networks) == 2 && networks[0].Bits() == 0 && networks[1].Bits() == 0
}
