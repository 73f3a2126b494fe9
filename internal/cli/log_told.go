package cli

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/lending"
	"hiddengate/internal/view"
)

func unmarshal(text json.RawMessage, into any) error { return json.Unmarshal(text, into) }

// origin says from where an event came: by which command, on which host, by whose hands, and whether it is signed.
func (t *told) origin() string {
	by := "by hand"
	if strings.HasPrefix(t.Actor, "service:") {
		by = "by a service"
	}
	text := fmt.Sprintf("%s, %s at %s", by, t.User, t.Host)
	if t.Signature != "" {
		text += ", signed"
	}
	return text
}

// sentence says what an event says.
func (t *told) sentence(zone *clock.Zone) string {
	var said ledger.DecisionBody
	_ = unmarshal(t.Body, &said)
	why := ""
	if said.Why != "" {
		why = ": " + said.Why
	}
	switch t.Kind {
	case ledger.Began:
		return "the log begins"
	case ledger.Imported:
		var body ledger.ImportedBody
		_ = unmarshal(t.Body, &body)
		return fmt.Sprintf("took over %s of another log", count(int(body.Events), "event"))
	case ledger.Requested:
		return "asked for " + t.wish(zone)
	case ledger.Approved:
		return fmt.Sprintf("approved request %d%s%s", t.About, t.ofWhom(), why)
	case ledger.Refused:
		return fmt.Sprintf("refused request %d%s%s", t.About, t.ofWhom(), why)
	case ledger.Finished:
		return fmt.Sprintf("ended request %d%s%s", t.About, t.ofWhom(), why)
	case ledger.PolicyChanged:
		return t.changed()
	case ledger.PolicyFound:
		return t.foundText()
	case ledger.ReviewOpened:
		var body ledger.ReviewBody
		_ = unmarshal(t.Body, &body)
		return fmt.Sprintf("opened a review of %s, which asks %s about %s", strings.Join(body.On, ", "),
			strings.Join(body.By, ", "), count(len(body.Items), "item"))
	case ledger.ReviewAnswered:
		return t.answers()
	case ledger.ReviewReminded:
		return fmt.Sprintf("reminded of review %d", t.About)
	case ledger.ReviewClosed:
		var body ledger.ClosedBody
		_ = unmarshal(t.Body, &body)
		return fmt.Sprintf("closed review %d: %d kept, %d ended, %d not answered", t.About, body.Kept, body.Ended, body.Left)
	}
	return string(t.Kind)
}

// answers says what a reviewer answered.
func (t *told) answers() string {
	var body ledger.AnswerBody
	_ = unmarshal(t.Body, &body)
	var parts []string
	for i, one := range body.Answers {
		if i == 3 && len(body.Answers) > 4 {
			parts = append(parts, fmt.Sprintf("%d more", len(body.Answers)-i))
			break
		}
		parts = append(parts, one.Answer+" "+one.Item)
	}
	return fmt.Sprintf("answered in review %d: %s", t.About, view.And(parts))
}

// wish says what a request asks for.
func (t *told) wish(zone *clock.Zone) string {
	if t.request == nil {
		return "something that cannot be read"
	}
	text := "grant " + t.request.Grant
	if t.request.Within != "" {
		text += " on " + t.request.Within
	}
	text += " for " + lending.Short(time.Duration(t.request.Seconds)*time.Second)
	if t.request.Starts != nil {
		text += " from " + zone.Format(clock.Instant(*t.request.Starts))
	}
	if t.request.Emergency {
		text += ", in an emergency"
	}
	if t.request.Reason != "" {
		text += ": " + t.request.Reason
	}
	if t.request.Ticket != "" {
		text += " (ticket " + t.request.Ticket + ")"
	}
	return text
}

func (t *told) ofWhom() string {
	if t.request == nil {
		return ""
	}
	text := " of " + t.asker + ", grant " + t.request.Grant
	if t.request.Within != "" {
		text += " on " + t.request.Within
	}
	return text
}

// changed says what an edit did.
func (t *told) changed() string {
	if t.policy == nil {
		return "changed the policy"
	}
	what := view.And(t.policy.Entries)
	if what == "" {
		what = view.And(t.fileNames())
	}
	text := fmt.Sprintf("changed %s (hgate %s)", what, t.Command)
	lines := t.effect()
	if there := slices.DeleteFunc(slices.Clone(lines), func(l effectLine) bool { return l.Coming }); len(there) > 0 {
		lines = there // what comes later goes without saying
	}
	for i, l := range lines {
		if i == 2 {
			text += "; and " + count(len(lines)-i, "more change")
			break
		}
		text += "; " + l.text()
	}
	return text
}

func (l effectLine) text() string {
	operations := l.Operations
	if len(operations) > 3 {
		operations = append(slices.Clone(operations[:3]), fmt.Sprintf("%d more", len(operations)-3))
	}
	places := l.Where
	if len(places) > 3 {
		places = append(slices.Clone(places[:3]), fmt.Sprintf("%d more", len(places)-3))
	}
	text := fmt.Sprintf("%s %s %s on %s", l.Who, l.Way, view.And(operations), view.And(places))
	if l.OnRequest {
		text += ", on request"
	}
	return text
}

// effect reads the lines of an edit's effect.
func (t *told) effect() []effectLine {
	var body struct {
		Lines []effectLine `json:"lines"`
	}
	if t.policy != nil && t.policy.Effect != nil {
		_ = unmarshal(t.policy.Effect, &body)
	}
	return body.Lines
}

func (t *told) fileNames() (out []string) {
	for i, f := range t.policy.Files {
		if i == 5 && len(t.policy.Files) > 6 {
			return append(out, fmt.Sprintf("%d more files", len(t.policy.Files)-i))
		}
		out = append(out, f.Name)
	}
	return out
}

func (t *told) foundText() string {
	if t.policy == nil {
		return "the files were found to be others"
	}
	fresh := !slices.ContainsFunc(t.policy.Files, func(f ledger.FileChange) bool { return f.Was != "" })
	text := "found that " + view.And(t.fileNames()) + " changed by another way than a command"
	if fresh {
		text = "found " + view.And(t.fileNames())
	}
	if t.policy.Revision != "" {
		text += fmt.Sprintf("; as in revision %.10s of %s", t.policy.Revision, t.policy.Author)
	}
	return text
}

// matcher reads what of events is compared beside what the store looks for.
func (f *logFlags) matcher(g *gate.Gate) (func(*told) bool, error) {
	var place *estate.Address
	if f.where != "" {
		at, err := estate.ParseAddress(f.where)
		if err != nil {
			return nil, fmt.Errorf("--where %s: %w", f.where, err)
		}
		at = g.Estate().Canonical(at)
		place = &at
	}
	return func(t *told) bool {
		return (f.subject == "" || t.concerns(f.subject)) && (f.object == "" || t.about(f.object)) &&
			(place == nil || t.touches(g, *place))
	}, nil
}

// concerns says whether an event is about somebody's access.
func (t *told) concerns(subject string) bool {
	if t.request != nil {
		return t.asker == subject
	}
	if t.policy == nil {
		return false
	}
	named := func(text string) bool {
		return slices.Contains(
			strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(" ,;()", r) }),
			subject,
		)
	}
	return slices.ContainsFunc(t.policy.Entries, named) ||
		slices.ContainsFunc(t.effect(), func(l effectLine) bool { return named(l.Who) })
}

// about says whether an event is about an entry, as in `grant books`, or by its id alone.
func (t *told) about(entry string) bool {
	is := func(one string) bool {
		_, id, _ := strings.Cut(one, " ")
		return one == entry || id == entry
	}
	return t.request != nil && is("grant "+t.request.Grant) || t.policy != nil && slices.ContainsFunc(t.policy.Entries, is)
}

// placeIn gives the address in the words for a place.
func placeIn(words string) string {
	words, _, _ = strings.Cut(strings.TrimPrefix(words, "what is inside "), " ")
	return words
}

// touches says whether an event is about access in a place or inside it.
func (t *told) touches(g *gate.Gate, place estate.Address) bool {
	in := func(text string) bool {
		a, err := estate.ParseAddress(text)
		return err == nil && (a.Inside(place) || place.Inside(a))
	}
	if t.request != nil {
		if t.request.Within != "" {
			return in(t.request.Within)
		}
		gr := g.Estate().Grants[t.request.Grant]
		r, err := g.Place(place)
		return gr != nil && err == nil && g.Covers(gr.On, r)
	}
	return slices.ContainsFunc(t.effect(), func(l effectLine) bool {
		return slices.ContainsFunc(l.Where, func(where string) bool {
			return in(placeIn(where))
		})
	})
}
