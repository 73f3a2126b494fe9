//go:build unix

package linux

import (
	"context"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/servers"
	"hiddengate/internal/target"
	"hiddengate/internal/target/targettest"
)

// plain is a policy by which p0 signs in and restarts a service, p1 opens an application, and p2 has nothing.
func (b *bench) plain() string {
	return "hidden-gate: 1\nedition: 2\nsystems: {box: {kind: server, resources: {" + listed +
		", accounts: {}, accounts/p2: {owner: p2}}}}\npeople: {p0: {keys: " + b.public["p0"] + "}, p1: {keys: " +
		b.public["p1"] + "}, p2: {keys: " + b.public["p2"] + "}}\n" +
		"groups: {crew: {members: p0}, guests: {members: p1}}\n" +
		"roles: {keeper: {allow: [host.sign-in, host.copy, service.restart, file.view, file.read]}, " +
		"guest: {allow: application.open}}\n" +
		"grants: {crew-keeps: {to: group:crew, role: keeper, on: [box, box:services/weather, box:srv/frames]}, " +
		"guests-plan: {to: group:guests, role: guest, on: box:planner}}\n"
}

// What somebody changes by hand is found, told by its cause, and undone by the next push; an account outside the
// policy's care keeps all that it has.
func TestDriftIsFoundAndUndone(t *testing.T) {
	b := newBench(t)
	b.root.Run(
		"useradd -m stranger; usermod -aG adm stranger\n" +
			"echo 'stranger, p0, %sudo ALL=(root) NOPASSWD: ALL' >/etc/sudoers.d/strangers\n" +
			"chmod 440 /etc/sudoers.d/strangers\n" +
			"setfacl -m u:stranger:rwx /srv/frames; useradd -m -p xyz p2; usermod -aG sudo p2",
	)
	state := "grep stranger /etc/passwd /etc/group /etc/shadow; getfacl -cp /srv/frames | grep stranger; " +
		"cat /etc/sudoers.d/strangers"
	before := b.root.Run(state)
	g := b.load(b.plain())
	b.Push(g)
	_, _, wrong := b.Ask(g)
	require.Empty(t, wrong)
	for by, want := range map[string]string{
		"usermod -aG sudo p0": "",
		"usermod -aG adm p0":  "it is in the group adm",
		"echo 'p0 ALL = (root) NOPASSWD: /usr/bin/systemctl reboot' >>" + commandsFile:  commandsFile + " has a rule for it",
		"sed -i /!ALL/d " + commandsFile + "; usermod -aG sudo p0":                      "",
		"cat " + keysIn + "/p0 >>" + keysIn + "/p1; usermod -s /bin/sh p1":              "it has a shell and a key",
		"cat " + keysIn + "/p1 >" + keysIn + "/p2; usermod -s /bin/sh -e '' -p '*' p2":  "",
		"usermod -s /bin/bash -e '' -p '$y$1' p2":                                       "it has a shell and a password",
		"sed -i 's/^p0:x:[0-9]*:/p0:x:0:/' /etc/passwd":                                 "its number is root's",
		"setfacl -m u:p0:rwx /srv/notes":                                                "of /srv/notes gives it rwx",
		"groupadd helpers; usermod -aG helpers p0; setfacl -m g:helpers:rwx /srv/notes": "gives the group helpers",
		"setfacl -b /srv/notes":                                                         "/srv/notes gives everybody rwx",
		"chown p0 /srv/notes":                                                           "it owns /srv/notes",
		"chgrp p0 /srv/notes":                                                           "/srv/notes belongs to the group p0",
		"gpasswd -d p0 hgate":                                                           "",
		"rm " + signInFile + " " + commandsFile + "; kill -HUP $(cat /run/sshd.pid)":    "",
		"userdel -f p0":             "",
		"groupdel hgate-crew-keeps": "the access list of /srv/frames, or of a folder above it",
		"chmod o-x /usr/local/bin/planner; setfacl -m m::--- /usr/local/bin/planner": "of /usr/local/bin/planner",
		"rm " + keysIn + "/p0":         "it has no key and no password",
		"usermod -e 1 p0":              "it is closed since 1970-01-02",
		"chsh -s /usr/sbin/nologin p0": "its shell is /usr/sbin/nologin",
	} {
		b.root.Run(by)
		_, _, wrong := b.Ask(g)
		if want != "" {
			assert.Contains(t, strings.Join(wrong, "\n"), want, by)
		}
		plan := b.Push(g)
		assert.NotEmpty(t, plan.Statements, by)
		_, _, wrong = b.Ask(g)
		require.Empty(t, wrong, "%s\n%s", by, targettest.Texts(plan))
		out, err := b.root.As("p0", b.keys["p0"], "sudo -n systemctl restart weather.service && cat /var/log/told")
		require.NoError(t, err, "%s\n%s", by, out)
		assert.Contains(t, out, "restart weather.service")
		_, err = b.root.As("p0", b.keys["p0"], "sudo -n systemctl stop weather.service")
		require.Error(t, err, by)
		_, err = b.root.As("p2", b.keys["p2"], "true")
		require.Error(t, err, by)
		out, err = b.root.As("p1", b.keys["p1"], "cat /etc/passwd")
		require.NoError(t, err, by)
		assert.Equal(t, "planner\n", out, by)
		assert.Empty(t, b.Push(g).Statements, by)
	}
	assert.Equal(t, before, b.root.Run(state))
}

// hgate's own way in stays, whatever a policy says of it, and however it signs in.
func TestItsOwnWayInStays(t *testing.T) {
	root := servers.Linux(t)
	root.Run(
		there + "useradd -m keeper; echo 'keeper ALL=(ALL) NOPASSWD: ALL' >/etc/sudoers.d/keeper\n" +
			"chmod 440 /etc/sudoers.d/keeper\n" +
			"mkdir /home/keeper/.ssh; cp /etc/ssh/root-key /home/keeper/.ssh/authorized_keys; chown -R keeper /home/keeper",
	)
	at := strings.Replace(root.Address, "root@", "keeper@", 1)
	s, err := connect(t.Context(), target.Connection{System: "box", At: at, Secret: root.Key})
	require.NoError(t, err)
	b := benchOf(t, root, s.(*system))
	text := strings.Replace(b.plain(), "accounts/p2: {owner: p2}",
		"accounts/p2: {owner: p2}, accounts/keeper: {owner: p1}, accounts/root: {owner: p0}", 1)
	g := b.load(text)
	for range 2 {
		b.Push(g)
		_, _, wrong := b.Ask(g)
		assert.Empty(t, wrong)
		again, err := connect(t.Context(), target.Connection{System: "box", At: at, Secret: root.Key})
		require.NoError(t, err)
		_, err = again.Read(t.Context())
		require.NoError(t, err)
		again.Close()
		root.Run("! id -nG keeper | grep hgate; ! id -nG root | grep hgate")
		g = b.load(strings.Replace(text, "guests-plan", "guests-open", 1))
	}
	s.Close()

	_, err = connect(t.Context(), target.Connection{At: strings.ReplaceAll(at, root.Known, "/dev/null"), Secret: root.Key})
	require.ErrorContains(t, err, "see by another way that its key is right")
	_, other := servers.NewKey(t)
	wrongly := t.TempDir() + "/known"
	require.NoError(t, os.WriteFile(wrongly, []byte("["+strings.Replace(root.Host, ":", "]:", 1)+" "+other+"\n"), 0o600))
	_, err = connect(t.Context(), target.Connection{At: strings.ReplaceAll(at, root.Known, wrongly), Secret: root.Key})
	require.ErrorContains(t, err, "shows another key than the one in")
	_, err = connect(t.Context(), target.Connection{At: at, Secret: b.keys["p2"]})
	require.ErrorContains(t, err, "unable to authenticate")
}

// Files of others' making lead nowhere: no link is followed, and nothing in a folder where others write is touched.
func TestNothingIsTouchedBehindALink(t *testing.T) {
	b := newBench(t)
	b.root.Run("useradd -m mallory; rm -r /srv/notes; ln -s /etc /srv/notes; chown mallory '/srv/frames/raw it'\\''s'; " +
		"rm '/srv/frames/raw it'\\''s/a'; ln -s /etc/shadow '/srv/frames/raw it'\\''s/a'; " +
		"ln -sf /etc/shadow /opt/plans/old/d")
	before := b.root.Run("getfacl -p /etc /etc/shadow")
	g := b.load(strings.Replace(b.plain(), "on: [box,", "on: [box, everything,", 1))
	b.Push(g)
	assert.Equal(t, before, b.root.Run("getfacl -p /etc /etc/shadow"))
	snap, err := b.system.Read(t.Context())
	require.NoError(t, err)
	told := strings.Join(snap.State().Aside, "\n")
	assert.Contains(t, told, "/srv/notes is neither a folder nor a file")
	assert.Contains(t, told, "/opt/plans/old/d is neither a folder nor a file")
	assert.Contains(t, told, "/srv/frames/raw it's/a is in /srv/frames/raw it's, where others than root may write")
}

// Of two pushes at once one is refused; what changed meanwhile is noticed; what goes wrong in the middle is told, and
// the next push does the rest.
func TestWhatStandsAgainstAPushIsTold(t *testing.T) {
	b := newBench(t)
	g := b.load(b.plain())
	snap, err := b.system.Read(t.Context())
	require.NoError(t, err)
	plan := snap.Plan(b.Arrange(g, snap, nil))
	none := func(target.Snapshot) error { return nil }

	line, release, err := b.system.shell.hold(t.Context(), turn)
	require.NoError(t, err)
	require.Equal(t, "free", line)
	require.ErrorContains(t, b.system.Write(t.Context(), snap, plan, none), "another push is under way")
	release()

	b.root.Run("useradd -m somebody")
	require.ErrorIs(t, b.system.Write(t.Context(), snap, plan, none), target.ErrChanged)

	b.root.Run("mv /usr/sbin/visudo /usr/sbin/visudo.off 2>/dev/null || mount --bind /bin/false /usr/sbin/visudo")
	snap, err = b.system.Read(t.Context())
	require.NoError(t, err)
	plan = snap.Plan(b.Arrange(g, snap, nil))
	err = b.system.Write(t.Context(), snap, plan, none)
	require.ErrorIs(t, err, target.ErrPartly)
	assert.ErrorContains(t, err, commandsFile)
	b.root.Run(
		"mv /usr/sbin/visudo.off /usr/sbin/visudo 2>/dev/null || umount /usr/sbin/visudo; [ ! -e " + commandsFile + " ]",
	)
	rest := b.Push(g)
	assert.Less(t, len(rest.Statements), len(plan.Statements))
	_, _, wrong := b.Ask(g)
	assert.Empty(t, wrong)
}

// cutting ends a script after some of its bytes, as a connection does that is cut.
type cutting struct {
	local
	after int
}

func (c cutting) run(ctx context.Context, script string) ([]byte, error) {
	if strings.HasPrefix(script, steps) {
		l := c.local
		l.command = append(
			[]string{"/bin/sh", "-c", `head -c "$1" | { shift; exec "$@"; }`, "sh", strconv.Itoa(c.after)},
			l.command...)
		out, err := l.run(ctx, script)
		if err == nil {
			err = context.Canceled
		}
		return out, err
	}
	return c.local.run(ctx, script)
}

// A connection that is cut while a plan is sent leaves all as it was; the next push does it all.
func TestAPlanThatIsCutDoesNothing(t *testing.T) {
	b := newBench(t)
	g := b.load(b.plain())
	snap, err := b.system.Read(t.Context())
	require.NoError(t, err)
	plan := snap.Plan(b.Arrange(g, snap, nil))
	for after := 40; after < len(plan.Script); after += len(plan.Script) / 9 {
		cut := *b.system
		cut.shell = cutting{b.system.shell.(local), after}
		require.ErrorIs(t, cut.Write(t.Context(), snap, plan, func(target.Snapshot) error { return nil }), target.ErrPartly)
		is, err := b.system.Read(t.Context())
		require.NoError(t, err)
		require.Equal(t, snap.(*snapshot).key, is.(*snapshot).key, "cut after %d bytes", after)
	}
	b.Push(g)
}

// Nobody is let write in a folder inside which the policy lists something, though somebody else's write there keeps
// that from being touched.
func TestNobodyWritesWhereThePolicyListsSomethingInside(t *testing.T) {
	b := newBench(t)
	b.root.Run("chmod 755 /srv/notes")
	policy := func(more string) string {
		return "hidden-gate: 1\nedition: 2\nsystems: {box: {kind: server, resources: {srv/notes: {type: area}" + more +
			"}}}\npeople: {p0: {keys: " + b.public["p0"] + "}}\nroles: {writer: {allow: file.*}}\n" +
			"grants: {writes: {to: p0, role: writer, on: {in: 'box:srv/notes', exactly: true}}}\n"
	}
	g := b.load(policy(""))
	assert.Contains(t, targettest.Texts(b.Push(g)), "hgate-writes:rwx,m::rwx -- '/srv/notes'")
	_, _, wrong := b.Ask(g)
	require.Empty(t, wrong)

	g = b.load(policy(", srv/notes/c: {type: item}"))
	snap, err := b.system.Read(t.Context())
	require.NoError(t, err)
	plan := snap.Plan(b.Arrange(g, snap, nil))
	assert.NotContains(t, targettest.Texts(plan), "rwx,m::rwx -- '/srv/notes'")
	_ = b.system.Write(t.Context(), snap, plan, func(target.Snapshot) error { return nil })
	b.Push(g)
	_, _, wrong = b.Ask(g)
	require.Empty(t, wrong)
	b.root.Run("! runuser -u p0 -- rm -f /srv/notes/c; ! runuser -u p0 -- sh -c 'echo x >/srv/notes/c'; " +
		"[ \"$(cat /srv/notes/c)\" = text ]")
}
