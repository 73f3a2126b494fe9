package cli

import (
	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/verify"
	"hiddengate/internal/view"
)

// proof is a test as it comes out now, and on the policy as it was.
type proof struct {
	verify.Result
	before *verify.Result // nil where it could not be put to that
}

// proved says that the change made the difference.
func (p proof) proved() bool { return p.Passed() && (p.before == nil || !p.before.Passed()) }

// putBefore puts tests to a policy as it was.
func putBefore(old *estate.Estate, results []verify.Result, now clock.Instant) ([]proof, error) {
	g, err := gate.Compile(old, nil)
	if err != nil {
		return nil, err
	}
	var out []proof
	for _, r := range results {
		one := proof{Result: r}
		if verify.Known(old, r.Test) {
			if before, err := verify.Run(g, r.Test, now); err == nil {
				one.before = &before
			}
		}
		out = append(out, one)
	}
	return out, nil
}

func (a *app) proofsText(p *view.Page, proofs []proof, since string) {
	proved, failed := 0, 0
	for _, one := range proofs {
		switch {
		case one.proved():
			proved++
		case !one.Passed():
			failed++
		}
	}
	all := count(len(proofs), "test")
	switch {
	case failed > 0:
		p.Line("%s  %d of %s %s now; %d failed at %s and %s now", p.Paint(view.No, "FAILED"), failed, all,
			verb(failed, "fail"), proved, since, verb(proved, "pass"))
	case proved == len(proofs):
		p.Line("%s  %s: failed at %s, passed now", p.Paint(view.Yes, "PROVED"), all, since)
	default:
		p.Line("%s  %d of %s failed at %s and %s now; the others passed before, too", p.Paint(view.Maybe, "NOT PROVED"),
			proved, all, since, verb(proved, "pass"))
	}
	for _, one := range proofs {
		switch {
		case !one.Passed():
			p.Line("  %s  %s, now", p.Paint(view.No, "failed"), one.Test.ID)
		case !one.proved():
			p.Line("  %s    %s: it passed before, too", p.Paint(view.Maybe, "held"), one.Test.ID)
		case one.before == nil:
			p.Line("  %s  %s: then it named what there was not", p.Paint(view.Yes, "proved"), one.Test.ID)
		default:
			f := one.before.First(1)[0]
			p.Line("  %s  %s", p.Paint(view.Yes, "proved"), one.Test.ID)
			p.Line("          %s", p.Paint(view.Faint,
				"then: "+f.Subject.String()+" "+f.Operation+" on "+f.Resource+": expected "+f.Expected+", got "+f.Got))
		}
	}
}
