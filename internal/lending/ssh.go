package lending

import (
	"net/netip"
	"slices"

	"hiddengate/internal/clock"
	"hiddengate/internal/credential"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// SSHAccess says what a certificate for SSH may let the holder of a request do for a time, by a gate: what the policy
// surely allows for all of it, to whoever signs in with a certificate. Whoever may only open applications gets the
// command that opener gives for their names. The error is a Refusal where nothing may be signed.
func (b *Book) SSHAccess(g *gate.Gate, r *Request, span credential.Span, opener func(names []string) string) (
	out credential.Access, err error) {
	e, p := g.Estate(), r.Credential.Profile
	system := p.System.ID
	if out.Accounts = b.Accounts(system, r.Subject); len(out.Accounts) == 0 {
		return out, refuse("hgate add resource "+system+":accounts/NAME --owner "+r.Subject.String(),
			"%s has no account on %s", r.Subject, system)
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
		return out, refuse("hgate try "+r.Subject.String()+" host.sign-in "+system+" --sign-in certificate --at any",
			"the policy does not let %s sign in to %s, or open an application there, at every moment until %s "+
				"with a certificate alone", r.Subject, system, e.Zone.Format(until))
	}
	if len(programs) > 0 {
		slices.Sort(programs)
		out.Command = opener(programs)
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
