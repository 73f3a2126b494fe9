package logbook

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/view"
)

// Origin says from where an event came: by which command, on which host, by whose hands, and whether it is signed.
func (t *Entry) Origin() string {
	by := "by hand"
	if t.ByService() {
		by = "by a service"
	}
	text := fmt.Sprintf("%s, %s at %s", by, t.User, t.Host)
	if t.Signature != "" {
		text += ", signed"
	}
	return text
}

// Sentence says what an event says.
func (t *Entry) Sentence(zone *clock.Zone) string {
	var said ledger.DecisionBody
	_ = json.Unmarshal(t.Body, &said)
	why := ""
	if said.Why != "" {
		why = ": " + said.Why
	}
	switch t.Kind {
	case ledger.Began:
		return "the log begins"
	case ledger.Imported:
		var body ledger.ImportedBody
		_ = json.Unmarshal(t.Body, &body)
		return fmt.Sprintf("took over %s of another log", count(int(body.Events), "event"))
	case ledger.Requested, ledger.Wanted:
		return "asked for " + t.wish(zone)
	case ledger.Approved:
		return fmt.Sprintf("approved request %d%s%s", t.About, t.ofWhom(), why)
	case ledger.Refused:
		return fmt.Sprintf("refused request %d%s%s", t.About, t.ofWhom(), why)
	case ledger.Finished:
		return fmt.Sprintf("ended request %d%s%s", t.About, t.ofWhom(), why)
	case ledger.Issued:
		var body ledger.IssuedBody
		_ = json.Unmarshal(t.Body, &body)
		return fmt.Sprintf("issued the credential of request %d%s: %s signs it until %s", t.About, t.ofWhom(),
			body.Authority, zone.Format(clock.Instant(body.Ends)))
	case ledger.Revoked:
		var body ledger.RevokedBody
		_ = json.Unmarshal(t.Body, &body)
		return fmt.Sprintf("revoked the credential of request %d%s, for %s%s", t.About, t.ofWhom(), body.Reason, why)
	case ledger.PasswordSet:
		if b := t.Password; b != nil {
			return fmt.Sprintf("set a password for %s of %s, which lets in until %s", b.Account, b.For,
				zone.Format(clock.Instant(b.Ends)))
		}
	case ledger.FactorSet:
		if b := t.Factor; b != nil && b.Removed {
			return fmt.Sprintf("took the second factor from %s of %s", b.Account, b.For)
		} else if b != nil {
			return fmt.Sprintf("gave %s of %s a second factor", b.Account, b.For)
		}
	case ledger.TokenMade:
		if b := t.Token; b != nil {
			text := fmt.Sprintf("made the token %s for %s of %s, which lets in until %s", b.Token, b.Account, b.For,
				zone.Format(clock.Instant(b.Ends)))
			if b.Replaces != "" {
				text += ", in place of " + b.Replaces
			}
			return text
		}
	case ledger.TokenEnded:
		var body ledger.TokenEndedBody
		_ = json.Unmarshal(t.Body, &body)
		return "ended the token " + body.Token
	case ledger.Invited:
		var body ledger.InvitationBody
		_ = json.Unmarshal(t.Body, &body)
		return fmt.Sprintf("invited %s to join until %s", body.Person, zone.Format(clock.Instant(body.Ends)))
	case ledger.Joined:
		var body ledger.JoinedBody
		_ = json.Unmarshal(t.Body, &body)
		return fmt.Sprintf("joined by invitation %d, with %s and %s", body.Invitation.Number,
			count(len(body.Passwords), "password"), count(len(body.Factors), "second factor"))
	case ledger.Published:
		if t.Published != nil {
			return fmt.Sprintf("published what %s has revoked: %s", t.Published.Authority,
				count(t.Published.Count, "credential"))
		}
	case ledger.PolicyChanged:
		return t.changed()
	case ledger.PolicyFound:
		return t.foundText()
	case ledger.ReviewOpened:
		var body ledger.ReviewBody
		_ = json.Unmarshal(t.Body, &body)
		return fmt.Sprintf("opened a review of %s, which asks %s about %s", strings.Join(body.On, ", "),
			strings.Join(body.By, ", "), count(len(body.Items), "item"))
	case ledger.ReviewAnswered:
		return t.answers()
	case ledger.ReviewReminded:
		return fmt.Sprintf("reminded of review %d", t.About)
	case ledger.ReviewClosed:
		var body ledger.ClosedBody
		_ = json.Unmarshal(t.Body, &body)
		return fmt.Sprintf("closed review %d: %d kept, %d ended, %d not answered", t.About, body.Kept, body.Ended, body.Left)
	case ledger.Pushed:
		if t.Pushed == nil {
			break
		}
		body := t.Pushed
		text := fmt.Sprintf("pushed the policy to %s: %s", body.System, count(body.Count, "statement"))
		if body.Partly {
			text = fmt.Sprintf("began to push the policy to %s: it broke off in %s", body.System,
				count(body.Count, "statement"))
		}
		if body.Despite != "" {
			text += ", despite what stood against it: " + body.Despite
		}
		return text
	}
	return string(t.Kind)
}

// answers says what a reviewer answered.
func (t *Entry) answers() string {
	var body ledger.AnswerBody
	_ = json.Unmarshal(t.Body, &body)
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
func (t *Entry) wish(zone *clock.Zone) string {
	if t.Request == nil {
		return "something that cannot be read"
	}
	text := what(t.Request)
	if t.Request.Within != "" {
		text += " on " + t.Request.Within
	}
	text += " for " + estate.DurationText(time.Duration(t.Request.Seconds)*time.Second)
	if t.Request.Starts != nil {
		text += " from " + zone.Format(clock.Instant(*t.Request.Starts))
	}
	if t.Request.Emergency {
		text += ", in an emergency"
	}
	if t.Request.Reason != "" {
		text += ": " + t.Request.Reason
	}
	if t.Request.Ticket != "" {
		text += " (ticket " + t.Request.Ticket + ")"
	}
	return text
}

// what names what a request is for.
func what(r *ledger.RequestBody) string {
	if c := r.Credential; c != nil {
		return "a credential of profile " + c.Profile + " in the name of " + c.For
	}
	return "grant " + r.Grant
}

func (t *Entry) ofWhom() string {
	if t.Request == nil {
		return ""
	}
	text := " of " + t.Asker + ", " + what(t.Request)
	if t.Request.Within != "" {
		text += " on " + t.Request.Within
	}
	return text
}

// changed says what an edit did.
func (t *Entry) changed() string {
	if t.Policy == nil {
		return "changed the policy"
	}
	what := view.And(t.Policy.Entries)
	if what == "" {
		what = view.And(t.fileNames())
	}
	text := fmt.Sprintf("changed %s (hgate %s)", what, t.Command)
	effect := t.Effect()
	lines := effect.Lines
	if there := slices.DeleteFunc(slices.Clone(lines), func(l EffectLine) bool { return l.Coming }); len(there) > 0 {
		lines = there // what comes later goes without saying
	}
	for i, l := range lines {
		if i == 2 {
			text += "; and " + count(len(lines)-i+effect.More, "more change")
			break
		}
		text += "; " + l.text()
	}
	return text
}

func (l EffectLine) text() string {
	operations := l.Operations
	if len(operations) > 3 {
		operations = append(slices.Clone(operations[:3]), fmt.Sprintf("%d more", len(operations)-3))
	}
	places := l.Where
	if n := len(places) + l.MorePlaces; n > 3 {
		places = append(slices.Clone(places[:3]), fmt.Sprintf("%d more", n-3))
	}
	text := fmt.Sprintf("%s %s %s on %s", l.Who, l.Way, view.And(operations), view.And(places))
	if l.OnRequest {
		text += ", on request"
	}
	return text
}

func (t *Entry) fileNames() (out []string) {
	for i, f := range t.Policy.Files {
		if i == 5 && len(t.Policy.Files) > 6 {
			return append(out, fmt.Sprintf("%d more files", len(t.Policy.Files)-i))
		}
		out = append(out, f.Name)
	}
	return out
}

func (t *Entry) foundText() string {
	if t.Policy == nil {
		return "the files were found to be others"
	}
	text := "found that " + view.And(t.fileNames()) + " changed by another way than a command"
	if t.Policy.Revision != "" {
		text += fmt.Sprintf("; as in revision %.10s of %s", t.Policy.Revision, t.Policy.Author)
	}
	return text
}

// count writes "1 event" or "3 events".
func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
