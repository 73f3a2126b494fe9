package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/cli"
	"hiddengate/internal/starter"
)

// Every example that help shows runs in the folder that `hgate demo` writes, and no line of help is too wide.
func TestTheExamplesOfHelpRun(t *testing.T) {
	t.Setenv("PATH", bin+string(os.PathListSeparator)+os.Getenv("PATH"))
	ran := 0
	var visit func(c *cobra.Command)
	visit = func(c *cobra.Command) {
		for _, sub := range c.Commands() {
			visit(sub)
		}
		help, err := exec.Command("hgate", append(strings.Fields(c.CommandPath())[1:], "--help")...).Output()
		require.NoError(t, err, c.CommandPath())
		for line := range strings.Lines(string(help)) {
			assert.LessOrEqual(t, len([]rune(strings.TrimRight(line, "\n"))), 100, "%s: %s", c.CommandPath(), line)
		}
		dir := filepath.Join(t.TempDir(), "demo")
		require.NoError(t, starter.Write(starter.Demo(), dir))
		require.NoError(t, starter.WriteKeys(dir))
		shell := func(line string) (string, error) {
			run := exec.Command("bash", "-c", line)
			run.Dir = dir
			if c.Name() == "new" || c.Name() == "demo" { // a workspace holds no other
				run.Dir = filepath.Dir(dir)
			}
			run.Env = append(os.Environ(), "HOME="+filepath.Dir(dir))
			out, err := run.CombinedOutput()
			return string(out), err
		}
		for name, text := range own {
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
		}
		_, err = shell("git init -q -b main && git add -A && " +
			"git -c user.name=x -c user.email=x@ternhollow.example commit -qm a")
		require.NoError(t, err)
		for line := range strings.SplitSeq(strings.ReplaceAll(c.Example, "\\\n", ""), "\n") {
			line = strings.TrimSpace(line)
			if line == "" || line == "hgate demo" && c == c.Root() || slices.ContainsFunc(elsewhere,
				func(word string) bool { return strings.Contains(line, word) }) {
				continue
			}
			if c.Flags().Lookup("yes") != nil && strings.HasPrefix(line, c.CommandPath()) {
				line += " --yes"
			}
			out, err := shell(line)
			var exit *exec.ExitError
			if assert.ErrorAs(t, orNone(err), &exit, line) {
				assert.LessOrEqual(t, exit.ExitCode(), 1, "%s\n%s", line, out)
			}
			ran++
		}
	}
	root := cli.Command()
	visit(root)
	assert.Greater(t, ran, 60)
}

// elsewhere are words of examples that never end, or need a server or another shell.
var elsewhere = []string{
	"--watch",
	"--head",
	"log import",
	"log prepare",
	"log deliver",
	"ldaps://",
	"fish",
	"Out-String",
	"hgate connect",
	"hgate pull",
	"--with",
	"hgate push",
	"hgate probe",
	"hgate stand-in",
	"hgate credential test",
	"hgate credential second-factor",
	"hgate credential token make",
	"hgate credential token replace",
	"hgate credential token end",
	"hgate join",
}

// own are files that the examples take for the reader's own.
var own = map[string]string{
	"staff.csv": "login,name,department\nluc.arnaud,Luc Arnaud,domes\n",
	"people.ldif": "dn: uid=luc,dc=ternhollow,dc=example\nobjectClass: inetOrgPerson\n" +
		"uid: luc.arnaud\ncn: Luc Arnaud\n",
	"requests.ndjson": `{"subject":{"type":"person","id":"ines.okafor"},"action":{"name":"host.view"},` +
		`"resource":{"id":"base-hosts"}}`,
	"audit.csv": "time,user,action,resource\n2027-11-03T12:00,ines.okafor,host.view,base-hosts\n",
}

// orNone is an error of exit code 0 where there is none.
func orNone(err error) error {
	if err == nil {
		return &exec.ExitError{ProcessState: &os.ProcessState{}}
	}
	return err
}
