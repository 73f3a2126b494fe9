package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"hiddengate/internal/policyfile"
)

func (a *app) schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "schema",
		Short:   "Print the JSON Schema of the files",
		Long:    "Prints the JSON Schema (2020-12) of a workspace's files, with which editors complete and check them.",
		Example: "  hgate schema > hidden-gate.schema.json",
		Args:    takes(0, 0),
		RunE: func(*cobra.Command, []string) error {
			text, err := policyfile.Schema()
			if err != nil {
				return err
			}
			if _, err := fmt.Fprintf(a.Out, "%s\n", text); err != nil {
				return outside{err}
			}
			return nil
		},
	}
}
