//go:build unix

package cli

import (
	"bytes"
	"context"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// saidSoFar keeps what a command says while it runs.
type saidSoFar struct {
	sync.Mutex
	text bytes.Buffer
}

func (s *saidSoFar) Write(p []byte) (int, error) {
	s.Lock()
	defer s.Unlock()
	return s.text.Write(p)
}

func (s *saidSoFar) String() string {
	s.Lock()
	defer s.Unlock()
	return s.text.String()
}

// during runs a command that stays while something is done, which may wait until the command has said something. Then
// the command is interrupted, and has to end as one that was.
func (s *story) during(line string, do func(until func(parts ...string))) string {
	ctx, interrupt := context.WithCancel(s.t.Context())
	defer interrupt()
	out := &saidSoFar{}
	code := make(chan int, 1)
	go func() {
		code <- Run(ctx, append([]string{"-C", s.dir}, strings.Fields(line)...),
			Streams{In: strings.NewReader(""), Out: out, Err: out}, func() time.Time { return s.at })
	}()
	do(func(parts ...string) {
		s.t.Helper()
		for _, part := range parts {
			require.Eventually(s.t, func() bool { return strings.Contains(out.String(), part) }, 30*time.Second,
				10*time.Millisecond, part)
		}
	})
	interrupt()
	assert.Zero(s.t, <-code)
	return out.String()
}

// Of what is there the last is told, and of what comes everything.
func TestFollowingTellsAllThatComes(t *testing.T) {
	s := newStory(t, "")
	ask := "request lift --where %s --for 1h --reason stuck" + s.by("marek")
	s.says(strings.Replace(ask, "%s", "north", 1), 0)
	text := s.during("log --follow --last 1 --format ndjson", func(until func(...string)) {
		until(`"number":2,`)
		s.says("approve 2"+s.by("ines"), 0)
		s.says("finish 2"+s.by("marek"), 0)
		s.says(strings.Replace(ask, "%s", "south", 1), 0)
		until(`"number":3,`, `"number":4,`, `"number":5,`)
	})
	assert.Equal(t, 4, strings.Count(text, "\n"), text)
}

// A policy that is being edited does not end the deliverer, which says once what hinders it.
func TestTheDelivererStays(t *testing.T) {
	s := newStory(t, "")
	file := filepath.Join(t.TempDir(), "events")
	s.notify("    desk: {to: '" + file + "', about: request.*}\n")
	s.says("request lift --where north --for 1h --reason stuck"+s.by("marek"), 0)
	name := filepath.Join(s.dir, "hidden-gate.yaml")
	whole, err := os.ReadFile(name)
	require.NoError(t, err)
	text := s.during("log deliver --watch", func(until func(...string)) {
		until("notice desk: 1 event sent")
		require.NoError(t, os.WriteFile(name, append(whole, "people: {\n"...), 0o600))
		until("hidden-gate.yaml:", "nothing was done")
		require.NoError(t, os.WriteFile(name, whole, 0o600))
		s.says("request lift --where south --for 1h --reason stuck"+s.by("marek"), 0)
		until("nothing was done\nnotice desk: 1 event sent")
	})
	assert.Equal(t, 1, strings.Count(text, "nothing was done"), text)
}

// What fails for more than a day is given up, and what comes after it is sent.
func TestANoticeIsGivenUp(t *testing.T) {
	s := newStory(t, "")
	hook := &receiver{fail: true}
	server := httptest.NewServer(hook)
	defer server.Close()
	t.Setenv("DESK_KEY", "wind")
	s.notify("    desk: {to: '" + server.URL + "', about: request.*, secret: {env: DESK_KEY}}\n")
	s.says("request lift --where north --for 1h --reason stuck"+s.by("marek"), 0)
	for range 39 {
		s.says("log deliver", 3, "answers 503; it is tried again later")
		s.later(2 * time.Hour)
	}
	s.says("log deliver", 3, "event 2 is given up, as it was tried 40 times")
	s.says("request lift --where south --for 1h --reason stuck"+s.by("marek"), 0)
	hook.now(func() { hook.fail = false })
	s.says("log deliver", 0, "1 event sent")
}
