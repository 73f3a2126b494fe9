package cli

import (
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/splice"
)

// ownKeys are what a copy of a subject does not take over: they are that person's own.
var ownKeys = []string{"name", "email", "title", "about", "last-seen", "status", "reserve", "protected", "accept"}

func (a *app) copyCommand() *cobra.Command {
	c := a.perSection(&cobra.Command{
		Use:   "copy",
		Short: "Make an entry like another, or give someone the access of another",
		Long: `Makes a new entry of an old one; flags say what is different. A person's copy has the same tags,
groups and direct grants, and never a name, an address or a credential. 'copy access' gives someone
who is there already what another has.`,
		Example: `  hgate copy role dish-driver dish-parker --allow unit.view,position.set
  hgate copy person ines.okafor luc.arnaud --name "Luc Arnaud" --except group:site-directors
  hgate copy access marek.dvorin --to ines.okafor --dry-run`,
	}, a.copyOne)
	c.AddCommand(a.copyAccessCommand())
	return c
}

func (a *app) copyOne(s policyfile.Section) *cobra.Command {
	var e editing
	var file string
	var except []string
	isSubject := s.Name == "people" || s.Name == "services"
	c := &cobra.Command{Use: s.One + " ID NEW", Short: "Copy a " + s.One,
		Example:           exampleOf("copy", s.One),
		ValidArgsFunction: a.completeEntry(s, 1)}
	c.Args = func(_ *cobra.Command, args []string) error {
		if len(args) != 2 {
			return fmt.Errorf("this is written `hgate copy %s ID NEW`", s.One)
		}
		return nil
	}
	v := a.valueFlags(c, s)
	a.editFlags(c, &e)
	var ack acknowledging
	if s.Name == "grants" {
		ack.flags(c)
	}
	c.Flags().StringVar(&file, "file", "", "`file` of the workspace to put it into")
	var groups []string
	if isSubject {
		exceptFlag(c, &except)
		groupsFlag(c, &groups)
	}
	c.RunE = func(_ *cobra.Command, args []string) error {
		if isSubject {
			e.beyond = a.beyondOriginal(subjectOf(s, args[0]), subjectOf(s, args[1]))
		}
		return a.edit(e, func(d *draft.Draft, old *estate.Estate) error {
			id, to := args[0], args[1]
			if err := existing(old, s, id); err != nil {
				return err
			}
			body, err := d.Body(s.Name, id)
			if err != nil {
				return err
			}
			copied := splice.Map()
			for i := 0; i+1 < len(body.Content); i += 2 {
				key := body.Content[i].Value
				if key == "protected" || key == "acknowledged" || isSubject && slices.Contains(ownKeys, key) || isSubject &&
					key == "groups" {
					continue
				}
				copied.Content = append(copied.Content, body.Content[i], body.Content[i+1])
			}
			into := file
			if into == "" && s.Name != "resources" {
				if o := old.Head(s.Name, id); !policyfile.IsInventory(o.Source.File) {
					into = o.Source.File
				}
			}
			if s.Name == "scopes" && len(copied.Content) == 2 {
				copied = copied.Content[1]
			}
			if err := d.Add(s.Name, to, copied, into); err != nil {
				return err
			}
			if isSubject {
				if err := a.copyAccess(d, old, likeness{subjectOf(s, id), subjectOf(s, to), except}); err != nil {
					return err
				}
			}
			if err := v.apply(d, old, to); err != nil {
				return err
			}
			if err := join(d, s, to, groups); err != nil {
				return err
			}
			if s.Name == "grants" {
				return ack.recheck(a, d, old, to)
			}
			return nil
		})
	}
	return c
}

func (a *app) copyAccessCommand() *cobra.Command {
	var e editing
	var to string
	c := &cobra.Command{
		Use: "access SUBJECT --to SOMEONE", Short: "Give someone the groups and direct grants of another",
		Long: `Puts SOMEONE into every group that lists SUBJECT, and beside SUBJECT into every grant and block that
names it. Groups that fill themselves by tags are told and left alone.`,
		Example: "  hgate copy access marek.dvorin --to ines.okafor --except group:dish-drivers",
		Args:    takes(1, 1), ValidArgsFunction: a.completeFirst(a.subjects),
	}
	a.editFlags(c, &e)
	var except []string
	exceptFlag(c, &except)
	c.Flags().StringVar(&to, "to", "", "`subject` who gets it")
	_ = c.MarkFlagRequired("to")
	c.RunE = func(_ *cobra.Command, args []string) error {
		var both [2]estate.Principal
		var sections [2]policyfile.Section
		for i, text := range []string{args[0], to} {
			s, id, err := subjectSection(text)
			if err != nil {
				return err
			}
			both[i], sections[i] = subjectOf(s, id), s
		}
		e.beyond = a.beyondOriginal(both[0], both[1])
		return a.edit(e, func(d *draft.Draft, old *estate.Estate) error {
			for i, s := range sections {
				if err := existing(old, s, both[i].ID); err != nil {
					return err
				}
			}
			return a.copyAccess(d, old, likeness{both[0], both[1], except})
		})
	}
	return c
}

func exceptFlag(c *cobra.Command, except *[]string) {
	c.Flags().StringSliceVar(except, "except", nil, "leave out these `roles` and groups (role:ID, group:ID)")
}

// likeness is who gets what another has, but for some roles and groups.
type likeness struct {
	from, to estate.Principal
	except   []string
}

// copyAccess gives one subject what another has by name, and tells what that leaves out.
func (a *app) copyAccess(d *draft.Draft, old *estate.Estate, like likeness) error {
	x, err := leftOut(old, like.except)
	if err != nil {
		return err
	}
	to := like.to
	left, err := d.CopyAccess(like.from, to, func(section, id string) bool {
		return section == "groups" && x.groups[id] || section == "grants" && x.names(old.Grants[id])
	})
	for _, g := range left {
		a.page(a.Err).Line("hgate: group %s fills itself by tags, and those of %s do not fit: it is not copied", g, to)
	}
	return err
}
