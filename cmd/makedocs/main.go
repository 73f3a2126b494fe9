// Command makedocs writes the reference pages that come from the program's own tables: docs/files.md, docs/catalogs.md,
// docs/targets.md and docs/stand-ins.md. Run it from the top of the project.
package main

import (
	_ "embed"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"hiddengate/internal/catalog"
	"hiddengate/internal/change"
	"hiddengate/internal/directory"
	"hiddengate/internal/estate"
	"hiddengate/internal/finding"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/revision"
)

// What no table says of the files.
//
//go:embed files-head.md
var filesHead string

func main() {
	for name, text := range pages() {
		if err := os.WriteFile(filepath.Join("docs", name), []byte(text), 0o644); err != nil {
			fmt.Fprintln(os.Stderr, "makedocs:", err)
			os.Exit(1)
		}
	}
}

func pages() map[string]string {
	return map[string]string{"files.md": files(), "catalogs.md": catalogs(), "targets.md": targets(),
		"stand-ins.md": standIns()}
}

// limits writes what may be how large.
func limits() string {
	var b strings.Builder
	b.WriteString("| what | at most |\n|---|---|\n")
	for _, l := range []struct {
		what  string
		most  int64
		bytes bool
	}{
		{"a YAML file", policyfile.MaxFile, true}, {"commas, colons and line breaks in it", policyfile.MaxParts, false},
		{"levels of nesting in it", policyfile.MaxDepth, false},
		{"entries of one list or mapping in it", policyfile.MaxEntries, false},
		{"an inventory", policyfile.MaxInventory, true},
		{"a line of it, what stands in quotes included", policyfile.MaxLine, true},
		{"its columns", policyfile.MaxColumns, false}, {"inventories", policyfile.MaxListed, false},
		{"an id", estate.MaxID, true}, {"roles, groups, scopes or kinds of which each names the next", policyfile.MaxChain,
			false}, {"types of resource", policyfile.MaxTypes, false},
		{"errors that are told", policyfile.MaxErrors, false}, {"files of a revision", revision.MaxFiles, false},
		{"those that may be read, together", revision.MaxBytes, true},
		{"a list of people to import, or all that a directory says", directory.MaxSource, true},
		{"its entries", directory.MaxEntries, false},
	} {
		fmt.Fprintf(&b, "| %s | %s |\n", l.what, amount(l.most, l.bytes))
	}
	return b.String()
}

// amount writes a number with commas, or bytes in the largest unit of which they are whole ones.
func amount(n int64, bytes bool) string {
	unit := ""
	if bytes {
		unit = " bytes"
		for _, larger := range []string{" KiB", " MiB", " GiB"} {
			if n%1024 != 0 {
				break
			}
			n, unit = n/1024, larger
		}
	}
	digits := strconv.FormatInt(n, 10)
	for at := len(digits) - 3; at > 0; at -= 3 {
		digits = digits[:at] + "," + digits[at:]
	}
	return digits + unit
}

func files() string {
	var b strings.Builder
	b.WriteString(strings.Replace(filesHead, "LIMITS\n", limits(), 1))
	tables(&b, policyfile.Pages())
	b.WriteString("\n## Your own settings\n\n`settings.yaml` in your configuration folder says where the ledger is, " +
		"which notices go where, and by which secrets, by the folder of a workspace. No workspace can say it.\n")
	tables(&b, policyfile.OperatorPages())
	b.WriteString(authorship())
	b.WriteString("\n## Findings\n\nWhat `hgate check` reports. `check:` in `hidden-gate.yaml` sets another " +
		"severity.\n\n| code | severity | what it means | what to do |\n|---|---|---|---|\n")
	for _, f := range finding.All {
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", f.Code, f.Severity, f.Doc, f.Cure)
	}
	return b.String()
}

// tables writes a table of keys for each page.
func tables(b *strings.Builder, pages []policyfile.Page) {
	for _, p := range pages {
		fmt.Fprintf(b, "\n### %s\n\n%s\n\n", p.Name, p.Doc)
		judged := p.Fields[0].Authority != ""
		if judged {
			b.WriteString("| key | written as | what it says | whose it is to change |\n|---|---|---|---|\n")
		} else {
			b.WriteString("| key | written as | what it says |\n|---|---|---|\n")
		}
		for _, f := range p.Fields {
			name := "`" + f.Name + "`"
			if f.Required {
				name += " (needed)"
			}
			fmt.Fprintf(b, "| %s | %s | %s |", name, f.Form, f.Doc)
			if judged {
				fmt.Fprintf(b, " %s |", f.Authority.Words())
			}
			b.WriteString("\n")
		}
	}
}

// authorship is the rules by which a change is its author's to make.
func authorship() string {
	var b strings.Builder
	b.WriteString(`
## Whose change it is

` + "`hgate check --since REVISION --by WHO`" + ` holds a change against what its author may do.
The owner of the workspace may do anything. Of anybody else, what none of the delegations permits is refused, by one of
these rules; the tables above say of each key whose it is to change.

| rule | what it says |
|---|---|
`)
	for _, rule := range slices.Sorted(maps.Keys(change.Sentences)) {
		fmt.Fprintf(&b, "| `%s` | %s |\n", rule, change.Sentences[rule])
	}
	return b.String()
}

func catalogs() string {
	var b strings.Builder
	fmt.Fprintf(&b, `# The built-in catalogs

Edition %d. Each kind of system has types of resource by depth (the system itself, what stands in it, what stands in
that; the last holds for all below), some by name or by what a resource stands in, and operations of four levels:
view < use < change < govern. "needs" names operations without which one is of no use;
"opens" says through what a subject can get further access. An operation that several kinds offer means the same in
each. This page is made from the data;
`+"`hgate show kind KIND`"+` shows the same.
`, catalog.Edition)
	for _, k := range catalog.Kinds() {
		places := ""
		for _, t := range k.Named {
			places += fmt.Sprintf(" What is named `%s` right in it is of type %s.", t.Key, t.Value)
		}
		for _, t := range k.Inside {
			places += fmt.Sprintf(" What stands in something of type %s is of type %s.", t.Key, t.Value)
		}
		fmt.Fprintf(&b,
			"\n## %s\n\n%s. Types by depth: %s.%s\n\n| operation | level | what it does | applies to | notes "+
				"|\n|---|---|---|---|---|\n", k.ID, k.About, strings.Join(k.Types, ", "), places)
		for level := estate.View; level <= estate.Govern; level++ {
			for _, o := range k.Operations {
				if o.Level == level {
					fmt.Fprintf(&b, "| `%s` | %s | %s | %s | %s |\n", o.Name, o.Level, o.About, strings.Join(o.Types, ", "), notes(o))
				}
			}
		}
	}
	return b.String()
}

func notes(o *estate.Operation) string {
	var out []string
	if o.HighRisk {
		out = append(out, "high risk")
	}
	if o.Exclusive {
		out = append(out, "exclusive")
	}
	if o.Needs != nil {
		out = append(out, "needs `"+strings.Join(o.Needs, "`, `")+"`")
	}
	if o.Opens != nil {
		out = append(out, "opens "+strings.Join(o.Opens, ", "))
	}
	if o.Notice != "" {
		out = append(out, o.Notice)
	}
	return strings.Join(out, "; ")
}
