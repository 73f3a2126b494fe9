package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v4"

	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/splice"
)

// setWorkspace changes the settings.
func (a *app) setWorkspace() *cobra.Command {
	var e editing
	s := policyfile.Settings()
	c := &cobra.Command{
		Use: "workspace", Short: "Change the settings of the workspace", Long: s.Doc,
		Example: "  hgate set workspace --timezone Atlantic/Madeira\n" +
			"  hgate set workspace --dormant-after 120d --ignore '+old/**'",
		Args: takes(0, 0),
	}
	v := a.valueFlags(c, s)
	a.editFlags(c, &e)
	c.RunE = func(*cobra.Command, []string) error {
		if !v.any() {
			return errors.New("nothing is to be set: `hgate set workspace --help` lists the keys")
		}
		return a.edit(e, func(d *draft.Draft, _ *estate.Estate) error {
			for _, f := range v.said() {
				if err := v.applySetting(d, f); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return c
}

// applySetting changes a setting to what was given.
func (v *values) applySetting(d *draft.Draft, f policyfile.Field) error {
	if f.Shape == policyfile.OfList {
		items, replaced, err := v.items(f)
		if err != nil {
			return err
		}
		if !replaced && len(items.Add)+len(items.Drop) > 0 {
			return d.ChangeSetting(f.Name, items)
		}
	}
	n, err := v.value(f)
	if err != nil {
		return err
	}
	return d.SetSetting(f.Name, n)
}

// addInventory names a bulk list in the settings.
func (a *app) addInventory() *cobra.Command {
	var e editing
	var of string
	c := &cobra.Command{
		Use: "inventory FILE --of people|resources", Short: "Add an inventory: a bulk list of people or resources",
		Long: "Names a CSV or NDJSON file of the workspace in its settings, so that the people or resources in\n" +
			"it are read with the rest. `hgate set workspace --inventories` takes one out again.",
		Example: "  hgate add inventory accounts.ndjson --of resources",
		Args:    takes(1, 1), ValidArgsFunction: firstFile,
	}
	c.Flags().StringVar(&of, "of", "", "`what` it lists: people or resources")
	_ = c.RegisterFlagCompletionFunc("of",
		cobra.FixedCompletions([]string{"people", "resources"}, cobra.ShellCompDirectiveNoFileComp))
	a.editFlags(c, &e)
	c.RunE = func(_ *cobra.Command, args []string) error {
		if of != "people" && of != "resources" {
			return fmt.Errorf("--of %q: an inventory is of people or of resources", of)
		}
		if !policyfile.IsInventory(args[0]) {
			return fmt.Errorf("%s is no inventory by its name: it ends with .csv or .ndjson", args[0])
		}
		one := splice.Map(splice.Scalar(of), splice.Scalar(args[0]))
		return a.edit(e, func(d *draft.Draft, _ *estate.Estate) error {
			return d.ChangeSetting("inventories", draft.Items{Add: []*yaml.Node{one}})
		})
	}
	return c
}
