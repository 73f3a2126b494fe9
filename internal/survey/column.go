package survey

import (
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/verify"
)

// Across says who is across a grid: all that it names has to be there.
type Across struct {
	Who       []estate.Principal // everyone stands for all people and services
	MembersOf []string           // of these groups
	Groups    bool               // all groups
	Roles     []string
}

// Columns gives the columns of a grid, each once; of nobody in particular, all groups.
func Columns(g *gate.Gate, across Across) (out []Column) {
	e := g.Estate()
	asked, there := true, map[string]bool{}
	add := func(p estate.Principal) {
		one := Column{Name: p.String(), Subject: p, Asked: asked}
		if p.Kind == estate.IsGroup {
			one.Name = "group:" + p.ID
		}
		if s := e.People[p.ID]; p.Kind == estate.IsPerson && s != nil {
			one.Invited = s.Status == "invited"
		}
		if !there[one.Name] {
			there[one.Name] = true
			out = append(out, one)
		}
	}
	for _, p := range across.Who {
		if p.Kind != estate.IsEveryone {
			add(p)
		}
	}
	for _, id := range across.MembersOf {
		for _, p := range g.Group(id) {
			add(p)
		}
	}
	asked = false
	if slices.ContainsFunc(across.Who, func(p estate.Principal) bool { return p.Kind == estate.IsEveryone }) {
		for _, one := range g.Members(estate.Subjects{{Principal: estate.Principal{Kind: estate.IsEveryone}}}) {
			add(one)
		}
	}
	if across.Groups || len(across.Who)+len(across.MembersOf)+len(across.Roles) == 0 {
		for _, group := range estate.Sorted(e.Groups) {
			add(estate.Principal{Kind: estate.IsGroup, ID: group.ID})
		}
	}
	for _, id := range across.Roles {
		out = append(out, Column{Name: "role:" + id, Role: id, Asked: true})
	}
	return out
}

// Levels are what a grid says of one column, as a test can say it.
type Levels struct {
	Column Column
	Rules  []estate.LevelRule
	// Left are the places of which a test can't say it: it depends there, or members have more by other ways.
	Left []estate.Address
	// Nobody says that it is of nobody who can sign in, and so of no test.
	Nobody bool
}

// Levels tells for each column the levels of some rows that hold as a test of what is said.
func (g *Grid) Levels(by *gate.Gate, rows []GridRow, test estate.Test) (out []Levels) {
	now := test.Given.Time.Instant
	for c, column := range g.Columns {
		one := Levels{Column: column, Nobody: column.Role != "" || column.Invited}
		for _, r := range rows {
			for _, place := range append([]*estate.Resource{r.Place}, r.Alike...) {
				if one.Nobody {
					continue
				}
				rule := estate.LevelRule{Subject: column.Subject, None: !r.Cells[c].Any, Level: r.Cells[c].Level}
				rule.Place, _ = estate.ParseResourceTerm(place.Address.String())
				test.Levels = []estate.LevelRule{rule}
				if result, err := verify.Run(by, &test, now); err == nil && result.Passed() {
					one.Rules = append(one.Rules, rule)
				} else {
					one.Left = append(one.Left, place.Address)
				}
			}
		}
		out = append(out, one)
	}
	return out
}
