package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/change"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
)

func (a *app) removeCommand() *cobra.Command {
	return a.perSection(&cobra.Command{
		Use:   "remove",
		Short: "Take an entry out",
		Long: `Takes an entry out of the files, after telling whose access that changes. What other entries name is
not removed, unless --with-references takes those mentions out too; an entry that would be left with
nobody, nothing or nowhere goes as a whole.`,
		Example: `  hgate remove grant visitors-connect
  hgate remove person pia.lindqvist --with-references`,
	}, func(s policyfile.Section) *cobra.Command {
		var e editing
		var with bool
		c := &cobra.Command{Use: s.One + " ID…", Short: "Take a " + s.One + " out",
			Example: exampleOf("remove", s.One), Args: cobra.MinimumNArgs(1), ValidArgsFunction: a.completeEntry(s, 100)}
		a.editFlags(c, &e)
		c.Flags().BoolVar(&with, "with-references", false, "take out what names it, too")
		c.RunE = func(_ *cobra.Command, args []string) error {
			return a.edit(e, func(d *draft.Draft, old *estate.Estate) error {
				for _, id := range args {
					if err := existing(old, s, id); err != nil {
						return err
					}
					if err := a.remove(removal{d, old, with}, s, id); err != nil {
						return err
					}
				}
				return nil
			})
		}
		return c
	})
}

// removal takes entries out of a draft, with what names them if that is asked for.
type removal struct {
	draft *draft.Draft
	old   *estate.Estate
	with  bool
}

func (a *app) remove(r removal, s policyfile.Section, id string) error {
	d, old, with := r.draft, r.old, r.with
	if err := unprotected(old, s, id, "removed"); err != nil {
		return err
	}
	mentions, err := d.Mentions(s.Name, id)
	if err != nil {
		return err
	}
	// What stands in the entry itself goes with it.
	var others []draft.Mention
	for _, m := range mentions {
		if m.Section != s.Name || m.ID != id {
			others = append(others, m)
		}
	}
	if len(others) > 0 && !with {
		return &draft.Error{
			Message: fmt.Sprintf("%s %s is still named, so it is not removed:\n%s", s.One, id, mentionLines(others)),
			Help:    fmt.Sprintf("take those out first, or with it: hgate remove %s %s --with-references", s.One, id),
		}
	}
	for _, m := range others {
		if m.Section == policyfile.SettingsSection {
			return &draft.Error{
				Message: fmt.Sprintf("the workspace belongs to %s %s (%s:%d), so it is not removed", s.One, id, m.File, m.Line()),
				Help:    "name another " + m.Key + " in " + policyfile.SettingsFile + " first",
			}
		}
	}
	gone, err := d.RemoveWith(s.Name, id, others)
	if err != nil {
		return err
	}
	for _, m := range gone {
		if err := unprotected(old, sectionNamed(m.Section), m.ID, "removed"); err != nil {
			return err
		}
		a.page(a.Out).Line("%s %s goes too: it would name nothing any more under %s.", estate.Singular(m.Section), m.ID,
			m.Key)
	}
	return nil
}

// entryNamed tells in which entry a mention stands.
func entryNamed(m draft.Mention) string {
	if m.Section == policyfile.SettingsSection {
		return "the settings"
	}
	return estate.Singular(m.Section) + " " + m.ID
}

// mentionLines lists mentions with their places.
func mentionLines(mentions []draft.Mention) string {
	const most = 20
	var lines []string
	inFile := map[string]int{}
	for _, m := range mentions {
		if m.Line() == 0 {
			inFile[m.File]++
			continue
		}
		lines = append(lines, fmt.Sprintf("  %s:%d  %s of %s", m.File, m.Line(), m.Key, entryNamed(m)))
	}
	for _, name := range keys(inFile) {
		lines = append(lines, fmt.Sprintf("  %s  %s", name, count(inFile[name], "line")))
	}
	if len(lines) > most {
		lines = append(lines[:most], fmt.Sprintf("  and %d more", len(lines)-most))
	}
	return strings.Join(lines, "\n")
}

func (a *app) renameCommand() *cobra.Command {
	return a.perSection(&cobra.Command{
		Use:   "rename",
		Short: "Give an entry another id, everywhere",
		Long:  `Gives an entry another id, where it stands and wherever it is named. Nobody's access changes.`,
		Example: `  hgate rename role frame-reader frames-reader
  hgate rename resource obsdb:sky obsdb:frames`,
	}, func(s policyfile.Section) *cobra.Command {
		var e editing
		c := &cobra.Command{Use: s.One + " ID NEW", Short: "Give a " + s.One + " another id",
			Example: exampleOf("rename", s.One), ValidArgsFunction: a.completeEntry(s, 1)}
		c.Args = func(_ *cobra.Command, args []string) error {
			if len(args) != 2 {
				return fmt.Errorf("this is written `hgate rename %s ID NEW`", s.One)
			}
			return nil
		}
		a.editFlags(c, &e)
		c.RunE = func(_ *cobra.Command, args []string) error {
			e.renamed = &change.Renaming{Section: s.Name, From: args[0], To: args[1]}
			return a.edit(e, func(d *draft.Draft, old *estate.Estate) error {
				id, to := args[0], args[1]
				if err := existing(old, s, id); err != nil {
					return err
				}
				if s.Name == "resources" {
					b, err := estate.ParseAddress(to)
					if err != nil {
						return err
					}
					if was, _ := estate.ParseAddress(id); was.System != b.System {
						return fmt.Errorf("a resource stays in its system: write %s:%s", was.System, b.Path)
					}
					if r := old.Listed(b); r != nil {
						return &draft.Error{Message: to + " is listed already", Help: "choose another address"}
					}
				}
				mentions, err := d.Mentions(s.Name, id)
				if err != nil {
					return err
				}
				if err := d.Redirect(s.Name, id, to, mentions); err != nil {
					return err
				}
				return d.Rename(s.Name, id, to)
			})
		}
		return c
	})
}
