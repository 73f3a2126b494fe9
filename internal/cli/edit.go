package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"

	"github.com/spf13/cobra"

	"hiddengate/internal/cache"
	"hiddengate/internal/change"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/journal"
	"hiddengate/internal/logbook"
	"hiddengate/internal/policyfile"
)

// editing is the flags that every edit has.
type editing struct {
	dryRun, yes, expand bool
	renamed             *change.Renaming // the entry that gets another id; nil: none
	head                string           // what is said before the effect, if it has one
	who                 string           // who acts, where the command says so
	// beyond gives what a copy has that its original has not, in the estate as it will be, by a gate that may have the
	// same places; nil: the edit copies nobody
	beyond func(after *estate.Estate, base *gate.Gate) (*beyond, error)
}

func (a *app) editFlags(c *cobra.Command, e *editing) {
	c.Flags().BoolVar(&e.dryRun, "dry-run", false, "tell what would change, and write nothing")
	c.Flags().BoolVarP(&e.yes, "yes", "y", false, "write without asking, whatever the edit does")
	c.Flags().BoolVar(&e.expand, "expand", false, "tell the change for each subject, operation and resource")
	a.formatFlag(c, editFormats)
}

var editFormats = []string{"text", "json"}

// edit lets do change a draft of the workspace, tells what that does, and writes it.
func (a *app) edit(c editing, do func(d *draft.Draft, e *estate.Estate) error) error {
	if err := a.formatIn(editFormats); err != nil {
		return err
	}
	root, dir, err := a.workspace()
	if err != nil {
		return err
	}
	defer root.Close()
	defer a.release()
	recording := a.cache(dir).Begin()
	done := a.progress("reading the workspace")
	before, known, err := a.estateIn(root, dir)
	done()
	if err != nil {
		return err
	}
	kept := known
	d := draft.New(root.FS(), before)
	if err := do(d, before); err != nil {
		return err
	}
	changes, err := d.Changes()
	if err != nil {
		return err
	}
	if len(changes) == 0 {
		a.page(a.Out).Line("Nothing changes: it is so already.")
		return nil
	}
	done = a.progress("working out what changes")
	after, err := policyfile.Reload(root.FS(), d.FS(), before, fileNames(changes))
	if err != nil {
		done()
		return refusedByFiles(err)
	}
	now, err := a.day(after.Zone)
	if err != nil {
		done()
		return err
	}
	was, is, err := a.bothCertified(before, after, &known)
	if err != nil {
		done()
		return err
	}
	effect, err := change.Of(a.ctx, was, is, change.How{Since: now, Gate: known, Renamed: c.renamed})
	if err != nil {
		done()
		return err
	}
	consequences, err := effect.Consequences(a.ctx, now)
	done()
	if err != nil {
		return refusedByFiles(err)
	}
	said := edited{effect, consequences, changes, nil}
	if c.beyond != nil {
		if said.beyond, err = c.beyond(after, known); err != nil {
			return err
		}
	}
	if a.format == "text" {
		if c.head != "" && !effect.Empty() {
			a.page(a.Out).Line("%s\n", c.head)
		}
		a.editedText(said, c.expand)
		said.beyond.text(a.page(a.Out))
	}
	if c.dryRun {
		return a.concluded(said, outlook)
	}
	a.release() // what others write meanwhile is seen before anything is written
	if err := a.confirm(c, effect.Reasons(consequences)); err != nil {
		if wrong := a.concluded(said, refused); wrong != nil {
			return wrong
		}
		return err
	}
	var files []journal.File
	for _, x := range changes {
		files = append(files, journal.File{Name: x.Name, Old: x.Old, New: x.New})
	}
	lines, err := logbook.EffectOf(effect)
	if err != nil {
		return err
	}
	if err := a.write(dir, recorded{files, effect.Entries(), lines, before, c.who}); err != nil {
		return err
	}
	a.keepEdited(root, recording, after, kept, changes)
	return a.concluded(said, accepted)
}

// keepEdited leaves the cache as the next command wants it. The edit is written by then: if anything stands in the way,
// there is no cache.
func (a *app) keepEdited(root *os.Root, r *cache.Recording, after *estate.Estate, before *gate.Gate,
	changes []draft.Change) {
	if r == nil {
		return
	}
	defer a.progress("keeping what was worked out")()
	g, err := change.GateToKeep(after, before)
	if err != nil {
		return
	}
	written := map[string][]byte{}
	for _, x := range changes {
		written[x.Name] = x.New
	}
	r.KeepEdited(root.FS(), g, written)
}

func fileNames(changes []draft.Change) []string {
	var names []string
	for _, x := range changes {
		names = append(names, x.Name)
	}
	return names
}

// refusedByFiles says that an edit would make files that can't be read.
func refusedByFiles(err error) error {
	var list diagnostic.List
	if !errors.As(err, &list) {
		return err
	}
	for i := range list {
		list[i].Message = "as it would be: " + list[i].Message
	}
	return list
}

// putInPlace writes files. Nothing cuts it off once it has begun.
func (a *app) putInPlace(dir string, files []journal.File) error {
	a.held.Lock()
	defer a.held.Unlock()
	return journal.Write(a.ctx, dir, files)
}

// existing sees that an entry is there.
func existing(e *estate.Estate, s policyfile.Section, id string) error {
	if o := e.Head(s.Name, id); o != nil && o.Source.File != "" {
		return nil
	} else if o != nil && s.Name == "catalogs" {
		return &draft.Error{Message: fmt.Sprintf("kind %s is built in, and stays as it is", id),
			Help: "make one of your own from it: hgate add kind NAME --based-on " + id}
	}
	var known []string
	if s.Name == "resources" {
		if a, err := estate.ParseAddress(id); err == nil && a.Path != "" && e.Listed(a) != nil {
			return nil // others stand in it
		}
		if e.Systems[id] != nil {
			return &draft.Error{Message: id + " is a system, and no resource in one",
				Help: "write system in place of resource, as in: hgate show system " + id}
		}
		for r := range e.Tree.All() {
			known = append(known, r.Address.String())
		}
	} else {
		known = ids(e.Section(s.Name))
	}
	return unknown(s.One, id, known)
}

// unprotected refuses to take away what is protected.
func unprotected(e *estate.Estate, s policyfile.Section, id, what string) error {
	if o := e.Head(s.Name, id); o != nil && o.Protected {
		return &draft.Error{Message: fmt.Sprintf("%s %s is protected (%s), so it is not %s", s.One, id, o.Source.Short(),
			what), Help: fmt.Sprintf("take that off first: hgate set %s %s --protected=false", s.One, id)}
	}
	return nil
}

// completeEntry offers the ids of a section for the first words.
func (a *app) completeEntry(s policyfile.Section, words int) complete {
	return func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		if len(args) >= words {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return a.words(func(g *gate.Gate) []string {
			if s.Name == "resources" {
				return addresses(g, "")
			}
			return ids(g.Estate().Section(s.Name))
		})
	}
}

// missingFile says whether an error is that there is nothing.
func missingFile(err error) bool { return errors.Is(err, fs.ErrNotExist) }
