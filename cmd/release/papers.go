package main

import (
	"os"
	"path/filepath"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"hiddengate/internal/cli"
)

// papers writes manual pages and completions into the work folder, and copies what stands in the repository for users.
func (r *release) papers() error {
	man, completions := filepath.Join(r.work, "man"), filepath.Join(r.work, "completions")
	for _, dir := range []string{man, completions} {
		if err := os.Mkdir(dir, 0o755); err != nil {
			return err
		}
	}
	root := cli.Command()
	plain(root)
	header := &doc.GenManHeader{Title: "HGATE", Section: "1", Date: &r.at, Source: "hgate " + r.version,
		Manual: "Hidden Gate"}
	if err := doc.GenManTree(root, header, man); err != nil {
		return err
	}
	for file, write := range map[string]func(string) error{
		"hgate.bash": func(to string) error { return root.GenBashCompletionFileV2(to, true) },
		"_hgate":     root.GenZshCompletionFile,
		"hgate.fish": func(to string) error { return root.GenFishCompletionFile(to, true) },
		"hgate.ps1":  root.GenPowerShellCompletionFileWithDesc,
	} {
		if err := write(filepath.Join(completions, file)); err != nil {
			return err
		}
	}
	return nil
}

// plain leaves out of every page who made it and when.
func plain(c *cobra.Command) {
	c.DisableAutoGenTag = true
	for _, below := range c.Commands() {
		plain(below)
	}
}
