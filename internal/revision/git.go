package revision

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"time"
)

// patience is how long git may take for one answer.
const patience = 2 * time.Minute

// settings are given to git so that nothing in a repository or its settings is run, and nothing is fetched: a folder
// that is a bare repository is none, and there are no hooks, no monitor of files and no ways to other repositories.
var settings = []string{
	"safe.bareRepository=explicit", "core.fsmonitor=false", "core.hooksPath=" + os.DevNull, "core.attributesFile=" +
		os.DevNull,
	"protocol.allow=never", "gc.auto=0", "maintenance.auto=false",
}

// environment is the user's without what names another repository, and with what keeps git from replacing, fetching
// and asking.
func environment() []string {
	var out []string
	for _, v := range os.Environ() {
		if !strings.HasPrefix(v, "GIT_") {
			out = append(out, v)
		}
	}
	return append(out, "LC_ALL=C", "GIT_NO_LAZY_FETCH=1", "GIT_NO_REPLACE_OBJECTS=1", "GIT_OPTIONAL_LOCKS=0",
		"GIT_TERMINAL_PROMPT=0", "GIT_PAGER=cat")
}

// git runs git in a folder and gives what it writes, which may be so many bytes. It ends with the context, or when its
// patience does.
func git(ctx context.Context, dir string, most int64, in io.Reader, args ...string) ([]byte, error) {
	words := []string{"-C", dir, "--no-pager"}
	for _, s := range settings {
		words = append(words, "-c", s)
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	c := exec.CommandContext(ctx, "git", append(words, args...)...)
	c.Env = environment()
	c.WaitDelay = time.Second
	out, said := &bounded{most: most}, &bounded{most: 4096}
	c.Stdin, c.Stdout, c.Stderr = in, out, said
	err := c.Run()
	switch {
	case err == nil && !out.full:
		return out.text.Bytes(), nil
	case errors.Is(err, exec.ErrNotFound):
		return nil, errors.New("the program git is not installed")
	case out.full:
		return nil, fmt.Errorf("git %s says more than %d bytes", args[0], most)
	case errors.Is(ctx.Err(), context.Canceled):
		return nil, ctx.Err()
	case ctx.Err() != nil:
		return nil, fmt.Errorf("git %s took longer than %s", args[0], patience)
	}
	if text := strings.TrimSpace(said.text.String()); text != "" {
		return nil, fmt.Errorf("git: %s", text)
	}
	return nil, fmt.Errorf("git %s: %w", args[0], err)
}

// bounded keeps what is written to it up to a bound, and says whether there was more.
type bounded struct {
	text bytes.Buffer
	most int64
	full bool
}

func (b *bounded) Write(text []byte) (int, error) {
	if room := b.most - int64(b.text.Len()); int64(len(text)) > room {
		b.full = true
		b.text.Write(text[:max(0, room)])
		return len(text), nil // so that the program comes to its end
	}
	return b.text.Write(text)
}
