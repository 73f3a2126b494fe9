// Package revision gives a workspace as it was at a Git revision.
//
// It reads the objects of the repository as they are, by the git program: no attribute, filter or hook changes what is
// read, nothing in the repository or its settings is run, and nothing is fetched from elsewhere.
package revision

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"testing/fstest" // its MapFS is a file system in memory, links and all
)

// Limits of what is read.
const (
	MaxFiles = 1_000_000 // files of a revision below the folder, of any sort
	MaxBytes = 2 << 30   // bytes of those that a workspace may consist of
	maxNames = 512 << 20 // bytes of their list
)

// readable are the endings of files that a workspace is read from.
var readable = []string{".yaml", ".yml", ".csv", ".ndjson"}

// Open gives the files below a folder of a work tree as they were at a revision: a commit, branch or tag. It holds the
// files that a workspace may be read from, and links. Reading what stands in a submodule fails. Its error says what git
// said.
func Open(ctx context.Context, dir, revision string) (fs.FS, error) {
	if strings.HasPrefix(revision, "-") || revision == "" {
		return nil, fmt.Errorf("%q is no revision", revision)
	}
	prefix, err := git(ctx, dir, maxNames, nil, "rev-parse", "--show-prefix")
	if err != nil {
		return nil, err
	}
	commit, err := git(ctx, dir, maxNames, nil, "rev-parse", "--verify", "--quiet", "--end-of-options",
		revision+"^{commit}")
	if err != nil {
		return nil, fmt.Errorf("%q is no revision of this repository", revision)
	}
	tree := strings.TrimSuffix(string(commit), "\n")
	if p := strings.TrimSuffix(strings.TrimSuffix(string(prefix), "\n"), "/"); p != "" {
		tree += ":" + p
	}
	list, err := git(ctx, dir, maxNames, nil, "ls-tree", "-r", "-z", "-l", "--full-tree", tree)
	if err != nil {
		return nil, fmt.Errorf("the folder is not there at %s: %w", revision, err)
	}
	entries, err := parse(list)
	if err != nil {
		return nil, err
	}
	return fetch(ctx, dir, entries)
}

// entry is what a tree holds under a name.
type entry struct {
	mode, object string
	size         int64
}

// The modes of what a tree holds, as git writes them.
const (
	linkMode      = "120000"
	submoduleMode = "160000"
)

// parse reads the list of a tree: mode, type, object and size, a tab, the name, and a zero byte.
func parse(list []byte) (map[string]entry, error) {
	out := map[string]entry{}
	for line := range strings.SplitSeq(strings.TrimSuffix(string(list), "\x00"), "\x00") {
		if line == "" {
			continue
		}
		head, name, ok := strings.Cut(line, "\t")
		fields := strings.Fields(head)
		if !ok || len(fields) != 4 {
			return nil, fmt.Errorf("git lists the tree in another way than expected: %q", line)
		}
		if !fs.ValidPath(name) {
			return nil, fmt.Errorf("the revision holds a file of the name %q, which no folder can hold", name)
		}
		size, err := strconv.ParseInt(fields[3], 10, 64)
		if err != nil && fields[0] != submoduleMode {
			return nil, fmt.Errorf("the repository does not hold what %q was", name)
		}
		if _, twice := out[name]; twice {
			return nil, fmt.Errorf("the revision holds two files of the name %q", name)
		}
		out[name] = entry{fields[0], fields[2], size}
		if len(out) > MaxFiles {
			return nil, fmt.Errorf("the revision holds more than %d files below the folder", MaxFiles)
		}
	}
	return out, nil
}

// fetch reads the files that may be read: those with the endings, and what links point to.
func fetch(ctx context.Context, dir string, entries map[string]entry) (fs.FS, error) {
	out := tree{files: fstest.MapFS{}, submodules: map[string]bool{}}
	var wanted, links []string
	for name, e := range entries {
		switch {
		case e.mode == submoduleMode:
			out.submodules[name] = true
			out.files[name] = &fstest.MapFile{Mode: fs.ModeDir | 0o755}
		case e.mode == linkMode:
			links = append(links, name)
		case slices.Contains(readable, path.Ext(name)):
			wanted = append(wanted, name)
		}
	}
	targets, err := contents(ctx, dir, links, entries)
	if err != nil {
		return nil, err
	}
	for _, name := range links {
		out.files[name] = &fstest.MapFile{Data: targets[name], Mode: fs.ModeSymlink | 0o777}
		to := path.Join(path.Dir(name), string(targets[name]))
		if e, ok := entries[to]; ok && e.mode != linkMode && e.mode != submoduleMode {
			wanted = append(wanted, to)
		}
	}
	slices.Sort(wanted)
	wanted = slices.Compact(wanted)
	texts, err := contents(ctx, dir, wanted, entries)
	if err != nil {
		return nil, err
	}
	for _, name := range wanted {
		out.files[name] = &fstest.MapFile{Data: texts[name], Mode: 0o644}
	}
	return out, nil
}

// contents reads objects, by name.
func contents(ctx context.Context, dir string, names []string, entries map[string]entry) (map[string][]byte, error) {
	out := make(map[string][]byte, len(names))
	if len(names) == 0 {
		return out, nil
	}
	var asked strings.Builder
	total := int64(0)
	for _, name := range names {
		total += entries[name].size
		if total > MaxBytes {
			return nil, fmt.Errorf("the revision holds more than %d bytes of files that a workspace may be read from",
				int64(MaxBytes))
		}
		asked.WriteString(entries[name].object + "\n")
	}
	all, err := git(ctx, dir, total+int64(len(names))*200, strings.NewReader(asked.String()), "cat-file", "--batch")
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		head, rest, _ := bytes.Cut(all, []byte("\n"))
		want := fmt.Sprintf("%s blob %d", entries[name].object, entries[name].size)
		if string(head) != want || int64(len(rest)) <= entries[name].size {
			return nil, fmt.Errorf("the repository does not hold what %s was: git says %q", name, head)
		}
		out[name] = rest[:entries[name].size:entries[name].size]
		all = rest[entries[name].size+1:]
	}
	return out, nil
}

// tree is the files of a revision.
type tree struct {
	files      fstest.MapFS
	submodules map[string]bool
}

var errSubmodule = errors.New("it is a submodule, and what stands in it belongs to another repository; name it under " +
	"ignore")

// Open fails for what stands in a submodule.
func (t tree) Open(name string) (fs.File, error) {
	if err := t.outside("open", name); err != nil {
		return nil, err
	}
	return t.files.Open(name)
}

// ReadDir fails for a submodule.
func (t tree) ReadDir(name string) ([]fs.DirEntry, error) {
	if err := t.outside("read", name); err != nil {
		return nil, err
	}
	return t.files.ReadDir(name)
}

// Stat tells of what a link points to.
func (t tree) Stat(name string) (fs.FileInfo, error) { return t.files.Stat(name) }

// Lstat tells of a link itself.
func (t tree) Lstat(name string) (fs.FileInfo, error) { return t.files.Lstat(name) }

// ReadLink gives what a link points to.
func (t tree) ReadLink(name string) (string, error) { return t.files.ReadLink(name) }

func (t tree) outside(op, name string) error {
	if !fs.ValidPath(name) {
		return &fs.PathError{Op: op, Path: name, Err: fs.ErrInvalid}
	}
	for at := name; at != "."; at = path.Dir(at) {
		if t.submodules[at] {
			return &fs.PathError{Op: op, Path: name, Err: errSubmodule}
		}
	}
	return nil
}
