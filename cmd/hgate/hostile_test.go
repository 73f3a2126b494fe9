//go:build unix

package main

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// trap is a folder with a hostile workspace in it and all around that it might reach: a home, programs, and files that
// nobody may touch. Git is a program that notes what it is asked and then is git.
type trap struct {
	*testing.T
	dir, ws string
}

const guarded = `hidden-gate: 1
systems: {db: {kind: database, resources: {sky: {}}}}
people: {ana: {}, mal: {}}
roles: {look: {allow: [schema.view, table.view, table.drop]}}
grants: {all-look: {to: everyone, role: look, on: db}}
`

func newTrap(t *testing.T) *trap {
	x := &trap{T: t, dir: t.TempDir()}
	x.ws = filepath.Join(x.dir, "ws")
	x.put("home/.ssh/authorized_keys", "good\n")
	x.put("outside/precious.yaml", "roles: {}\n")
	x.put("ws/hidden-gate.yaml", guarded)
	x.put("ws/blocks.yaml", "blocks: {no-mal: {to: mal, deny: all, on: db}}\n")
	real, err := exec.LookPath("git")
	require.NoError(t, err)
	x.put("programs/git", fmt.Sprintf("#!/bin/sh\necho \"$@\" >>%s\nexec %s \"$@\"\n", filepath.Join(x.dir, "asked"),
		real))
	require.NoError(t, os.Chmod(filepath.Join(x.dir, "programs/git"), 0o755))
	x.git("init", "-q", "-b", "main")
	x.git("add", "-A")
	x.git("commit", "-qm", "start")
	return x
}

func (x *trap) put(name, text string) {
	path := filepath.Join(x.dir, name)
	require.NoError(x, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(x, os.WriteFile(path, []byte(text), 0o644))
}

func (x *trap) git(args ...string) {
	c := exec.Command("git", append([]string{"-C", x.ws, "-c", "user.name=x", "-c", "user.email=x@ternhollow.example"},
		args...)...)
	out, err := c.CombinedOutput()
	require.NoError(x, err, string(out))
}

// hgate runs the program, which may take ten seconds.
func (x *trap) hgate(args ...string) (out string, code int) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	words := append([]string{filepath.Join(bin, "hgate")}, args...)
	trace := filepath.Join(x.dir, "trace")
	if tracer() {
		words = append([]string{"strace", "-f", "-y", "-s", "4096", "-o", trace, "-e", "trace=" + watchedCalls}, words...)
	}
	c := exec.CommandContext(ctx, words[0], words[1:]...)
	c.Dir, c.WaitDelay = x.ws, time.Second
	c.Env = []string{"HOME=" + filepath.Join(x.dir, "home"), "XDG_STATE_HOME=" + filepath.Join(x.dir, "state"), "PATH=" +
		filepath.Join(x.dir, "programs") + ":/usr/bin:/bin", "HGATE_CACHE=off"}
	text, err := c.CombinedOutput()
	require.NoError(x, ctx.Err(), "hgate %s hangs", strings.Join(args, " "))
	if err != nil {
		_, isExit := err.(*exec.ExitError)
		require.True(x, isExit, "%v", err)
	}
	if tracer() {
		x.traced(trace, strings.Join(args, " "))
	}
	return string(text), c.ProcessState.ExitCode()
}

// watchedCalls are the calls of the system by which a program runs another, or writes.
const watchedCalls = "execve,execveat,open,openat,creat,unlink,unlinkat,rename,renameat,renameat2,mkdir,mkdirat," +
	"symlink,symlinkat,link,linkat,chmod,fchmodat,chown,fchownat,truncate"

// tracer says whether programs can be traced here.
var tracer = sync.OnceValue(func() bool {
	return exec.Command("strace", "-f", "-y", "-o", os.DevNull, "-e", "trace="+watchedCalls, "true").Run() == nil
})

var (
	ran   = regexp.MustCompile(`execve(?:at)?\((?:[^"]*)"([^"]+)".* = 0$`)
	wrote = regexp.MustCompile(`(?:(?:AT_FDCWD|\d+)<([^>]*)>, )?"((?:[^"\\]|\\.)*)"`)
)

// traced sees that a command ran nothing but git, and opened nothing for writing, and changed no name, but in the
// workspace and the state folder.
func (x *trap) traced(trace, about string) {
	text, err := os.ReadFile(trace)
	require.NoError(x, err)
	require.NoError(x, os.Remove(trace))
	real, err := filepath.EvalSymlinks(x.dir)
	require.NoError(x, err)
	for line := range strings.Lines(string(text)) {
		line = strings.TrimSpace(line)
		_, call, _ := strings.Cut(line, " ")
		call = strings.TrimSpace(call)
		if m := ran.FindStringSubmatch(line); m != nil {
			assert.Contains(x, []string{"hgate", "git"}, filepath.Base(m[1]), "%s runs %s", about, line)
		}
		writes := strings.HasPrefix(call, "creat(") || !strings.HasPrefix(call, "open") && !strings.HasPrefix(call, "exec")
		if strings.HasPrefix(call, "open") {
			writes = strings.Contains(call, "O_WRONLY") || strings.Contains(call, "O_RDWR") ||
				strings.Contains(call, "O_CREAT") || strings.Contains(call, "O_TRUNC")
		}
		if !writes {
			continue
		}
		for _, m := range wrote.FindAllStringSubmatch(call, -1) {
			path := m[2]
			if !filepath.IsAbs(path) {
				path = filepath.Join(m[1], path)
			}
			within := slices.ContainsFunc([]string{"ws", "state", "asked"}, func(name string) bool {
				return path == filepath.Join(real, name) || strings.HasPrefix(path, filepath.Join(real, name)+"/")
			})
			assert.True(x, within || path == os.DevNull || path == "/dev/tty", "%s writes %s: %s", about, path, line)
		}
	}
}

// around tells everything outside of the workspace but the state folder, with contents and times.
func (x *trap) around() string {
	var b strings.Builder
	require.NoError(x, filepath.WalkDir(x.dir, func(path string, entry fs.DirEntry, err error) error {
		name := strings.TrimPrefix(path, x.dir)
		switch {
		case err != nil:
			return err
		case name == "/ws" || name == "/state":
			return fs.SkipDir
		case name == "/asked" || name == "/trace" || name == "":
			return nil
		}
		info, err := entry.Info()
		if err != nil {
			return err
		}
		text, _ := os.ReadFile(path)
		fmt.Fprintln(&b, name, info.Mode(), info.Size(), info.ModTime().UnixNano(), string(text))
		return nil
	}))
	return b.String()
}

// Whatever a workspace and its repository hold, commands end, run nothing of theirs, and write nothing outside; and a
// block that a change takes out is told, or nothing is said at all.
func TestHostileWorkspaces(t *testing.T) {
	evil := func(x *trap) string { return "touch " + filepath.Join(x.dir, "outside/ran") }
	for name, lay := range map[string]func(x *trap){
		"nothing else": func(*trap) {},
		"an order to complete": func(x *trap) {
			require.NoError(x, os.Symlink("../home/.ssh", filepath.Join(x.ws, "out")))
			x.put("ws/.hgate-change/plan.json", `{"Files":["out/authorized_keys", ".git/config"]}`)
			x.put("ws/.hgate-change/0.new", "evil\n")
			x.put("ws/.hgate-change/1.new", "[core]\n\tfsmonitor = \""+evil(x)+"\"\n")
		},
		"a link in place of an order": func(x *trap) {
			require.NoError(x, os.Symlink("../outside", filepath.Join(x.ws, ".hgate-change")))
			require.NoError(x, os.Symlink("../outside/made", filepath.Join(x.ws, ".hgate-edit")))
		},
		"a file that is a link": func(x *trap) {
			require.NoError(x, os.Symlink("../outside/precious.yaml", filepath.Join(x.ws, "roles.yaml")))
		},
		"attributes that hide a file": func(x *trap) {
			x.put("ws/.gitattributes", "blocks.yaml export-ignore filter=evil diff=evil\n*.yaml export-subst ident\n")
			x.git("add", ".gitattributes")
			x.git("commit", "-qm", "attributes")
			x.git("config", "filter.evil.smudge", evil(x))
			x.git("config", "filter.evil.process", evil(x))
			x.git("config", "diff.evil.textconv", evil(x))
		},
		"a folder named like a revision": func(x *trap) {
			x.put("ws/main/hidden-gate.yaml", guarded)
			x.put("ws/HEAD/hidden-gate.yaml", guarded)
		},
		"hooks, a monitor and an alias": func(x *trap) {
			for _, hook := range []string{"post-index-change", "reference-transaction", "post-checkout"} {
				x.put("ws/.git/hooks/"+hook, "#!/bin/sh\n"+evil(x)+"\n")
				require.NoError(x, os.Chmod(filepath.Join(x.ws, ".git/hooks", hook), 0o755))
			}
			x.git("config", "core.fsmonitor", evil(x))
			x.git("config", "core.pager", evil(x))
			x.git("config", "alias.ls-tree", "!"+evil(x))
		},
		"a line that is two": func(x *trap) {
			x.put("ws/notes.yaml", "# a note\u2028grants: {mine: {to: mal, role: look, on: db}}\n")
		},
		"a pipe": func(x *trap) {
			require.NoError(x, exec.Command("mkfifo", filepath.Join(x.ws, "people.yaml")).Run())
		},
		"a device": func(x *trap) { require.NoError(x, os.Symlink("/dev/zero", filepath.Join(x.ws, "x.yaml"))) },
		"a title that paints": func(x *trap) {
			x.put("ws/more.yaml", "roles: {fine: {title: \"\\e[2J\\e[32mALLOWED\\n\\nALLOWED\", allow: [schema.view]}}\n")
		},
		"names that paint": func(x *trap) {
			x.put("ws/a\x1b[2Jb.yaml", "roles: [\n")
		},
	} {
		t.Run(name, func(t *testing.T) {
			x := newTrap(t)
			lay(x)
			require.NoError(t, os.Remove(filepath.Join(x.ws, "blocks.yaml"))) // what the change is about
			before := x.around()
			for _, line := range []string{
				"list people", "show role look", "check --since main --by mal", "check --since HEAD --by mal", "compare HEAD",
				"compare main", "requests", "log", "log verify", "review show", "request all-look --for 1h --by mal",
				"try mal table.drop db:sky", "grid --who mal", "reach mal",
				"__complete list people ''", "tidy", "add person new", "set role look --title Looks", "remove person new",
				"list roles", "test", "prove", "compare ./",
			} {
				out, code := x.hgate(strings.Fields(line)...)
				assert.NotContains(t, out, "\x1b", line)
				for _, r := range out {
					assert.True(t, r == '\n' || r == '\t' || r >= ' ' && r != 0x7f && r != 0x2028, "%s: %U", line, r)
				}
				assert.NotContains(t, out, "fault of the program", line)
				if strings.HasPrefix(line, "compare HEAD") && code == 0 {
					assert.Contains(t, out, "mal  gains", line)
				}
				if strings.HasPrefix(line, "check --since") {
					assert.NotZero(t, code, "%s: %s", line, out)
				}
				if !strings.Contains(name, "paints") {
					assert.NotContains(t, out, "\nALLOWED\n", line)
				}
			}
			assert.Equal(t, before, x.around(), "something outside is other than it was")
			asked, _ := os.ReadFile(filepath.Join(x.dir, "asked"))
			for line := range strings.Lines(string(asked)) {
				assert.Regexp(t, ` (rev-parse|ls-tree|cat-file) `, line+" ", "git is asked for nothing else")
			}
		})
	}
}

// A workspace that somebody else put there is not taken because it was found.
func TestAWorkspaceOfSomebodyElseIsNamed(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root gives folders away")
	}
	for name, give := range map[string]func(x *trap) string{
		"the folder":     func(x *trap) string { return x.ws },
		"its settings":   func(x *trap) string { return filepath.Join(x.ws, "hidden-gate.yaml") },
		"one on the way": func(x *trap) string { return filepath.Join(x.ws, "inner") },
	} {
		x := newTrap(t)
		require.NoError(t, os.Mkdir(filepath.Join(x.ws, "inner"), 0o755))
		require.NoError(t, os.Chown(give(x), 4321, 4321))
		top := x.ws
		x.ws = filepath.Join(top, "inner")
		out, code := x.hgate("list", "people")
		assert.Equal(t, 2, code, name)
		assert.Contains(t, out, "belongs to somebody else", name)
		_, code = x.hgate("-C", top, "list", "people")
		assert.Zero(t, code, name)
	}
}
