package mariadb

import (
	"context"
	"iter"
	"math/bits"

	"hiddengate/internal/target"
)

// Ask answers questions by what the server keeps of everybody's rights, which is read anew: MariaDB has no way to try
// something as another, and no function to ask.
func (s *system) Ask(ctx context.Context, was target.Snapshot, questions iter.Seq[target.Question],
	tell func(target.Answer) bool) error {
	is, err := s.read(ctx)
	if err != nil {
		return err
	}
	if is.key != was.(*snapshot).key {
		return target.ErrChanged
	}
	var last *target.Holder
	var p *power
	for q := range questions {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if q.Holder != last {
			last, p = q.Holder, is.powerOf(accountOf(q.Holder.Account))
		}
		a := target.Answer{Question: q}
		carried := Driver.Carries.Of(q.Operation, &is.state.Places[q.Place])
		for m := carried; m != 0 && !a.Allowed; m &= m - 1 {
			a.Allowed = is.can(p, bits.TrailingZeros64(uint64(m)), q.Place, !q.Expected)
		}
		if !a.Agrees() {
			a.Why = is.why(p, a, carried)
		}
		if !tell(a) {
			return nil
		}
	}
	return nil
}

// why says what on the server makes an answer what it is.
func (s *snapshot) why(p *power, a target.Answer, carried target.Mask) string {
	for m := carried; m != 0; m &= m - 1 {
		native := bits.TrailingZeros64(uint64(m))
		switch {
		case native == signingIn && !p.open:
			return "the account is locked"
		case native == signingIn:
			return "the account is not locked"
		case !a.Allowed:
			return "the account lacks " + natives[native].Name
		case !s.can(p, native, a.Place, true):
			continue
		}
		right := rightsOf(native)[0]
		by, on, ok := s.has(p, a.Place, right, true)
		if !ok {
			by, on, right, _ = s.rules(p)
		}
		from := right + " on " + s.objects[on].text()
		switch {
		case by == public:
			return from + " is granted to PUBLIC"
		case by == p.ways[0].as[0]:
			return "the account itself has " + from
		case by.host == "":
			return "by the role " + by.user + " it has " + from
		}
		return by.name() + ", whose rights count too, has " + from
	}
	return "the server says so"
}
