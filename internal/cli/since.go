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
	read, err := a.readAt(dir, since, nil)
	if err != nil {
		return nil, err
	}
	read.close()
	return read.Estate, nil
}

// readWorkspace is an estate with the files that it was read from.
type readWorkspace struct {
	*estate.Estate
	files fs.FS
	close func()
}

// readAt is workspaceAt for whoever reads the files again. Another workspace, most files of which say the same, shares
// what stands in those; nil: there is none.
func (a *app) readAt(dir, since string, like *readWorkspace) (*readWorkspace, error) {
	out := &readWorkspace{close: func() {}}
	if isFolder(since) {
		if info, err := os.Stat(filepath.Join(since, policyfile.SettingsFile)); err != nil || !info.Mode().IsRegular() {
			return nil, fmt.Errorf("%s is no folder of a workspace: it has no %s", since, policyfile.SettingsFile)
		}
		root, err := os.OpenRoot(since)
		if err != nil {
			return nil, outside{err}
		}
		out.files, out.close = root.FS(), func() { root.Close() }
	} else if at, err := revision.Open(a.ctx, dir, since); err != nil {
		return nil, fmt.Errorf("%s is no revision (a folder begins with ./, ../ or /): %w", since, err)
	} else {
		out.files = at
	}
	var err error
	if out.Estate, err = loadLike(out.files, like); err == nil {
		return out, nil
	}
	out.close()
	if list, ok := err.(diagnostic.List); ok {
		for i := range list {
			list[i].Message = "at " + since + ": " + list[i].Message
		}
		return nil, list
	}
	return nil, err
}

// loadLike reads files, most of which may say the same as those of another workspace; nil: there is none.
func loadLike(files fs.FS, like *readWorkspace) (*estate.Estate, error) {
	if like == nil {
		return policyfile.Load(files)
	}
	return policyfile.LoadLike(files, like.Estate, like.files)
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
	was, err := a.readAt(dir, since, nil)
	if err != nil {
		done()
		return err
	}
	defer was.close()
	before := was.Estate
	after, err := loadLike(root.FS(), was)
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
	done = a.progress("holding the change against the delegations")
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
