package revision

import (
	"bytes"
	"context"
	"errors"
	"strconv"
	"strings"
	"time"
)

// Commit is who made a revision, and when.
type Commit struct {
	ID     string
	Author string // the name and address, as the author wrote them
	Date   time.Time
}

// maxCommit bounds the size of a commit's own text, in bytes.
const maxCommit = 1 << 20

// Head tells of the revision that a folder has checked out. It reads the raw object.
func Head(ctx context.Context, dir string) (c Commit, err error) {
	id, err := git(ctx, dir, 4096, nil, "rev-parse", "--verify", "--quiet", "--end-of-options", "HEAD^{commit}")
	if err != nil {
		return c, err
	}
	c.ID = strings.TrimSpace(string(id))
	text, err := git(ctx, dir, maxCommit, nil, "cat-file", "commit", c.ID)
	if err != nil {
		return c, err
	}
	for line := range bytes.Lines(text) {
		if rest, ok := bytes.CutPrefix(bytes.TrimRight(line, "\n"), []byte("author ")); ok {
			return c.signed(string(rest))
		}
		if len(bytes.TrimSpace(line)) == 0 {
			break
		}
	}
	return c, errors.New("the commit names no author")
}

// signed reads `NAME <ADDRESS> SECONDS ZONE`.
func (c Commit) signed(text string) (Commit, error) {
	end := strings.LastIndex(text, ">")
	fields := strings.Fields(text[end+1:])
	if end < 0 || len(fields) != 2 {
		return c, errors.New("the commit's author is not written as git does")
	}
	seconds, err := strconv.ParseInt(fields[0], 10, 64)
	if err != nil {
		return c, err
	}
	c.Author, c.Date = text[:end+1], time.Unix(seconds, 0).UTC()
	return c, nil
}
