package cli

import (
	"fmt"
	"strings"

	"hiddengate/internal/escalation"
	"hiddengate/internal/estate"
	"hiddengate/internal/view"
)

// sayUnseen says which ways to more are not looked at.
func (a *app) sayUnseen(w *escalation.Ways) {
	groups := w.Unseen()
	if len(groups) == 0 {
		return
	}
	const most = 5
	names := groups[:min(len(groups), most)]
	text := "group:" + strings.Join(names, ", group:")
	if more := len(groups) - len(names); more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	a.page(a.Err).Line("hgate: not looked at: ways that need somebody to stay out of %s, where something is taken from "+
		"the members", text)
}

// chained is a chain of an estate, with what can be done at its end.
type chained struct {
	estate              *estate.Estate
	chain               escalation.Chain
	operation, resource string
}

// chainText tells the steps of a chain, and its end.
func chainText(p *view.Page, indent int, of chained) {
	e, c := of.estate, of.chain
	var rows [][]view.Cell
	asIs, how := true, "--at any" // what the steps so far leave of the policy as it is written
	for i, s := range c.Steps {
		rows = append(rows, []view.Cell{{Text: fmt.Sprint(i+1, ".")}, {Text: stepText(e, s)}})
		if s.Operation != "" && asIs {
			rows = append(rows, []view.Cell{{}, {Text: fmt.Sprintf("hgate try %s %s %s %s", s.As, s.Operation,
				quoted(s.Resource), how), Style: view.Faint}})
		}
		if s.Kind == escalation.Asks && i == 0 {
			how = "--lent " + s.Entry
		} else if s.Kind != escalation.SignsIn && s.Kind != escalation.Acts {
			asIs = false
		} else {
			how = "--at any"
		}
	}
	if len(c.Steps) == 0 {
		p.Line("%smay it as it is", strings.Repeat(" ", indent))
		return
	}
	end := "then may " + of.operation + " on " + of.resource
	if n := len(c.Steps); c.As != c.Steps[n-1].Subject || c.Steps[n-1].Kind == escalation.SignsIn ||
		c.Steps[n-1].Kind == escalation.Acts {
		end += ", as " + c.As.String() + " may"
	}
	rows = append(rows, []view.Cell{{}, {Text: end}})
	p.Table(indent, nil, rows)
}

// stepText says one step.
func stepText(e *estate.Estate, s escalation.Step) string {
	by := s.Subject.String()
	if s.As != s.Subject {
		by = fmt.Sprintf("%s, as %s,", s.Subject, s.As)
	}
	does := fmt.Sprintf("%s has %s on %s", by, s.Operation, s.Resource)
	switch s.Kind {
	case escalation.Asks:
		text := fmt.Sprintf("%s asks for grant %s", by, s.Entry)
		if s.Approvers != nil {
			text += ", which " + strings.Join(texts(s.Approvers), ", ") + " may approve"
		}
		return text
	case escalation.Joins:
		return fmt.Sprintf("%s joins group:%s, which is theirs to fill", by, s.Entry)
	case escalation.Hands:
		return fmt.Sprintf("%s takes what delegation %s lets them hand to themselves", by, s.Entry)
	case escalation.SignsIn:
		return fmt.Sprintf("%s, and opens the account of %s in %s with it", does, s.Who, s.Where.System)
	case escalation.Acts:
		if s.Where.String() != s.Resource { // by what is signed there
			return fmt.Sprintf("%s, and acts in %s as anybody with it, such as %s", does, s.Where, s.Who)
		}
		return fmt.Sprintf("%s, and acts there as anybody with it, such as %s", does, s.Who)
	case escalation.Assigns:
		return fmt.Sprintf("%s, and takes any role in %s with it", does, s.Where)
	case escalation.Rewrites:
		return fmt.Sprintf("%s, and writes into the roles in %s with it", does, s.Where)
	}
	return fmt.Sprintf("%s, and gives it %s", does, tagsText(e, s))
}

// tagsText says which tags a step sets, and which it clears.
func tagsText(e *estate.Estate, s escalation.Step) string {
	var set, cleared []string
	was := e.Listed(s.Where).Tags
	for _, t := range s.Set {
		if was.Get(t.Key) != t.Value {
			set = append(set, t.Key+"="+t.Value)
		}
	}
	for _, t := range was {
		if s.Set.Get(t.Key) == "" {
			cleared = append(cleared, t.Key)
		}
	}
	var parts []string
	if set != nil {
		parts = append(parts, "the tags "+strings.Join(set, ", "))
	}
	if cleared != nil {
		parts = append(parts, "no tag "+strings.Join(cleared, ", "))
	}
	return strings.Join(parts, " and ")
}

// gotJSON is something that somebody can get to, and how.
type gotJSON struct {
	Subject   string     `json:"subject"`
	Operation string     `json:"operation"`
	Resource  string     `json:"resource"`
	As        string     `json:"as"`
	Steps     []stepJSON `json:"steps"`
}

// stepJSON is one step: what it takes, and what it opens.
type stepJSON struct {
	Kind      string            `json:"kind"`
	Subject   string            `json:"subject"`
	As        string            `json:"as"`
	Operation string            `json:"operation,omitempty"`
	Resource  string            `json:"resource,omitempty"`
	Entry     string            `json:"entry,omitempty"`
	Approvers []string          `json:"approvers,omitempty"`
	Who       string            `json:"who,omitempty"`
	Where     string            `json:"where,omitempty"`
	Tags      map[string]string `json:"tags,omitempty"`
}

var stepKinds = map[escalation.Kind]string{
	escalation.Asks: "ask", escalation.Joins: "join", escalation.Hands: "hand-out", escalation.SignsIn: "open-account",
	escalation.Acts:    "act-as-anybody",
	escalation.Assigns: "take-roles", escalation.Rewrites: "write-roles", escalation.Tags: "set-tags",
}

func stepsJSON(c escalation.Chain) []stepJSON {
	out := []stepJSON{}
	for _, s := range c.Steps {
		one := stepJSON{Kind: stepKinds[s.Kind], Subject: s.Subject.String(), As: s.As.String(), Operation: s.Operation,
			Resource: s.Resource, Entry: s.Entry, Approvers: texts(s.Approvers)}
		if s.Kind == escalation.SignsIn || s.Kind == escalation.Acts {
			one.Who = s.Who.String()
		}
		if s.Where.System != "" {
			one.Where = s.Where.String()
		}
		if s.Kind == escalation.Tags {
			one.Tags = map[string]string{}
			for _, t := range s.Set {
				one.Tags[t.Key] = t.Value
			}
		}
		out = append(out, one)
	}
	return out
}
