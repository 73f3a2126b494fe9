package revision_test

import (
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/policyfile"
	"hiddengate/internal/revision"
)

// repository makes a repository of files, each named and then its text.
func repository(t *testing.T, files ...string) string {
	dir := t.TempDir()
	run(t, dir, "init", "-q", "-b", "main")
	put(t, dir, files...)
	commit(t, dir)
	return dir
}

func run(t *testing.T, dir string, args ...string) string {
	c := exec.Command("git", append([]string{"-C", dir, "-c", "user.name=x", "-c", "user.email=x@ternhollow.example", "-c",
		"protocol.file.allow=always"}, args...)...)
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}

func put(t *testing.T, dir string, files ...string) {
	for i := 0; i+1 < len(files); i += 2 {
		path := filepath.Join(dir, files[i])
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(files[i+1]), 0o644))
	}
}

func commit(t *testing.T, dir string) {
	run(t, dir, "add", "-A")
	run(t, dir, "commit", "-qm", "x")
}

const settings = "hidden-gate: 1\nsystems: {db: {kind: database}}\npeople: {ana: {}}\n"

// What a revision holds is what a checkout of it holds, file by file, whatever attributes and settings say.
func TestARevisionIsWhatWasCommitted(t *testing.T) {
	dir := repository(t,
		"policy/hidden-gate.yaml", settings, "policy/blocks.yaml", "blocks: {b: {deny: all, on: db}} # $Format:%H$\n",
		"policy/more/people.csv", "id\nbo\n",
		"policy/odd \"name\"\n.yaml", "{}\n", "policy/read.me", "no policy", "other/x.yaml", "no policy", "policy/crlf.yaml",
		"a:\r\n  b\r\n")
	require.NoError(t, os.Symlink("blocks.txt", filepath.Join(dir, "policy/linked.yaml")))
	put(t, dir, "policy/blocks.txt", "roles: {}\n",
		"policy/.gitattributes",
		"blocks.yaml export-ignore\n*.yaml export-subst filter=evil ident eol=crlf\nmore export-ignore\n")
	run(t, dir, "config", "filter.evil.smudge", "touch "+filepath.Join(dir, "ran")+"; cat")
	run(t, dir, "-c", "filter.evil.clean=cat", "add", "-A")
	run(t, dir, "commit", "-qm", "x")
	for _, at := range []string{"HEAD", "main"} {
		files, err := revision.Open(t.Context(), filepath.Join(dir, "policy"), at)
		require.NoError(t, err)
		for name, want := range map[string]string{"hidden-gate.yaml": settings, "more/people.csv": "id\nbo\n",
			"linked.yaml": "roles: {}\n", "odd \"name\"\n.yaml": "{}\n"} {
			text, err := fs.ReadFile(files, name)
			require.NoError(t, err, name)
			require.Equal(t, want, string(text), name)
		}
		text, err := fs.ReadFile(files, "blocks.yaml")
		require.NoError(t, err)
		require.Contains(t, string(text), "deny: all, on: db}} # $Format:%H$")
		_, err = fs.Stat(files, "read.me")
		require.ErrorIs(t, err, fs.ErrNotExist)
		_, err = fs.Stat(files, "x.yaml")
		require.ErrorIs(t, err, fs.ErrNotExist, "another folder's")
	}
	require.NoFileExists(t, filepath.Join(dir, "ran"))
}

// What is read through a revision is what is read in the checkout, links and all.
func TestARevisionReadsLikeItsCheckout(t *testing.T) {
	dir := repository(t, "hidden-gate.yaml", settings, "in/roles.txt", "roles: {look: {allow: server.view}}\n",
		"in/deep/x.yml", "groups: {g: {members: ana}}\n")
	require.NoError(t, os.Symlink("in/roles.txt", filepath.Join(dir, "one.yaml")))
	commit(t, dir)
	files, err := revision.Open(t.Context(), dir, "HEAD")
	require.NoError(t, err)
	was, err := policyfile.Load(files)
	require.NoError(t, err)
	is, err := policyfile.Load(os.DirFS(dir))
	require.NoError(t, err)
	require.Len(t, was.Roles, 1)
	require.Len(t, was.Groups, 1)
	require.Equal(t, len(is.Roles), len(was.Roles))
	require.NoError(t, os.Symlink("..", filepath.Join(dir, "in/around")))
	commit(t, dir)
	files, err = revision.Open(t.Context(), dir, "HEAD")
	require.NoError(t, err)
	_, errWas := policyfile.Load(files)
	_, errIs := policyfile.Load(os.DirFS(dir))
	require.ErrorContains(t, errWas, "the link points to a folder")
	require.Equal(t, errIs, errWas)
	require.NoError(t, os.Remove(filepath.Join(dir, "in/around")))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(dir, "two.yaml")))
	commit(t, dir)
	files, err = revision.Open(t.Context(), dir, "HEAD")
	require.NoError(t, err)
	_, err = policyfile.Load(files)
	require.ErrorContains(t, err, "leaves the workspace")
}

// A submodule's files are in another repository: they are not passed over in silence.
func TestASubmoduleIsToldUnlessIgnored(t *testing.T) {
	inner := repository(t, "blocks.yaml", "blocks: {b: {deny: all, on: db}}\n")
	dir := repository(t, "hidden-gate.yaml", settings)
	run(t, dir, "submodule", "--quiet", "add", inner, "shared")
	run(t, dir, "commit", "-qm", "x")
	files, err := revision.Open(t.Context(), dir, "HEAD")
	require.NoError(t, err)
	_, err = policyfile.Load(files)
	require.ErrorContains(t, err, "shared: this can't be read: it is a submodule")
	put(t, dir, "hidden-gate.yaml", settings+"ignore: [shared]\n")
	commit(t, dir)
	files, err = revision.Open(t.Context(), dir, "HEAD")
	require.NoError(t, err)
	_, err = policyfile.Load(files)
	require.NoError(t, err)
}

// Nothing that a repository says is run, whatever it is.
func TestNothingOfARepositoryIsRun(t *testing.T) {
	ran := filepath.Join(t.TempDir(), "ran")
	evil := "sh -c 'touch " + ran + "'"
	for name, tamper := range map[string]func(dir string){
		"a monitor of files": func(dir string) { run(t, dir, "config", "core.fsmonitor", evil) },
		"hooks": func(dir string) {
			for _, hook := range []string{"post-checkout", "reference-transaction", "fsmonitor-watchman", "post-index-change"} {
				put(t, dir, ".git/hooks/"+hook, "#!/bin/sh\ntouch "+ran+"\n")
				require.NoError(t, os.Chmod(filepath.Join(dir, ".git/hooks", hook), 0o755))
			}
		},
		"a pager, an alias and a text conversion": func(dir string) {
			for key, value := range map[string]string{"core.pager": evil, "pager.cat-file": evil, "alias.cat-file": "!" + evil,
				"diff.x.textconv": evil, "filter.x.smudge": evil, "core.sshCommand": evil, "core.askPass": evil,
				"credential.helper": "!" + evil} {
				run(t, dir, "config", key, value)
			}
			put(t, dir, ".gitattributes", "* filter=x diff=x\n")
		},
		"what is fetched when it is missed": func(dir string) {
			run(t, dir, "config", "extensions.partialClone", "far")
			run(t, dir, "config", "core.repositoryFormatVersion", "1")
			run(t, dir, "config", "remote.far.promisor", "true")
			run(t, dir, "config", "remote.far.url", "ext::"+evil)
			run(t, dir, "config", "remote.far.uploadpack", evil)
			run(t, dir, "config", "protocol.ext.allow", "always")
			object := strings.TrimSpace(run(t, dir, "rev-parse", "HEAD:lost.yaml"))
			require.NoError(t, os.Remove(filepath.Join(dir, ".git/objects", object[:2], object[2:])))
		},
	} {
		dir := repository(t, "hidden-gate.yaml", settings, "lost.yaml", "{}\n")
		tamper(dir)
		files, err := revision.Open(t.Context(), dir, "HEAD")
		if strings.Contains(name, "missed") {
			require.ErrorContains(t, err, "does not hold what \"lost.yaml\" was", name)
		} else {
			require.NoError(t, err, name)
			_, err = policyfile.Load(files)
			require.NoError(t, err, name)
		}
		require.NoFileExists(t, ran, name)
	}
}

// A folder of a policy that is itself a bare repository is none: its settings are the policy's author's.
func TestABareRepositoryInAPolicyIsNone(t *testing.T) {
	ran := filepath.Join(t.TempDir(), "ran")
	dir := repository(t, "hidden-gate.yaml", settings,
		"HEAD", "ref: refs/heads/main\n", "config",
		fmt.Sprintf("[core]\n\trepositoryformatversion = 0\n\tbare = false\n\tworktree = .\n\tfsmonitor = \"touch %s\"\n",
			ran),
		"objects/x", "", "refs/heads/x", "")
	_, err := revision.Open(t.Context(), dir, "HEAD")
	require.NoError(t, err, "the repository around it is one")
	inner := filepath.Join(dir, "inner")
	put(t, inner, "hidden-gate.yaml", settings, "HEAD", "ref: refs/heads/main\n", "objects/x", "", "refs/heads/x", "",
		"config", fmt.Sprintf("[core]\n\tbare = false\n\tworktree = .\n\tfsmonitor = \"touch %s\"\n", ran))
	_, err = revision.Open(t.Context(), inner, "HEAD")
	require.Error(t, err)
	require.NoFileExists(t, ran)
}

// A reference that puts another object in the place of one changes nothing.
func TestWhatWasReplacedIsReadAsItWas(t *testing.T) {
	dir := repository(t, "hidden-gate.yaml", settings)
	put(t, dir, "other", "hidden-gate: 1\n")
	other := strings.TrimSpace(run(t, dir, "hash-object", "-w", "other"))
	run(t, dir, "replace", strings.TrimSpace(run(t, dir, "rev-parse", "HEAD:hidden-gate.yaml")), other)
	files, err := revision.Open(t.Context(), dir, "HEAD")
	require.NoError(t, err)
	text, err := fs.ReadFile(files, "hidden-gate.yaml")
	require.NoError(t, err)
	require.Equal(t, settings, string(text))
}

func TestWhatIsNoRevisionIsNone(t *testing.T) {
	dir := repository(t, "hidden-gate.yaml", settings)
	for _, name := range []string{"", "-", "--all", "nowhere", "HEAD:hidden-gate.yaml", "HEAD..HEAD", "../x", "HEAD\n",
		"--git-dir=x"} {
		_, err := revision.Open(t.Context(), dir, name)
		require.Error(t, err, name)
	}
	_, err := revision.Open(t.Context(), t.TempDir(), "HEAD")
	require.Error(t, err)
}

// The files of a revision are a file system as Go's own test has it.
func TestTheFilesAreAFileSystem(t *testing.T) {
	dir := repository(t, "hidden-gate.yaml", settings, "a/b.yaml", "{}\n", "a/c/d.csv", "id\n")
	files, err := revision.Open(t.Context(), dir, "HEAD")
	require.NoError(t, err)
	require.NoError(t, fstest.TestFS(files, "hidden-gate.yaml", "a/b.yaml", "a/c/d.csv"))
}
