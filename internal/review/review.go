// Package review says what a review of access is about, who may answer what of it, and what was answered. It works from
// the events of a ledger and the policy, and does no I/O.
package review

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/lending"
)

// Answers of a reviewer.
const (
	Keep = "keep"
	End  = "end"
)

// Items lists what gives access in some places: the grants that reach there, the listed members of the groups to which
// they go, and what is lent there, as keys of ledger.ReviewItem.
func Items(g *gate.Gate, on estate.Resources, loans []*lending.Request) (out []ledger.ReviewItem) {
	e := g.Estate()
	there := g.Reached(on, estate.Address{})
	groups := map[string]bool{}
	for _, gr := range estate.Sorted(e.Grants) {
		if !there.By(gr) {
			continue
		}
		one := ledger.ReviewItem{
			Key:   "grant " + gr.ID,
			Grant: gr.ID,
			Gives: names(g.Gives(gr)),
			Where: texts(gr.On),
			To:    texts(gr.To),
		}
		if gr.OnRequest != nil {
			one.OnRequest = true
		}
		out = append(out, one)
		for _, t := range gr.To {
			if t.Kind == estate.IsGroup && !t.Not {
				groups[t.ID] = true
			}
		}
	}
	for _, group := range estate.Sorted(e.Groups) {
		if !groups[group.ID] {
			continue
		}
		for _, t := range group.Members {
			if !t.Not {
				out = append(out, ledger.ReviewItem{Key: fmt.Sprintf("membership %s %s", group.ID, t.Principal), Group: group.ID,
					Member: t.String()})
			}
		}
	}
	for _, r := range loans {
		if r.Grant != nil && r.Begins < r.Over && g.Reached(on, r.Within).By(r.Grant) {
			out = append(out, ledger.ReviewItem{Key: fmt.Sprintf("loan %d", r.Number), Loan: r.Number, Grant: r.GrantID,
				Member: r.Subject.String(), Gives: names(g.Reached(r.Grant.On, r.Within).Gives(r.Grant))})
		}
	}
	return out
}

func names(operations []*estate.Operation) (out []string) {
	for _, o := range operations {
		out = append(out, o.Name)
	}
	return out
}

func texts[T fmt.Stringer](list []T) (out []string) {
	for _, t := range list {
		out = append(out, t.String())
	}
	return out
}

// Review is a review as its events have it.
type Review struct {
	Number  int64
	ID      string // of the statement that opened it
	Opened  clock.Instant
	By      estate.Principal // who opened it
	Body    ledger.ReviewBody
	Until   clock.Instant
	Closed  *clock.Instant
	Answers map[string]Answer // the newest of each item
}

// Answer is what somebody said of an item.
type Answer struct {
	By   estate.Principal
	At   clock.Instant
	Says string // Keep or End
	Why  string
}

// Read reads a review from the events about it, in order, the first being that which opened it. Answers count that were
// theirs to give. It is nil if there is none.
func Read(b *lending.Book, events []ledger.Event) *Review {
	if len(events) == 0 || events[0].Kind != ledger.ReviewOpened || b.Counts(events[0]) != nil {
		return nil
	}
	r := &Review{
		Number:  events[0].Number,
		ID:      events[0].ID(),
		Opened:  clock.Instant(events[0].Time),
		Answers: map[string]Answer{},
	}
	var ok bool
	if r.By, ok = b.Actor(events[0]); !ok || json.Unmarshal(events[0].Body, &r.Body) != nil {
		return nil
	}
	r.Until = clock.Instant(r.Body.Until)
	for _, e := range events[1:] {
		by, ok := b.Actor(e)
		if !ok || r.Closed != nil || b.Counts(e) != nil {
			continue
		}
		at := clock.Instant(e.Time)
		switch e.Kind {
		case ledger.ReviewAnswered:
			var body ledger.AnswerBody
			if json.Unmarshal(e.Body, &body) != nil || body.Review != r.ID {
				continue
			}
			for _, one := range body.Answers {
				if r.MayAnswer(b.Gate, one.Item, by) == nil && (one.Answer == Keep || one.Answer == End) {
					r.Answers[one.Item] = Answer{by, at, one.Answer, one.Why}
				}
			}
		case ledger.ReviewClosed:
			if r.MayClose(b, by) == nil {
				r.Closed = &at
			}
		}
	}
	return r
}

// Item finds an item by its key; nil if there is none.
func (r *Review) Item(key string) *ledger.ReviewItem {
	for i := range r.Body.Items {
		if r.Body.Items[i].Key == key {
			return &r.Body.Items[i]
		}
	}
	return nil
}

// Left lists the items that nobody has answered.
func (r *Review) Left() (out []string) {
	for _, one := range r.Body.Items {
		if _, answered := r.Answers[one.Key]; !answered {
			out = append(out, one.Key)
		}
	}
	return out
}

// Ended lists the items that are to end, by the answers: entries of the policy, and what is lent.
func (r *Review) Ended() (policy, loans []*ledger.ReviewItem) {
	for i := range r.Body.Items {
		switch one := &r.Body.Items[i]; {
		case r.Answers[one.Key].Says != End:
		case one.Loan > 0:
			loans = append(loans, one)
		default:
			policy = append(policy, one)
		}
	}
	return policy, loans
}

// Confirmed tells who kept each item last, in the reviews before one; all are in order.
func (r *Review) Confirmed(all []*Review) map[string]Answer {
	out := map[string]Answer{}
	for _, one := range all {
		if one.Number >= r.Number {
			break
		}
		for key, answer := range one.Answers {
			if answer.Says == Keep {
				out[key] = answer
			}
		}
	}
	return out
}

// LastUsed tells when what an item gives was last used, 0 for never. use tells it of a grant and somebody, or of a
// grant and anybody.
func LastUsed(e *estate.Estate, one *ledger.ReviewItem,
	use func(grant string, who *estate.Principal) clock.Instant,
) (last clock.Instant) {
	if one.Member == "" {
		return use(one.Grant, nil)
	}
	member, err := estate.ParsePrincipal(one.Member)
	if err != nil {
		return 0
	}
	if one.Group == "" {
		return use(one.Grant, &member)
	}
	for _, gr := range e.Grants {
		if slices.ContainsFunc(gr.To, func(t estate.SubjectTerm) bool {
			return t.Kind == estate.IsGroup && t.ID == one.Group
		}) {
			last = max(last, use(gr.ID, &member))
		}
	}
	return last
}

// IsReviewer says whether somebody is among those who are to answer.
func (r *Review) IsReviewer(g *gate.Gate, p estate.Principal) bool {
	var list estate.Subjects
	for _, text := range r.Body.By {
		if t, err := estate.ParseSubjectTerm(text); err == nil {
			list = append(list, t)
		}
	}
	return g.Selects(list, p)
}

// MayAnswer says why somebody may not answer for an item; nil if they may. Nobody confirms what they hold themselves.
func (r *Review) MayAnswer(g *gate.Gate, key string, by estate.Principal) error {
	one := r.Item(key)
	switch {
	case r.Closed != nil:
		return fmt.Errorf("review %d is closed", r.Number)
	case one == nil:
		return fmt.Errorf("review %d has no item %q", r.Number, key)
	case !r.IsReviewer(g, by):
		return fmt.Errorf("%s is not among those who are to answer: %s", by, strings.Join(r.Body.By, ", "))
	case Holds(g, one, by):
		return fmt.Errorf("%s holds %s, and somebody else has to confirm it", by, key)
	}
	return nil
}

// MayClose says why somebody may not close a review; nil for who opened it, and the workspace's owner.
func (r *Review) MayClose(b *lending.Book, by estate.Principal) error {
	if by == r.By || b.Owns(by) {
		return nil
	}
	return fmt.Errorf("%s neither opened review %d nor owns the workspace", by, r.Number)
}

// Holds says whether somebody has what an item is about.
func Holds(g *gate.Gate, one *ledger.ReviewItem, p estate.Principal) bool {
	switch {
	case one.Loan > 0:
		return one.Member == p.String()
	case one.Group != "":
		member, err := estate.ParsePrincipal(one.Member)
		return err == nil && (member == p || member.Kind == estate.IsGroup && g.InGroup(p, member.ID))
	}
	gr := g.Estate().Grants[one.Grant]
	return gr != nil && slices.ContainsFunc(gr.To, func(t estate.SubjectTerm) bool {
		return !t.Not && t.Kind != estate.IsEveryone && g.Selects(estate.Subjects{t}, p)
	})
}
