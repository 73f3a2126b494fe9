package cli

import (
	"bytes"
	"errors"
	"io/fs"
	"slices"

	"github.com/spf13/cobra"

	"hiddengate/internal/estate"
	"hiddengate/internal/journal"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/splice"
	"hiddengate/internal/view"
)

func (a *app) tidyCommand() *cobra.Command {
	var check bool
	c := &cobra.Command{
		Use:   "tidy",
		Short: "Bring the files into one form",
		Long: `Brings the YAML files into one form: indents of two, the keys of entries in the order of 'hgate
schema', short lists on one line. Every comment stays, and so does what the files mean. With --check
nothing is written: it lists the files that are not in form, and exits with 1 if there are any.`,
		Example: "  hgate tidy\n  hgate tidy --check",
		Args:    takes(0, 0),
	}
	c.Flags().BoolVar(&check, "check", false, "write nothing; exit with 1 if a file is not in form")
	c.RunE = func(*cobra.Command, []string) error {
		root, dir, err := a.workspace()
		if err != nil {
			return err
		}
		defer root.Close()
		defer a.release()
		e, err := policyfile.Load(root.FS())
		if err != nil {
			return err
		}
		names, err := policyfile.SourcesOf(e).Now(root.FS())
		if err != nil {
			return err
		}
		var files []journal.File
		p := a.page(a.Out)
		for _, name := range names {
			if policyfile.IsInventory(name) {
				continue
			}
			old, err := fs.ReadFile(root.FS(), name)
			if err != nil {
				return outside{err}
			}
			text, err := formed(old)
			if errors.Is(err, splice.ErrForm) {
				p.Line("%s: %s", name, err)
				continue
			}
			if err != nil {
				return err
			}
			if !bytes.Equal(old, text) {
				files = append(files, journal.File{Name: name, Old: old, New: text})
			}
		}
		switch {
		case len(files) == 0:
			p.Line("%s", p.Paint(view.Yes, "All files are in form."))
			return nil
		case check:
			p.Line("%s", p.Paint(view.No, count(len(files), "file")+" not in form; `hgate tidy` brings them there:"))
		default:
			a.release()
			e, err := policyfile.Load(root.FS())
			if err != nil { // what is wrong with the files does not keep them from coming into form
				e = estate.New()
				e.Policies = names
			}
			if err := a.write(dir, recorded{files: files, before: e}); err != nil {
				return err
			}
			p.Line("Brought into form:")
		}
		for _, f := range files {
			p.Line("  %s", f.Name)
		}
		if check {
			return answered(exitNo)
		}
		return nil
	}
	return c
}

// formed gives a file in form. The keys of entries come in the order of the table of fields.
func formed(text []byte) ([]byte, error) {
	f, err := splice.Parse(text)
	if err != nil {
		return nil, err
	}
	return f.Format(func(section string) []string {
		all := policyfile.Sections()
		i := slices.IndexFunc(all, func(s policyfile.Section) bool { return s.Name == section })
		if i < 0 {
			return nil
		}
		return append([]string{"title", "name", "email", "kind", "about"}, names(all[i])...)
	})
}
