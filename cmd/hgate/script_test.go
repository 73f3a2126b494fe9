package main

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var bin string // the folder of the built program

func TestMain(m *testing.M) {
	os.Exit(func() int {
		folder, err := os.MkdirTemp("", "hgate")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(folder)
		bin = folder
		os.Setenv("HGATE_CACHE", "off") // the user's own stays as it is
		os.Setenv("XDG_STATE_HOME", filepath.Join(folder, "state"))
		build := exec.Command("go", "build", "-o", filepath.Join(bin, "hgate"), ".")
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			panic(fmt.Sprintf("building hgate: %v\n%s", err, out))
		}
		return m.Run()
	}())
}

// TestScripts runs the program as it is built, in a folder of its own for each script.
func TestScripts(t *testing.T) {
	var left []string // by the scripts, which is looked at when all have run
	for _, name := range []string{"scripts", "states", "configs"} {
		left = append(left, filepath.Join(bin, name))
		require.NoError(t, os.MkdirAll(filepath.Join(bin, name), 0o700))
	}
	t.Cleanup(func() {
		secrets := secretsStay(t, "", left...)
		assert.True(t, secrets > 4 || flag.Lookup("test.run").Value.String() != "", "%d secrets were looked for", secrets)
	})
	testscript.Run(t, testscript.Params{
		Dir:         "testdata/script",
		WorkdirRoot: left[0],
		Setup: func(env *testscript.Env) error {
			env.Setenv("PATH", bin+string(os.PathListSeparator)+env.Getenv("PATH"))
			env.Setenv("ZONEINFO", "/nowhere") // the host's zones must not matter
			env.Setenv("TZ", "Asia/Tokyo")
			env.Setenv("HGATE_CACHE", "off")
			env.Setenv("XDG_STATE_HOME", filepath.Join(bin, "states", filepath.Base(env.WorkDir)))
			env.Setenv("XDG_CONFIG_HOME", filepath.Join(bin, "configs", filepath.Base(env.WorkDir)))
			return nil
		},
		UpdateScripts: os.Getenv("UPDATE_SCRIPTS") != "",
	})
}

// demo writes the demo into a new folder and gives a function that runs a shell line in it.
func demo(t *testing.T) func(line string) (out string, code int) {
	dir := filepath.Join(t.TempDir(), "ternhollow")
	t.Setenv("PATH", bin+string(os.PathListSeparator)+os.Getenv("PATH"))
	if out, err := exec.Command("hgate", "new", "--demo", dir).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return func(line string) (string, int) {
		c := exec.Command("sh", "-c", line)
		c.Dir = dir
		out, err := c.CombinedOutput()
		var exit *exec.ExitError
		if errors.As(err, &exit) {
			return string(out), exit.ExitCode()
		} else if err != nil {
			t.Fatal(err)
		}
		return string(out), 0
	}
}

func TestTheReadmeShowsWhatTheProgramPrints(t *testing.T) {
	run := demo(t)
	text, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	shown := 0
	for _, block := range strings.Split(string(text), "```\n") {
		if line, want, found := strings.Cut(block, "\n"); found && strings.HasPrefix(line, "$ hgate ") {
			got, _ := run(strings.TrimPrefix(line, "$ "))
			assert.Equal(t, want, got, line)
			shown++
		}
	}
	assert.Positive(t, shown)
}

// chapter gives what a page says from a heading on until the next.
func chapter(t *testing.T, page, heading string) string {
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	_, part, found := strings.Cut(string(text), heading)
	require.True(t, found)
	part, _, _ = strings.Cut(part, "\n## ")
	return part
}

// The README's first quarter of an hour works as it stands, command after command, in the folder where it tells to
// stand.
func TestTheFirstQuarterOfAnHourWorks(t *testing.T) {
	part := chapter(t, "../../README.md", "## A first quarter of an hour\n")
	t.Setenv("PATH", bin+string(os.PathListSeparator)+os.Getenv("PATH"))
	dir, ran := t.TempDir(), 0
	for i, block := range strings.Split(part, "   ```\n") {
		if i%2 == 0 {
			continue
		}
		for line := range strings.Lines(block) {
			line = strings.TrimSpace(line)
			if to, ok := strings.CutPrefix(line, "cd "); ok {
				dir = filepath.Join(dir, to)
				continue
			}
			c := exec.Command("sh", "-c", line)
			c.Dir = dir
			out, err := c.CombinedOutput()
			var exit *exec.ExitError
			if errors.As(err, &exit) {
				assert.Equal(t, 1, exit.ExitCode(), "%s\n%s", line, out)
			} else {
				assert.NoError(t, err, line)
			}
			ran++
		}
	}
	assert.Greater(t, ran, 10)
}

func TestTheCommandsOfTheGuideRun(t *testing.T) {
	run := demo(t)
	text, err := os.ReadFile("../../docs/guide.md")
	require.NoError(t, err)
	ran := 0
	for line := range strings.Lines(string(text)) {
		line = strings.TrimSpace(line)
		if !strings.HasPrefix(line, "hgate ") && !strings.HasPrefix(line, "echo ") ||
			strings.HasPrefix(line, "hgate stand-in ") || // which goes on until it is ended
			strings.HasPrefix(line, "hgate join ") { // by a code that nobody has yet
			continue
		}
		out, code := run(line)
		assert.LessOrEqual(t, code, 1, "%s\n%s", line, out)
		ran++
	}
	assert.Greater(t, ran, 10)
}

// The guide's second chapter builds a small estate from nothing: what it shows is what the program prints, command
// after command.
func TestTheGuideBuildsAnEstateByCommand(t *testing.T) {
	part := chapter(t, "../../docs/guide.md", "\n## 2. ")
	t.Setenv("PATH", bin+string(os.PathListSeparator)+os.Getenv("PATH"))
	t.Setenv("COLUMNS", "100")
	dir := t.TempDir()
	ran := 0
	for i, block := range strings.Split(part, "```\n") {
		if i%2 == 0 {
			continue
		}
		for _, one := range strings.Split(strings.TrimPrefix(block, "$ "), "\n$ ") {
			line, want, _ := strings.Cut(one, "\n")
			c := exec.Command("sh", "-c", line)
			c.Dir = dir
			got, _ := c.CombinedOutput()
			assert.Equal(t, strings.TrimSuffix(want, "\n"), strings.TrimSuffix(string(got), "\n"), line)
			if strings.HasPrefix(line, "hgate new ") {
				dir = filepath.Join(dir, strings.TrimPrefix(line, "hgate new "))
			}
			ran++
		}
	}
	assert.Greater(t, ran, 15)
}
