package starter

import (
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/verify"
)

// failing runs every test of a workspace and names those that fail.
func failing(t *testing.T, workspace fs.FS, now string) []string {
	e, err := policyfile.Load(workspace)
	require.NoError(t, err)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	at, err := clock.UTC.ParseTime(now)
	require.NoError(t, err)
	failed := []string{}
	for _, test := range estate.Sorted(e.Tests) {
		r, err := verify.Run(g, test, at)
		require.NoError(t, err)
		for f := range r.Failures() {
			t.Logf("%s: %s %s %s: expected %s, got %s", test.ID, f.Subject, f.Operation, f.Resource, f.Expected, f.Got)
		}
		if !r.Passed() {
			failed = append(failed, test.ID)
		}
	}
	return failed
}

func TestTheDemoPassesNowAndInFiveYears(t *testing.T) {
	assert.Empty(t, failing(t, Demo(), "2026-11-23T12:00Z"))
	assert.Empty(t, failing(t, Demo(), "2031-11-23T12:00Z"))
}

// Every line that is marked as the key to a test is taken out in turn: exactly that test must fail.
func TestEachKeyLineHoldsItsTest(t *testing.T) {
	names, err := fs.Glob(Demo(), "*")
	require.NoError(t, err)
	keys := 0
	for _, name := range names {
		text, err := fs.ReadFile(Demo(), name)
		require.NoError(t, err)
		lines := strings.Split(string(text), "\n")
		for i, line := range lines {
			_, key, marked := strings.Cut(line, "# key to ")
			if !marked || path.Ext(name) != ".yaml" {
				continue
			}
			keys++
			t.Run(key, func(t *testing.T) {
				without := fstest.MapFS{}
				for _, other := range names {
					text, err := fs.ReadFile(Demo(), other)
					require.NoError(t, err)
					without[other] = &fstest.MapFile{Data: text}
				}
				without[name].Data = []byte(strings.Join(slices.Delete(slices.Clone(lines), i, i+marks(lines[i:])), "\n"))
				assert.Equal(t, []string{key}, failing(t, without, "2026-11-23T12:00Z"))
			})
		}
	}
	assert.GreaterOrEqual(t, keys, 12)
}

// marks counts the lines of what the first of them marks: of a key with its value below it, all lines of that too.
func marks(lines []string) int {
	indent := func(line string) int { return len(line) - len(strings.TrimLeft(line, " ")) }
	text, _, _ := strings.Cut(lines[0], "#")
	n := 1
	if strings.HasSuffix(strings.TrimSpace(text), ":") {
		for n < len(lines) && strings.TrimSpace(lines[n]) != "" && indent(lines[n]) > indent(lines[0]) {
			n++
		}
	}
	return n
}

func TestTheEmptyWorkspaceLoads(t *testing.T) {
	assert.Empty(t, failing(t, Empty(), "2026-11-23T12:00Z"))
}

func TestWritingWritesOverNothing(t *testing.T) {
	dir := t.TempDir() + "/a/b"
	require.NoError(t, Write(Demo(), dir))
	names, err := fs.Glob(Demo(), "*")
	require.NoError(t, err)
	written, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, written, len(names), "nothing half-written stays behind")
	require.NoError(t, os.WriteFile(dir+"/tests.yaml", []byte("mine"), 0o600))
	require.NoError(t, os.Remove(dir+"/access.yaml"))
	assert.ErrorIs(t, Write(Demo(), dir), fs.ErrExist)
	text, err := os.ReadFile(dir + "/tests.yaml")
	require.NoError(t, err)
	assert.Equal(t, "mine", string(text))
	assert.NoFileExists(t, dir+"/access.yaml")
}
