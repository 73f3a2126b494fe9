// Package revision gives a workspace as it was at a Git revision, by the git program.
package revision

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os/exec"
	"path"
	"strings"
	"testing/fstest" // its MapFS is a file system in memory, links and all
)

// Open gives the files below a folder as they were at a revision: a commit, branch or tag. Its error says what git said.
func Open(dir, revision string) (fs.FS, error) {
	if strings.HasPrefix(revision, "-") || revision == "" {
		return nil, fmt.Errorf("%q is no revision", revision)
	}
	prefix, err := git(dir, "rev-parse", "--show-prefix")
	if err != nil {
		return nil, err
	}
	commit, err := git(dir, "rev-parse", "--verify", "--quiet", "--end-of-options", revision+"^{commit}")
	if err != nil {
		return nil, fmt.Errorf("%q is no revision of this repository", revision)
	}
	tree := strings.TrimSpace(string(commit))
	if p := strings.TrimSuffix(strings.TrimSpace(string(prefix)), "/"); p != "" {
		tree += ":" + p
	}
	// From the top of the repository: within a folder, archive would leave the rest of the path out twice.
	top, err := git(dir, "rev-parse", "--show-toplevel")
	if err != nil {
		return nil, err
	}
	archive, err := git(strings.TrimSpace(string(top)), "archive", "--format=tar", tree)
	if err != nil {
		return nil, fmt.Errorf("the folder is not there at %s: %w", revision, err)
	}
	return unpack(archive)
}

// git runs git in a folder and gives what it writes.
func git(dir string, args ...string) ([]byte, error) {
	c := exec.Command("git", append([]string{"-C", dir}, args...)...)
	var out, said bytes.Buffer
	c.Stdout, c.Stderr = &out, &said
	if err := c.Run(); err != nil {
		if errors.Is(err, exec.ErrNotFound) {
			return nil, errors.New("the program git is not installed")
		}
		if text := strings.TrimSpace(said.String()); text != "" {
			return nil, fmt.Errorf("git: %s", text)
		}
		return nil, fmt.Errorf("git %s: %w", args[0], err)
	}
	return out.Bytes(), nil
}

func unpack(archive []byte) (fs.FS, error) {
	files := fstest.MapFS{}
	r := tar.NewReader(bytes.NewReader(archive))
	for {
		h, err := r.Next()
		if err == io.EOF {
			return files, nil
		}
		if err != nil {
			return nil, err
		}
		name := path.Clean(h.Name)
		switch h.Typeflag {
		case tar.TypeReg:
			text, err := io.ReadAll(r)
			if err != nil {
				return nil, err
			}
			files[name] = &fstest.MapFile{Data: text, Mode: 0o644, ModTime: h.ModTime}
		case tar.TypeSymlink:
			files[name] = &fstest.MapFile{Data: []byte(h.Linkname), Mode: 0o777 | fs.ModeSymlink}
		}
	}
}
