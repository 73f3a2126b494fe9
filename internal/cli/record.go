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
	who     string          // who acts; where it is "", whoever the user is in the policy
}

// write puts an edit in place and into the log, both or neither.
func (a *app) write(dir string, r recorded) error {
	s, err := a.ledger(dir, true)
	if err != nil {
		return err
	}
	defer s.Close()
	id, err := a.begun(s, dir, r.before)
	if err != nil {
		return outside{err}
	}
	who := r.who
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
			if err := a.found(w, dir, r.before); err != nil {
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
func (a *app) found(w *store.Writer, dir string, e *estate.Estate) error {
	known, err := w.Files()
	if err != nil {
		return err
	}
	is, err := sumsIn(dir, e)
	if err != nil {
		return err
	}
	if maps.Equal(known, is) {
		return nil
	}
	body := ledger.PolicyBody{Files: changesOf(known, is)}
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

// changesOf lists the files of which the hashes are others, by name.
func changesOf(was, is map[string]string) (out []ledger.FileChange) {
	all := maps.Clone(was)
	if all == nil {
		all = map[string]string{}
	}
	maps.Copy(all, is)
	for _, name := range slices.Sorted(maps.Keys(all)) {
		if was[name] != is[name] {
			out = append(out, ledger.FileChange{Name: name, Was: was[name], Is: is[name]})
		}
	}
	return out
}

// sumsIn gives the hashes of the files that an estate was read from.
func sumsIn(dir string, e *estate.Estate) (map[string]string, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	out := map[string]string{}
	for _, name := range policyfile.FilesOf(e) {
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

// noted puts what was found into the log where something was, and asks for no more than to read it where nothing was.
func (a *app) noted(s *store.Store, dir string, e *estate.Estate) error {
	is, err := sumsIn(dir, e)
	if err != nil {
		return err
	}
	same := false
	if err := s.View(a.ctx, func(r *store.Reader) error {
		known, err := r.Files()
		same = maps.Equal(known, is)
		return err
	}); err != nil || same {
		return err
	}
	return s.Update(a.ctx, func(w *store.Writer) error {
		if id, err := w.ID(); err != nil || id == "" {
			return err
		}
		return a.found(w, dir, e)
	})
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
