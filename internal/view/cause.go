package view

import (
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/region"
)

// Selection says by which entry a list selects a subject, and through which groups; "" if it does not.
func Selection(s gate.Selection) string {
	var path []string
	for _, id := range s.Groups {
		path = append(path, "group:"+id)
	}
	if len(s.Match) > 0 {
		var tags []string
		for _, t := range s.Match {
			if estate.IsCertified(t.Key) {
				path = append(path, t.Key)
			} else {
				tags = append(tags, t.Key+" "+t.Value)
			}
		}
		if len(tags) > 0 {
			path = append(path, "tag "+strings.Join(tags, ", "))
		}
	}
	if s.Everyone {
		path = append(path, "everyone")
	}
	if len(path) == 0 && s.Selects() {
		return s.Subject.String()
	}
	return strings.Join(path, " ← ")
}

// mostSteps is how many groups on a way are named in a table.
const mostSteps = 5

// ShortSelection is Selection, which of a long way names the first and the last groups.
func ShortSelection(s gate.Selection) string {
	if n := len(s.Groups); n > mostSteps {
		ends := s
		ends.Groups = slices.Concat(s.Groups[:2:2], []string{"…"}, s.Groups[n-2:])
		return strings.Replace(Selection(ends), "group:…", fmt.Sprintf("%d more groups", n-4), 1)
	}
	return Selection(s)
}

// Roles says through which role a grant gives an operation, and which of those that it includes have it.
func Roles(path []string) string { return strings.Join(path, " → ") }

// Places says by which entry a list selects a resource, and through which scopes.
func Places(path []estate.ResourceTerm) string {
	var parts []string
	for _, t := range path {
		parts = append(parts, t.String())
	}
	return strings.Join(parts, " → ")
}

// When says what conditions and dates come to, "" if they ask nothing.
func When(s *region.Space, r region.Region) string {
	if r == region.Full {
		return ""
	}
	return s.Text(r, 3)
}

// Conditions says what the condition and the dates of an entry come to, "" if they ask nothing.
func Conditions(g *gate.Gate, when *estate.Condition, starts, ends *estate.Moment) string {
	r, err := g.EntryRegion(when, starts, ends)
	if err != nil {
		return err.Error()
	}
	return When(g.Space(), r)
}

// Left says what of a request remains to be known, in each possible session; "" if nothing does.
func Left(s *region.Space, left []gate.Left) string {
	var parts []string
	for _, l := range left {
		text := "allowed " + s.Text(l.When, 4)
		switch l.When {
		case region.Full:
			text = "allowed"
		case region.Empty:
			text = "denied"
		}
		switch {
		case len(left) > 1 && len(l.Roles) == 0:
			text = "while no roles that it holds are kept apart: " + text
		case len(left) > 1:
			text = "in a session as " + strings.Join(l.Roles, " and ") + ": " + text
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, "; ")
}

// Inactive says why a subject is not active, "" if it is.
func Inactive(s *region.Space, why gate.Explanation, subject *estate.Subject) string {
	switch {
	case !why.Inactive:
		return ""
	case why.Active != region.Empty:
		text := "active only " + s.Text(why.Active, 2)
		for _, a := range subject.Away {
			if a.Why != "" {
				text += "; away from " + a.Starts.Text + " to " + a.Ends.Text + ": " + a.Why
			}
		}
		return text
	}
	return "the status is " + subject.Status
}
