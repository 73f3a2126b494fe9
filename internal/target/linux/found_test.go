//go:build unix

package linux

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/target"
	"hiddengate/internal/target/targettest"
)

// What is pulled from a server of any state, as a policy, is what the server does: every account is asked about
// everything, and nothing differs.
func TestWhatIsPulledIsWhatTheServerDoes(t *testing.T) {
	asked, allowed := 0, 0
	for round := range 6 * rounds() {
		d := rand.New(rand.NewPCG(uint64(round), 11))
		b := newBench(t)
		b.root.Run(byHand(d))
		before := "hidden-gate: 1\nedition: 2\nsystems: {box: {kind: server, resources: {" + listed + ", accounts: {}"
		b.load(before + "}}}\n")
		snap, err := b.system.Read(t.Context())
		require.NoError(t, err)
		owner := func(account string) (estate.Principal, bool) {
			return estate.Principal{ID: account}, strings.HasPrefix(account, "a")
		}
		adopted := target.Adopt("box", &Driver.Carries, snap.State(), snap.Found(), owner)
		people := "people: {"
		for i := range accounts {
			before += fmt.Sprintf(", accounts/a%d: {owner: a%d}", i, i)
			people += fmt.Sprintf("a%d: {}, ", i)
		}
		text := before + "}}}\n" + people + "}\n" + string(adopted.File("box", snap.State()))
		g := b.load(text)
		a, _, wrong := b.Ask(g)
		require.Empty(t, wrong, "round %d\n%s", round, text)
		asked += a
		w := b.Arrange(g, snap, nil).Wanted
		for q := range targettest.Everything(w) {
			if q.Expected {
				allowed++
			}
		}
	}
	t.Logf("asked %d, of which %d are allowed", asked, allowed)
	assert.Greater(t, allowed, asked/20)
}

// accounts is how many accounts the servers made by hand have.
const accounts = 6

// byHand makes accounts with rights of all sorts.
func byHand(d *rand.Rand) string {
	var b strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	for i := range accounts {
		say("useradd -m -s %s -p '%s' a%d", []string{"/bin/sh", "/bin/bash", "/usr/sbin/nologin"}[d.IntN(3)],
			[]string{"*", "!", "$y$x"}[d.IntN(3)], i)
		if d.IntN(3) == 0 {
			say("mkdir /home/a%[1]d/.ssh; echo key >/home/a%[1]d/.ssh/authorized_keys", i)
		}
	}
	say("groupadd crew")
	who := func() string { return fmt.Sprintf("a%d", d.IntN(accounts)) }
	files := []string{
		"/srv/frames",
		"/srv/notes",
		"/opt/plans",
		"/srv/frames/b",
		"/opt/plans/old/d",
		"/usr/local/bin/planner",
	}
	for n := range 10 + d.IntN(10) {
		file := files[d.IntN(len(files))]
		perms := []string{"r", "rx", "rwx", "-", "rw"}[d.IntN(5)]
		switch d.IntN(9) {
		case 0:
			say("usermod -aG %s %s", []string{"adm", "crew", "crew"}[d.IntN(3)], who())
		case 1, 2:
			say("setfacl -m u:%s:%s %s", who(), perms, file)
		case 3:
			say("setfacl -m g:crew:%s %s", perms, file)
		case 4:
			say("chmod %s %s", []string{"o-rwx", "o+rx", "o+rwx", "g-x"}[d.IntN(4)], file)
		case 5:
			say("usermod -e %s %s", []string{"1", "2031-01-01"}[d.IntN(2)], who())
		default:
			say("echo '%s ALL = (%s) NOPASSWD: %s' >>/etc/sudoers.d/hand-%d; chmod 440 /etc/sudoers.d/hand-%d",
				[]string{who(), "%crew"}[d.IntN(2)], []string{"root", "root", "ALL", "planner"}[d.IntN(4)],
				[]string{"/usr/bin/systemctl restart weather.service", "/usr/bin/systemctl stop weather.service, " +
					"/usr/bin/systemctl start weather.service, /usr/bin/systemctl restart weather.service",
					"/usr/bin/systemctl reboot", "ALL"}[d.IntN(4)], n, n)
		}
	}
	return b.String()
}
