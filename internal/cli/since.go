package cli

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"hiddengate/internal/change"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/finding"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/revision"
	"hiddengate/internal/view"
)

// undelegated is the code of what an author may not do, in JSON and SARIF.
const undelegated = "undelegated"

// isFolder says that a workspace is named by its folder. Whatever does not begin like one is a revision, so that no
// folder of a checkout stands in for a branch.
func isFolder(name string) bool {
	return name == "." || name == ".." || strings.HasPrefix(name, "./") || strings.HasPrefix(name, "../") ||
		filepath.IsAbs(name)
}

// workspaceAt reads a workspace as it was: in another folder, or at a Git revision of this one.
func (a *app) workspaceAt(dir, since string) (*estate.Estate, error) {
	var files fs.FS
	if isFolder(since) {
		if info, err := os.Stat(filepath.Join(since, policyfile.SettingsFile)); err != nil || !info.Mode().IsRegular() {
			return nil, fmt.Errorf("%s is no folder of a workspace: it has no %s", since, policyfile.SettingsFile)
		}
		root, err := os.OpenRoot(since)
		if err != nil {
			return nil, outside{err}
		}
		defer root.Close()
		files = root.FS()
	} else if at, err := revision.Open(a.ctx, dir, since); err != nil {
		return nil, fmt.Errorf("%s is no revision (a folder begins with ./, ../ or /): %w", since, err)
	} else {
		files = at
	}
	e, err := policyfile.Load(files)
	if err != nil {
		if list, ok := err.(diagnostic.List); ok {
			for i := range list {
				list[i].Message = "at " + since + ": " + list[i].Message
			}
			return nil, list
		}
		return nil, err
	}
	return e, nil
}

// checkSince holds what has changed since a revision against what its author may do.
func (a *app) checkSince(since, by string) error {
	root, dir, err := a.workspace()
	if err != nil {
		return err
	}
	defer root.Close()
	defer a.release()
	author, err := estate.ParsePrincipal(by)
	if err != nil || author.Kind != estate.IsPerson && author.Kind != estate.IsService {
		return fmt.Errorf("--by %s: the author of a change is a person or service:ID", by)
	}
	done := a.progress("reading the workspace as it was and is")
	before, err := a.workspaceAt(dir, since)
	if err != nil {
		done()
		return err
	}
	after, err := policyfile.Load(root.FS())
	done()
	if err != nil {
		return err
	}
	now, err := a.day(before.Zone)
	if err != nil {
		return err
	}
	if before.Subject(author) == nil {
		return fmt.Errorf("%s is no one whom the workspace knew at %s, so nothing is delegated to them", by, since)
	}
	if before, after, err = a.bothCertified(before, after, nil); err != nil {
		return err
	}
	done = a.working("holding the change against the delegations")
	breaches, err := change.Judge(a.ctx, before, after, author, now)
	done()
	if err != nil {
		return err
	}
	var found []finding.Found
	for _, b := range breaches {
		found = append(found, finding.Found{Diagnostic: diagnostic.Diagnostic{
			Code: undelegated, Severity: diagnostic.Error, Message: string(b.Rule) + ": " + b.Message, Position: b.Position,
			Help: "leave it out, or have somebody make the change who may",
		}})
	}
	switch a.format {
	case "json":
		err = a.checkJSON(checked{found: found})
	case "sarif":
		err = a.checkSARIF(checked{found: found})
	default:
		p := a.page(a.Out)
		if len(found) == 0 {
			p.Line("%s  %s", p.Paint(view.Yes, "All of the change is "+by+"'s to make"), p.Paint(view.Faint, "since "+since))
			break
		}
		p.Line("%s  %s", p.Paint(view.No, "NOT "+by+"'s to make"),
			p.Paint(view.Faint, "refused by "+count(len(change.Grouped(breaches)), "rule")+"; since "+since))
		p.Line("%s", change.Lacks(breaches, by)+".")
		breachesText(p, breaches, before, after)
	}
	if err == nil && len(found) > 0 {
		err = answered(exitNo)
	}
	return err
}
