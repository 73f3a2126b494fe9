// Package survey answers questions about the whole of an estate; for now, the nearest ways in.
package survey

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/region"
)

// Near is a grant that would allow a request but for one thing.
type Near struct {
	Grant  *estate.Grant
	Lacks  string // one of Lacks
	Detail string
}

// Lacks are the things a grant can lack, those that are easiest to come by first.
var Lacks = []string{"approval", "condition", "session", "date", "membership", "scope", "operation"}

// Nearest lists the grants that would allow a request if they lacked one thing less, best first.
func Nearest(g *gate.Gate, req gate.Request) ([]Near, error) {
	ways, err := g.Ways(req)
	if err != nil {
		return nil, err
	}
	var out []Near
	for _, w := range ways {
		if n, ok := lack(g, req, w); ok {
			out = append(out, n)
		}
	}
	slices.SortStableFunc(out, func(a, b Near) int {
		return cmp.Compare(slices.Index(Lacks, a.Lacks), slices.Index(Lacks, b.Lacks))
	})
	return out, nil
}

// lack names the one thing that a grant lacks; ok is false if it lacks none or more than one, or could never
// allow the request.
func lack(g *gate.Gate, req gate.Request, w gate.Way) (Near, bool) {
	n, s := Near{Grant: w.Grant}, g.Space()
	missing := 0
	miss := func(lacks, format string, args ...any) {
		missing++
		n.Lacks, n.Detail = lacks, fmt.Sprintf(format, args...)
	}
	switch {
	case w.Fact != region.Empty:
		fact := s.Text(w.Fact, 2)
		miss("condition", "it asks: %s%s", fact, ownedBy(g, req, fact))
	case w.Region == region.Empty:
		return n, false
	}
	if w.Active != region.Full {
		miss("date", "%s is active %s", req.Subject, s.Text(w.Active, 3))
	}
	if w.RoleTime != region.Full {
		miss("date", "%s is in force %s", roles(w.Grant), s.Text(w.RoleTime, 3))
	}
	if !w.Lent {
		miss("approval", "%s", request(w.Grant.OnRequest))
	}
	if !w.Named {
		miss("session", "the session does not name %s", roles(w.Grant))
	}
	if !w.Who {
		miss("membership", "it goes to %s", join(w.Grant.To))
	}
	if !w.Where {
		miss("scope", "it covers %s", join(w.Grant.On))
	}
	if !w.What {
		miss("operation", "%s lacks %s", roles(w.Grant), req.Operation)
	}
	if w.Own && !w.Meets && w.Active == region.Full && w.RoleTime == region.Full {
		miss("date", "it is in force when %s is not active, or its role is not", req.Subject)
	}
	if !w.Own && w.Fact == region.Empty {
		if missing > 0 {
			return n, false // writing the condition out takes a while among many
		}
		rest, what := g.Asks(w.Region, req.Context)
		text := s.Text(rest, 3)
		if what == "time" && (w.Grant.Starts != nil || w.Grant.Ends != nil) && w.Grant.When == nil {
			miss("date", "it is in force %s", text)
		} else {
			miss("condition", "it asks: %s", text)
		}
	}
	return n, missing == 1
}

// ownedBy says who owns the resource, where that is what a grant asks about.
func ownedBy(g *gate.Gate, req gate.Request, fact string) string {
	a, err := estate.ParseAddress(req.Resource)
	if err != nil {
		return ""
	}
	r, err := g.Place(a)
	switch {
	case err != nil || !strings.HasPrefix(fact, "the owner"):
		return ""
	case r.Owner == nil:
		return "; nobody owns " + req.Resource
	}
	return "; " + r.Owner.String() + " owns " + req.Resource
}

func request(r *estate.OnRequest) string {
	text := "on request, for up to " + estate.DurationText(r.Longest)
	if r.Approvals > 0 {
		text += fmt.Sprintf(", with %d approval", r.Approvals)
		if r.Approvals > 1 {
			text += "s"
		}
	}
	if r.Approvers != nil {
		text += " by " + join(r.Approvers)
	}
	return text
}

func roles(gr *estate.Grant) string {
	var ids []string
	for _, ref := range gr.Roles {
		ids = append(ids, ref.ID)
	}
	return "role " + strings.Join(ids, ", ")
}

func join[T fmt.Stringer](list []T) string {
	var parts []string
	for _, t := range list {
		parts = append(parts, t.String())
	}
	return strings.Join(parts, ", ")
}
