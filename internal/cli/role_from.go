package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v4"

	"hiddengate/internal/catalog"
	"hiddengate/internal/clock"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/splice"
	"hiddengate/internal/survey"
	"hiddengate/internal/view"
)

// roleFrom is what a new role is made from: a template, or what somebody may do.
type roleFrom struct {
	template string
	except   []string
	byPlace  bool
	to       []string
}

func (f *roleFrom) flags(c *cobra.Command) {
	c.Flags().StringVar(&f.template, "template", "",
		"`name` of a template to start from, as KIND/NAME: see hgate list templates; --allow adds to it")
	_ = c.RegisterFlagCompletionFunc("template",
		cobra.FixedCompletions(templateIDs(), cobra.ShellCompDirectiveNoFileComp))
	c.Flags().StringSliceVar(&f.except, "except", nil,
		"with --from person:ID, leave out what these `roles` or groups give (role:ID, group:ID)")
	c.Flags().BoolVar(&f.byPlace, "by-place", false,
		"with --from person:ID, make a role and a grant for each place in which the person may do something else")
	c.Flags().StringSliceVar(&f.to, "to", nil, "with --by-place, the `subjects` to whom the grants go")
}

// check sees that the flags go together.
func (f *roleFrom) check(isPerson bool) error {
	switch {
	case !isPerson && (len(f.except) > 0 || f.byPlace):
		return fmt.Errorf("--except and --by-place go with --from person:ID")
	case f.byPlace != (len(f.to) > 0):
		return fmt.Errorf("--by-place and --to go together: each grant needs somebody to go to")
	case isPerson && f.template != "":
		return fmt.Errorf("a role starts from a template or from a person; leave one of --template and --from out")
	}
	return nil
}

// withAllow gives a body with the keys of another, to whose `allow` its own is added.
func withAllow(start, more *yaml.Node) *yaml.Node {
	var items []*yaml.Node
	for _, body := range []*yaml.Node{start, more} {
		for i := 0; i+1 < len(body.Content); i += 2 {
			if value := body.Content[i+1]; body.Content[i].Value != "allow" {
				continue
			} else if value.Kind == yaml.SequenceNode {
				items = append(items, value.Content...)
			} else {
				items = append(items, value)
			}
		}
	}
	out := merged(start, more)
	for i := 0; i+1 < len(out.Content); i += 2 {
		if out.Content[i].Value == "allow" {
			out.Content[i+1] = splice.List(items...)
		}
	}
	return out
}

// fromTemplate makes the body of a role of a template.
func fromTemplate(id string) (*yaml.Node, error) {
	for _, t := range catalog.Templates() {
		if t.ID == id {
			list := splice.List()
			for _, text := range t.Allow {
				list.Content = append(list.Content, splice.Scalar(text))
			}
			return splice.Map(splice.Scalar("about"), splice.Scalar(t.About), splice.Scalar("allow"), list), nil
		}
	}
	return nil, unknown("template", id, templateIDs())
}

// model is somebody after whom a role is made.
type model struct {
	who  estate.Principal
	now  clock.Instant
	zone *clock.Zone
	tree *estate.Tree
	rows []survey.Row // what they may do now, by place
}

// holds says that something is listed inside a resource.
func (m model) holds(r *estate.Resource) bool {
	i := r.Index + 1
	return i < m.tree.Len() && int(m.tree.Rows[i].Parent) == r.Index+1
}

// modelOf tells what somebody may do now, apart from what some roles and groups give.
func (a *app) modelOf(e *estate.Estate, who string, except []string) (m model, err error) {
	m.who, m.zone, m.tree = estate.Principal{ID: who}, e.Zone, e.Tree
	if e.People[who] == nil {
		return m, unknown("person", who, ids(e.Section("people")))
	}
	left, err := leftOut(e, except)
	if err != nil {
		return m, err
	}
	e = left.without(e, m.who)
	g, err := gate.Compile(e, nil)
	if err != nil {
		return m, err
	}
	if m.now, err = a.day(e.Zone); err != nil {
		return m, err
	}
	c := g.NewContext()
	c.Time(m.now)
	rows, err := survey.Reach(g, m.who, c)
	if err != nil {
		return m, err
	}
	m.rows = slices.DeleteFunc(rows, func(r survey.Row) bool { return r.Outcome != gate.Allow })
	if len(m.rows) == 0 {
		return m, &draft.Error{Message: who + " may do nothing, so there is nothing to make a role of",
			Help: "see `hgate reach " + who + "`"}
	}
	return m, nil
}

// role makes the body of a role of some of the rows.
func (m model) role(rows []survey.Row) *yaml.Node {
	has := map[string]bool{}
	for _, r := range rows {
		for _, o := range r.Operations {
			has[o.Name] = true
		}
	}
	list := splice.List()
	for _, name := range keys(has) {
		list.Content = append(list.Content, splice.Scalar(name))
	}
	about := fmt.Sprintf("What %s could do on %s", m.who, m.zone.DateOf(m.now))
	return splice.Map(splice.Scalar("about"), splice.Scalar(about), splice.Scalar("allow"), list)
}

// alike brings the rows together in which the same can be done.
func (m model) alike() (out [][]survey.Row) {
	at := map[string]int{}
	for _, r := range m.rows {
		var names []string
		for _, o := range r.Operations {
			names = append(names, o.Name)
		}
		key := strings.Join(names, " ")
		i, known := at[key]
		if !known {
			i = len(out)
			at[key] = i
			out = append(out, nil)
		}
		out[i] = append(out[i], r)
	}
	return out
}

// add adds a role and a grant for each set of places in which the same can be done.
func (m model) add(d *draft.Draft, id string, f roleFrom, more *yaml.Node) error {
	parts := m.alike()
	for i, rows := range parts {
		one := id
		if len(parts) > 1 {
			one = fmt.Sprintf("%s-%d", id, i+1)
		}
		if err := d.Add("roles", one, withAllow(m.role(rows), more), ""); err != nil {
			return err
		}
		on, to := splice.List(), splice.List()
		for _, r := range rows {
			place := splice.Scalar(r.Resource.Address.String())
			if !r.Inside && m.holds(r.Resource) {
				place = splice.Map(splice.Scalar("in"), place, splice.Scalar("exactly"), splice.Scalar("true"))
			}
			on.Content = append(on.Content, place)
		}
		for _, who := range f.to {
			to.Content = append(to.Content, splice.Scalar(who))
		}
		body := splice.Map(splice.Scalar("to"), to, splice.Scalar("role"), splice.Scalar(one), splice.Scalar("on"), on)
		if err := d.Add("grants", one, body, ""); err != nil {
			return err
		}
	}
	return nil
}

// beyond gives where the person may do what, since a role that is granted gives all of it in each place.
func (m model) beyond() *beyond {
	parts := m.alike()
	if len(parts) < 2 {
		return nil
	}
	type part struct {
		Places     []string `json:"places"`
		Operations int      `json:"operations"`
	}
	value := struct {
		Original string `json:"original"`
		Parts    []part `json:"parts"` // what the original may do where
	}{m.who.String(), nil}
	for _, rows := range parts {
		value.Parts = append(value.Parts, part{m.placesOf(rows), len(rows[0].Operations)})
	}
	return &beyond{value: func() any { return value }, write: func(p *view.Page) { m.beyondText(p, parts) }}
}

// placesOf names the places of rows that give the same.
func (m model) placesOf(rows []survey.Row) (out []string) {
	for _, r := range rows {
		place := r.Resource.Address.String()
		if !r.Inside && m.holds(r.Resource) {
			place += " itself"
		}
		out = append(out, place)
	}
	return out
}

func (m model) beyondText(p *view.Page, parts [][]survey.Row) {
	p.Line("\n%s", p.Paint(view.Heading, "Beyond "+m.who.String()))
	p.Table(0, nil, [][]view.Cell{{{Text: "A grant of the role gives all of it in each place. " + m.who.String() +
		" may do this where it stands; --by-place makes a role and a grant for each:"}}})
	var rows [][]view.Cell
	for _, part := range parts[:min(len(parts), mostParts)] {
		rows = append(rows, []view.Cell{{Text: named(m.placesOf(part))}, {Text: count(len(part[0].Operations), "operation")}})
	}
	p.Table(2, nil, rows)
	if more := len(parts) - mostParts; more > 0 {
		p.Line("  and %d more", more)
	}
}

// mostParts bounds how many sets of places are told.
const mostParts = 10

// exceptions are roles and groups that a copy leaves out.
type exceptions struct{ roles, groups map[string]bool }

// leftOut reads --except.
func leftOut(e *estate.Estate, texts []string) (out exceptions, err error) {
	out = exceptions{map[string]bool{}, map[string]bool{}}
	for _, text := range texts {
		role, isRole := strings.CutPrefix(text, "role:")
		group, isGroup := strings.CutPrefix(text, "group:")
		switch {
		case !isGroup && e.Roles[role] != nil:
			out.roles[role] = true
		case !isRole && e.Groups[group] != nil:
			out.groups[group] = true
		case isGroup:
			return out, unknown("group", group, ids(e.Section("groups")))
		default:
			return out, unknown("role", role, ids(e.Section("roles")))
		}
	}
	return out, nil
}

// without gives the estate as if somebody were not in the groups, and nobody had the roles.
func (x exceptions) without(e *estate.Estate, who estate.Principal) *estate.Estate {
	var edits []estate.Edit
	for id := range x.groups {
		one := *e.Groups[id]
		one.Members = append(slices.Clone(one.Members), estate.SubjectTerm{Principal: who, Not: true})
		edits = append(edits, estate.Put("groups", &one))
	}
	for id, gr := range e.Grants {
		one := *gr
		one.Roles = slices.DeleteFunc(slices.Clone(gr.Roles), func(ref estate.Ref) bool { return x.roles[ref.ID] })
		if len(one.Roles) == 0 {
			edits = append(edits, estate.Drop("grants", id))
		} else if len(one.Roles) < len(gr.Roles) {
			edits = append(edits, estate.Put("grants", &one))
		}
	}
	if edits == nil {
		return e
	}
	return e.With(edits...)
}

// names says whether a grant gives one of the roles.
func (x exceptions) names(gr *estate.Grant) bool {
	return slices.ContainsFunc(gr.Roles, func(ref estate.Ref) bool { return x.roles[ref.ID] })
}
