//go:build unix

package linux

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/target"
)

// FuzzQuoting holds what is quoted against a real shell, and the names that need no quotes against one too.
func FuzzQuoting(f *testing.F) {
	for _, text := range []string{"", "plain", "it's", "$(id)", "a\nb", "`x`", `\`, `'\''`, "-n", "*", "für",
		"\x01", "a b\t",
		"srv/x", "var/www/../../etc", "%2e%2e/x", "srv/a%2Fb"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if strings.Contains(text, "\x00") {
			return // no command can have it
		}
		out, err := exec.Command("/bin/sh", "-c", "printf %s "+quote(text)).Output()
		require.NoError(t, err)
		assert.Equal(t, text, string(out))
		for _, name := range []string{groupOf(text), text} {
			if !accountName.MatchString(name) && !unitName.MatchString(name) {
				continue
			}
			out, err := exec.Command("/bin/sh", "-c", "printf %s "+name).Output()
			require.NoError(t, err)
			assert.Equal(t, name, string(out))
		}
		group := groupOf(text)
		assert.LessOrEqual(t, len(group), longest)
		assert.True(t, accountName.MatchString(group), group)
		if where, ok := pathOf(text); ok {
			assert.NotContains(t, where, "/../")
			assert.NotContains(t, where, "\n")
			assert.False(t, strings.HasSuffix(where, "/..") || strings.Contains(where, "//"), where)
		}
	})
}

// Grants of any name have groups of their own.
func TestEachGrantHasAGroupOfItsOwn(t *testing.T) {
	seen := map[string]string{}
	for _, grant := range []string{"crew", "Crew", "crew.x", "crew-x", "crew_x", "ü", "ö", strings.Repeat("a", 40),
		strings.Repeat("a", 41), "a-very-long-name-of-a-grant-1", "a-very-long-name-of-a-grant-2"} {
		name := groupOf(grant)
		assert.Empty(t, seen[name], "%s and %s", grant, seen[name])
		seen[name] = grant
	}
}

// FuzzReading reads what a server prints, of whatever sort.
func FuzzReading(f *testing.F) {
	f.Add("passwd cm9vdDp4OjA6MDo6L3Jvb3Q6L2Jpbi9zaAo=\n", "# file: /srv\nuser::rwx\n",
		"Sudoers entry:\n    RunAsUsers: root\n    Commands:\n\tALL\n")
	f.Add("a b\n", "# file: \\057x\ngroup:12:r-x\n", "Sudoers entry:\n")
	f.Add("", "41ed 0 0 /srv\n", "\tALL\n")
	f.Fuzz(func(t *testing.T, printed, listing, rules string) {
		for _, r := range rulesOf(rules) {
			lets([]rule{r}, "root", "ALL")
		}
		_, _ = nodesOf(map[string]string{"stat:0": listing, "acl:0": listing})
		parts, err := partsOf([]byte(printed))
		if err != nil {
			return
		}
		s := &snapshot{accounts: map[string]*account{}, groups: map[string]*group{}, files: map[int]*file{},
			programs: map[int]string{}, keys: map[string]string{}}
		if s.people(parts) != nil {
			return
		}
		require.NoError(t,
			s.places([]target.Place{{Path: "srv", Type: "area"}}, parts, map[string]string{"rules:root": rules}))
		s.Found()
	})
}
