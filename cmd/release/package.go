package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"go.yaml.in/yaml/v4"
)

// packages writes a .deb and an .rpm, with nfpm.
func (r *release) packages(p platform, program string) error {
	settings, err := yaml.Marshal(r.packaged(p, program))
	if err != nil {
		return err
	}
	file := filepath.Join(r.work, "package-"+p.processor+".yaml")
	if err := os.WriteFile(file, settings, 0o644); err != nil {
		return err
	}
	for _, ending := range []string{"deb", "rpm"} {
		to := filepath.Join(r.to, fmt.Sprintf("hgate-%s-%s.%s", r.version, p.processor, ending))
		c := exec.Command("go", "tool", "-modfile=tools/go.mod", "nfpm", "package", "--config", file, "--packager", ending,
			"--target", to)
		c.Env = append(os.Environ(), fmt.Sprintf("SOURCE_DATE_EPOCH=%d", r.at.Unix()))
		if out, err := c.CombinedOutput(); err != nil {
			return fmt.Errorf("nfpm: %w\n%s", err, out)
		}
	}
	return nil
}

// packaged says what goes where.
func (r *release) packaged(p platform, program string) map[string]any {
	file := func(from, to string, mode int) map[string]any {
		return map[string]any{"src": from, "dst": to,
			"file_info": map[string]any{"mode": mode, "mtime": r.at.Format("2006-01-02T15:04:05Z")}}
	}
	contents := []any{file(program, "/usr/bin/hgate", 0o755)}
	for _, name := range carried {
		contents = append(contents, file(name, "/usr/share/doc/hgate/"+filepath.Base(name), 0o644))
	}
	pages, _ := os.ReadDir(filepath.Join(r.work, "man"))
	for _, page := range pages {
		contents = append(contents, file(filepath.Join(r.work, "man", page.Name()), "/usr/share/man/man1/"+page.Name(),
			0o644))
	}
	for _, completion := range [][2]string{
		{"hgate.bash", "/usr/share/bash-completion/completions/hgate"},
		{"_hgate", "/usr/share/zsh/site-functions/_hgate"},
		{"hgate.fish", "/usr/share/fish/vendor_completions.d/hgate.fish"},
	} {
		contents = append(contents, file(filepath.Join(r.work, "completions", completion[0]), completion[1], 0o644))
	}
	version, _, _ := strings.Cut(r.version, "+")
	return map[string]any{
		"name": "hgate", "arch": p.processor, "platform": "linux", "version": version, "version_schema": "none",
		"mtime":   r.at.Format("2006-01-02T15:04:05Z"),
		"section": "admin", "priority": "optional", "maintainer": "Hidden Gate <hidden-gate@ternhollow.example>",
		"description": "Decides who may do what, and proves it.\nReads roles and access policy from files, tells what " +
			"results, and tests it.",
		"recommends": []string{"git"}, "contents": contents,
		"rpm": map[string]any{"buildhost": "localhost"},
	}
}
