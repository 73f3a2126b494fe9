package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"slices"
	"time"

	"hiddengate/internal/estate"
	"hiddengate/internal/journal"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/revision"
)

// recorded is an edit as the log tells it.
type recorded struct {
	files   []journal.File
	entries []string
	effect  json.RawMessage // nil where nobody's access changes
	before  *estate.Estate  // as the files were
}

// write puts an edit in place and into the log, both or neither.
func (a *app) write(root *os.Root, dir string, r recorded) error {
	s, err := a.ledger(dir, true)
	if err != nil {
		return err
	}
	defer s.Close()
	id, err := a.begun(s, dir)
	if err != nil {
		return outside{err}
	}
	who := a.acts
	if p, ok := userIs(r.before, a.osUser()); who == "" && ok {
		who = p.String()
	}
	body := ledger.PolicyBody{Entries: r.entries, Effect: r.effect}
	for _, f := range r.files {
		body.Files = append(body.Files, ledger.FileChange{Name: f.Name, Was: sumOf(f.Old), Is: sumOf(f.New)})
	}
	e, err := a.event(id, who, ledger.PolicyChanged, body)
	if err != nil {
		return err
	}
	placed := false
	err = s.Update(context.WithoutCancel(a.ctx), func(w *store.Writer) error {
		if !placed { // else it is tried again, and the files are as the edit left them
			if err := a.found(w, root, dir, r.before); err != nil {
				return err
			}
		}
		if _, err := w.Append(e); err != nil || placed {
			return err
		}
		if err := a.putInPlace(dir, r.files); err != nil {
			return err
		}
		placed = true
		return nil
	})
	switch {
	case err == nil:
		return nil
	case errors.Is(err, journal.ErrChanged):
		return fmt.Errorf("%w, by somebody else: nothing was written; run the command again", err)
	case placed:
		return outside{fmt.Errorf("the files are written, and the log has no event of it: %w", err)}
	}
	return outside{fmt.Errorf("nothing was written: %w", err)}
}

// sumOf is the hash of a file's content; "" if there is no file.
func sumOf(text []byte) string {
	if text == nil {
		return ""
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// found puts into the log what has changed in the files since its last event, by another way than a command.
func (a *app) found(w *store.Writer, root *os.Root, dir string, e *estate.Estate) error {
	known, err := w.Files()
	if err != nil {
		return err
	}
	is, err := sums(root, policyfile.FilesOf(e))
	if err != nil {
		return err
	}
	if maps.Equal(known, is) {
		return nil
	}
	var body ledger.PolicyBody
	names := slices.Compact(slices.Sorted(func(yield func(string) bool) {
		for _, list := range []map[string]string{known, is} {
			for name := range list {
				if !yield(name) {
					return
				}
			}
		}
	}))
	for _, name := range names {
		if known[name] != is[name] {
			body.Files = append(body.Files, ledger.FileChange{Name: name, Was: known[name], Is: is[name]})
		}
	}
	a.revisionOf(dir, &body)
	id, err := w.ID()
	if err != nil {
		return err
	}
	one, err := a.event(id, "", ledger.PolicyFound, body)
	if err == nil {
		_, err = w.Append(one)
	}
	return err
}

// sums gives the hashes of files of a workspace.
func sums(root *os.Root, names []string) (map[string]string, error) {
	out := map[string]string{}
	for _, name := range names {
		f, err := root.Open(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		sum := sha256.New()
		_, err = io.Copy(sum, f)
		f.Close()
		if err != nil {
			return nil, err
		}
		out[name] = hex.EncodeToString(sum.Sum(nil))
	}
	return out, nil
}

// revisionOf adds who made the revision of Git in which the files stand as they are; nothing where they stand in none.
func (a *app) revisionOf(dir string, body *ledger.PolicyBody) {
	commit, err := revision.Head(a.ctx, dir)
	if err != nil {
		return
	}
	tree, err := revision.Open(a.ctx, dir, commit.ID)
	if err != nil {
		return
	}
	for _, f := range body.Files {
		text, err := fs.ReadFile(tree, f.Name)
		if errors.Is(err, fs.ErrNotExist) && f.Is == "" {
			continue
		}
		if err != nil || sumOf(text) != f.Is {
			return
		}
	}
	body.Revision, body.Author, body.Date = commit.ID, commit.Author, commit.Date.Format(time.RFC3339)
}
