package cli

import (
	"fmt"
	"slices"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v4"

	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/splice"
)

func (a *app) setCommand() *cobra.Command {
	c := a.perSection(&cobra.Command{
		Use:   "set",
		Short: "Change keys of an entry",
		Long: `Changes keys of an entry where it stands, after telling whose access that changes. An empty value
takes a key out. Of a list, +ITEM adds and -ITEM takes out; items without a sign replace what is
there. Of tags, those that are named change, and one with an empty value goes; other keys with
values, such as a condition, are replaced as a whole.`,
		Example: `  hgate set group dome-crew --members +hana.kobari
  hgate set person ines.okafor --ends 2032-06-30
  hgate set grant books --why "Pays the bills." --title ""`,
	}, a.setOne)
	c.AddCommand(a.setWorkspace())
	return c
}

func (a *app) setOne(s policyfile.Section) *cobra.Command {
	var e editing
	c := &cobra.Command{
		Use: s.One + " ID…", Short: "Change a " + s.One, Long: s.Doc,
		Example:           exampleOf("set", s.One),
		ValidArgsFunction: a.completeEntry(s, 100),
	}
	c.Args = func(_ *cobra.Command, args []string) error {
		if len(args) == 0 {
			return fmt.Errorf("this is written `hgate set %s ID --KEY VALUE`; `hgate set %s --help` lists the keys", s.One,
				s.One)
		}
		return nil
	}
	v := a.valueFlags(c, s)
	a.editFlags(c, &e)
	var ack acknowledging
	var groups []string
	switch s.Name {
	case "grants":
		ack.flags(c)
	case "people", "services":
		groupsFlag(c, &groups)
	}
	c.RunE = func(_ *cobra.Command, args []string) error {
		if !v.any() && len(groups) == 0 {
			return fmt.Errorf("nothing is to be set: `hgate set %s --help` lists the keys", s.One)
		}
		return a.edit(e, func(d *draft.Draft, old *estate.Estate) error {
			for _, id := range args {
				if err := v.aside(args, old, id); err != nil {
					return err
				}
				if err := existing(old, s, id); err != nil {
					return err
				}
				if err := v.apply(d, old, id); err != nil {
					return err
				}
				if err := join(d, s, id, groups); err != nil {
					return err
				}
				if s.Name == "grants" {
					if err := ack.recheck(a, d, old, id); err != nil {
						return err
					}
				}
			}
			return nil
		})
	}
	return c
}

// items reads what is to be put into a list and taken out of it; replaced is true where it is to be another.
func (v *values) items(f policyfile.Field) (_ draft.Items, replaced bool, err error) {
	items, err := itemsOf(*v.given[f.Name])
	if err == nil {
		var add, drop []*yaml.Node
		if add, drop, replaced, err = signs(items); err == nil {
			return draft.Items{Add: add, Drop: drop}, replaced, nil
		}
	}
	return draft.Items{}, false, fmt.Errorf("--%s: %w", f.Name, err)
}

// groupsFlag is the flag by which a subject joins and leaves groups.
func groupsFlag(c *cobra.Command, groups *[]string) {
	c.Flags().StringArrayVar(groups, "groups", nil, "the `groups` to join; those with - before them to leave")
}

// aside explains a value that stands beside its flag, where it was taken for an id: a flag for yes or no needs none.
func (v *values) aside(args []string, old *estate.Estate, id string) error {
	if !slices.Contains([]string{"yes", "no", "true", "false"}, id) || len(args) < 2 ||
		old.Head(v.section.Name, id) != nil {
		return nil
	}
	for _, f := range v.said() {
		if f.Shape == policyfile.OfFlag {
			return fmt.Errorf("--%s %s: write --%s for yes, and --%s=no for no", f.Name, id, f.Name, f.Name)
		}
	}
	return nil
}

// apply changes an entry to what was given.
func (v *values) apply(d *draft.Draft, old *estate.Estate, id string) error {
	for _, f := range v.said() {
		if ends := f.Name == "ends" || f.Name == "status"; ends {
			if err := unprotected(old, v.section, id, "ended"); err != nil {
				return err
			}
		}
		if err := v.applyOne(d, id, f); err != nil {
			return err
		}
	}
	return nil
}

func (v *values) applyOne(d *draft.Draft, id string, f policyfile.Field) error {
	s := v.section.Name
	body, err := d.Body(s, id)
	if err != nil {
		return err
	}
	if s == "grants" && f.Name == "role" && has(body, "roles") {
		f.Name = "roles"
		v.given["roles"] = v.given["role"]
	}
	switch f.Shape {
	case policyfile.OfList:
		items, replaced, err := v.items(f)
		if err != nil {
			return err
		}
		if !replaced && len(items.Add)+len(items.Drop) > 0 {
			if s == "grants" && f.Name == "role" && len(items.Add) > 0 {
				return toRoles(d, id, body, items)
			}
			return d.Change(s, id, f.Name, items)
		}
	case policyfile.OfKeys:
		n, err := v.value(f)
		if err != nil || n == nil {
			if err == nil {
				err = d.Set(s, id, f.Name, nil)
			}
			return err
		}
		if f.Name == "tags" { // one by one; all else is a whole
			return d.Set(s, id, f.Name, merged(splice.Under(body, f.Name), n))
		}
	}
	n, err := v.value(f)
	if err != nil {
		return err
	}
	key := f.Name
	if n != nil && v.key(f, n) != key { // from role to roles
		if err := d.Set(s, id, "role", nil); err != nil {
			return err
		}
		key = v.key(f, n)
	}
	return d.Set(s, id, key, n)
}

// toRoles gives a grant of one role several.
func toRoles(d *draft.Draft, id string, body *yaml.Node, items draft.Items) error {
	list := splice.List()
	if one := splice.Under(body, "role"); one != nil {
		list.Content = append(list.Content, one)
	}
	list.Content = append(list.Content, items.Add...)
	if err := d.Set("grants", id, "roles", list); err != nil {
		return err
	}
	if err := d.Set("grants", id, "role", nil); err != nil || len(items.Drop) == 0 {
		return err
	}
	return d.Change("grants", id, "roles", draft.Items{Drop: items.Drop})
}

func has(n *yaml.Node, key string) bool { return splice.Under(n, key) != nil }

// merged gives keys and values with others in their place; those that become empty go.
func merged(old, more *yaml.Node) *yaml.Node {
	out := splice.Map()
	if old != nil {
		for i := 0; i+1 < len(old.Content); i += 2 {
			if !has(more, old.Content[i].Value) {
				out.Content = append(out.Content, old.Content[i], old.Content[i+1])
			}
		}
	}
	for i := 0; i+1 < len(more.Content); i += 2 {
		if more.Content[i+1].Value != "" || more.Content[i+1].Kind != yaml.ScalarNode {
			out.Content = append(out.Content, more.Content[i], more.Content[i+1])
		}
	}
	if len(out.Content) == 0 {
		return nil
	}
	return out
}

func subjectOf(s policyfile.Section, id string) estate.Principal {
	if s.Name == "services" {
		return estate.Principal{Kind: estate.IsService, ID: id}
	}
	return estate.Principal{ID: id}
}

// subjectSection finds in which section a person or service stands.
func subjectSection(text string) (policyfile.Section, string, error) {
	p, err := estate.ParsePrincipal(text)
	if err != nil {
		return policyfile.Section{}, "", err
	}
	name := map[estate.PrincipalKind]string{estate.IsPerson: "people", estate.IsService: "services"}[p.Kind]
	if name == "" {
		return policyfile.Section{}, "", fmt.Errorf("%s is no person and no service", text)
	}
	return sectionNamed(name), p.ID, nil
}

func sectionNamed(name string) policyfile.Section {
	for _, s := range policyfile.Sections() {
		if s.Name == name || s.One == name {
			return s
		}
	}
	panic("cli: no section " + name)
}
