package cli

import (
	"encoding/csv"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v4"

	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/splice"
)

// perSection makes a command with one below it for each section.
func (a *app) perSection(c *cobra.Command, below func(s policyfile.Section) *cobra.Command) *cobra.Command {
	c.Annotations = map[string]string{sorts: "yes"}
	for _, s := range policyfile.Sections() {
		one := below(s)
		one.Flags().SortFlags = false
		c.AddCommand(one)
	}
	known := func() []string {
		var out []string
		for _, b := range c.Commands() {
			out = append(out, b.Name())
		}
		return out
	}
	c.Args = func(_ *cobra.Command, args []string) error {
		if len(args) == 0 {
			return fmt.Errorf("%s takes one of %s, and an id", c.Name(), strings.Join(known(), ", "))
		}
		return unknown("sort of entry", args[0], known())
	}
	c.RunE = func(*cobra.Command, []string) error { return nil } // Args has refused
	return c
}

func (a *app) addCommand() *cobra.Command {
	c := a.perSection(&cobra.Command{
		Use:   "add",
		Short: "Add a person, group, role, scope, grant, test, …",
		Long: `Adds an entry beside its siblings, or into the file that --file names, after telling whose access that changes.
Every key of an entry is a flag: lists take commas, or the flag several times; keys with values take k=v,k=v or
what a file would say: --when '{mfa: true, hours: daily 17:00-08:00}'.`,
		Example: `  hgate add person luc.arnaud --name "Luc Arnaud" --tags team=domes --groups dome-crew
  hgate add role frame-copier --allow session.open,table.view,table.read
  hgate add grant crew-copies --to group:dome-crew --role frame-copier --on obsdb:sky/catalogue`,
	}, a.addOne)
	c.AddCommand(a.addInventory())
	return c
}

func (a *app) addOne(s policyfile.Section) *cobra.Command {
	var e editing
	var file, from string
	var start roleFrom
	var groups []string
	var ack acknowledging
	c := &cobra.Command{
		Use:     s.One + " ID",
		Short:   "Add a " + s.One,
		Long:    s.Doc,
		Example: exampleOf("add", s.One),
		Args:    cobra.MaximumNArgs(1),
	}
	v := a.valueFlags(c, s)
	a.editFlags(c, &e)
	c.Flags().StringVar(&file, "file", "", "`file` of the workspace to put it into")
	isSubject := s.Name == "people" || s.Name == "services"
	if isSubject {
		c.Flags().StringArrayVar(&groups, "groups", nil, "the `groups` to join")
	}
	help := "`file` of many at once: CSV whose columns are id and the keys"
	if s.Name == "roles" {
		help = "`person` whose operations the role has, as person:ID; or a file of many at once: CSV whose columns are id " +
			"and the keys"
	}
	c.Flags().StringVar(&from, "from", "", help)
	switch s.Name {
	case "roles":
		start.flags(c)
	case "grants":
		ack.flags(c)
	}
	c.RunE = func(_ *cobra.Command, args []string) error {
		who, isPerson := strings.CutPrefix(from, "person:")
		if from != "" && !isPerson {
			if len(args) > 0 {
				return fmt.Errorf("--from %s names every id itself; leave %s out", from, args[0])
			}
			return a.edit(e, func(d *draft.Draft, _ *estate.Estate) error { return addMany(d, s, from, file) })
		}
		if len(args) == 0 {
			return fmt.Errorf("this is written `hgate add %s ID`, as in: %s", s.One, strings.TrimSpace(c.Example))
		}
		if err := start.check(isPerson && s.Name == "roles"); err != nil {
			return err
		}
		body, err := v.body()
		if err != nil {
			return err
		}
		id := args[0]
		var like model
		if isPerson && s.Name == "roles" && !start.byPlace {
			e.beyond = func(*estate.Estate, *gate.Gate) (*beyond, error) { return like.beyond(), nil }
		}
		return a.edit(e, func(d *draft.Draft, old *estate.Estate) error {
			if isPerson && s.Name == "roles" {
				if like, err = a.modelOf(old, who, start.except); err != nil {
					return err
				}
				if start.byPlace {
					return like.add(d, id, start, body)
				}
				body = withAllow(like.role(like.rows), body)
			}
			if start.template != "" {
				more, err := fromTemplate(start.template)
				if err != nil {
					return err
				}
				body = withAllow(more, body)
			}
			if s.Name == "grants" {
				accepts, err := ack.acceptance(a, old)
				if err != nil {
					return err
				}
				if err := draft.Acknowledge(old, body, accepts); err != nil {
					return err
				}
			}
			for _, f := range s.Fields {
				if f.Required && !slices.ContainsFunc(keysIn(body), func(k string) bool { return k == f.Name }) {
					return fmt.Errorf("a %s needs --%s: %s", s.One, f.Name, f.Doc)
				}
			}
			if s.Name == "scopes" && len(body.Content) == 2 {
				body = body.Content[1]
				if body.Kind != yaml.SequenceNode {
					body = splice.List(body)
				}
			}
			if err := d.Add(s.Name, id, body, file); err != nil {
				return err
			}
			return join(d, s, id, groups)
		})
	}
	return c
}

func keysIn(n *yaml.Node) []string {
	var out []string
	for i := 0; i < len(n.Content); i += 2 {
		out = append(out, n.Content[i].Value)
	}
	return out
}

// join puts a subject into groups, and takes it out of those with - before them.
func join(d *draft.Draft, s policyfile.Section, id string, groups []string) error {
	name := id
	if s.Name == "services" {
		name = "service:" + id
	}
	for _, list := range groups {
		for _, g := range splitList(list) {
			member := []*yaml.Node{splice.Scalar(name)}
			items := draft.Items{Add: member}
			if left, leaves := strings.CutPrefix(g, "-"); leaves {
				g, items = left, draft.Items{Drop: member}
			}
			g = strings.TrimPrefix(strings.TrimPrefix(g, "+"), "group:")
			if err := d.Change("groups", g, "members", items); missingFile(err) {
				return &draft.Error{Message: fmt.Sprintf("there is no group %q", g), Help: "add it with `hgate add group " + g +
					"`"}
			} else if err != nil {
				return err
			}
		}
	}
	return nil
}

// addMany adds an entry for each line of a CSV file. A column tag.KEY is a tag, groups are joined; lists are separated
// by ;.
func addMany(d *draft.Draft, s policyfile.Section, name, into string) error {
	in, err := os.Open(name)
	if err != nil {
		return fmt.Errorf("--from: %w", err)
	}
	defer in.Close()
	r := csv.NewReader(in)
	columns, err := r.Read()
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	columns[0] = strings.TrimPrefix(columns[0], "\ufeff")
	if !slices.Contains(columns, "id") {
		return fmt.Errorf("%s:1:1: there is no column id; the first line names the columns, as id,name,email", name)
	}
	for i, column := range columns {
		_, known := s.FieldNamed(column)
		if !known && column != "id" && column != "groups" && !strings.HasPrefix(column, "tag.") {
			_, at := r.FieldPos(i)
			known := names(s)
			if _, tagged := s.FieldNamed("tags"); tagged {
				known = append(known, "tag.KEY for the tag KEY")
			}
			if s.Name == "people" || s.Name == "services" {
				known = append(known, "groups")
			}
			return fmt.Errorf("%s:1:%d: there is no column %q: %s has %s", name, at, column, s.One, strings.Join(known, ", "))
		}
	}
	for {
		row, err := r.Read()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		line, _ := r.FieldPos(0)
		if err := addRow(d, s, sheetLine{columns, row}, into); err != nil {
			return fmt.Errorf("%s:%d: %w", name, line, err)
		}
	}
}

func names(s policyfile.Section) []string {
	var out []string
	for _, f := range s.Fields {
		out = append(out, f.Name)
	}
	return out
}

// sheetLine is a line of a sheet with the names of its columns.
type sheetLine struct{ columns, cells []string }

func addRow(d *draft.Draft, s policyfile.Section, line sheetLine, into string) error {
	columns, row := line.columns, line.cells
	body, tags := splice.Map(), splice.Map()
	id := ""
	var groups []string
	for i, cell := range row {
		cell = strings.TrimSpace(cell)
		tag, isTag := strings.CutPrefix(columns[i], "tag.")
		switch {
		case cell == "":
		case columns[i] == "id":
			id = cell
		case columns[i] == "groups":
			groups = strings.Split(cell, ";")
		case isTag:
			tags.Content = append(tags.Content, splice.Scalar(tag), splice.Scalar(cell))
		default:
			f, _ := s.FieldNamed(columns[i])
			texts := []string{cell}
			if f.Shape == policyfile.OfList {
				texts = strings.Split(cell, ";")
			}
			n, err := valueOf(f, texts)
			if err != nil {
				return fmt.Errorf("%s: %w", columns[i], err)
			}
			if n != nil {
				body.Content = append(body.Content, splice.Scalar(columns[i]), n)
			}
		}
	}
	if len(tags.Content) > 0 {
		body.Content = append(body.Content, splice.Scalar("tags"), tags)
	}
	if err := d.Add(s.Name, id, body, into); err != nil {
		return err
	}
	return join(d, s, id, groups)
}
