package linux

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"hiddengate/internal/target"
)

// changed tells which lines of a file come and go, and writes it whole: next to where it belongs, seen by a checker,
// and put in its place at once.
func (p *planning) changed(file, before, after, why string, of func(line string) []string, write string) {
	if before == after {
		return
	}
	was, is := linesOf(before), linesOf(after)
	told := len(p.plan.Statements)
	show := func(do target.Doing, line, why string, grants []string) {
		p.plan.Statements = append(p.plan.Statements,
			target.Statement{Do: do, Text: file + ": " + printable(line), Grants: grants, Why: why})
	}
	for _, line := range was {
		if !slices.Contains(is, line) {
			show(target.Remove, line, notGiven, nil)
		}
	}
	for _, line := range is {
		if !slices.Contains(was, line) && !strings.HasPrefix(line, "#") {
			show(target.Add, line, why, of(line))
		}
	}
	if len(p.plan.Statements) == told {
		show(target.Alter, "its lines in another order", why, nil)
	}
	fmt.Fprintf(&p.script, "step %d\n%s\n", len(p.plan.Statements), write)
}

func linesOf(text string) []string {
	if text == "" {
		return nil
	}
	return strings.Split(strings.TrimSuffix(text, "\n"), "\n")
}

func printable(line string) string {
	return strings.Map(func(r rune) rune {
		if unprintable(r) {
			return '?'
		}
		return r
	}, line)
}

// placed is a part of a script that puts a file in its place, if a checker has nothing against it. The text stands in
// the script as one quoted word.
func placed(file, mode, text, check string) string {
	next := path.Dir(file) + "/.hgate-new" // which nothing reads
	return fmt.Sprintf("rm -f %[1]s\nprintf %%s %[2]s >%[1]s\nchmod %[3]s %[1]s\n%[4]s\nmv -f %[1]s %[5]s", next,
		quote(text), mode, strings.ReplaceAll(check, "FILE", next), file)
}

func (p *planning) keyFiles() {
	want := map[string]*wish{}
	for _, w := range p.wishes {
		if !w.free && len(w.keys) > 0 {
			want[w.name] = w
		}
	}
	names := sorted(p.keys)
	for name := range want {
		if _, there := p.keys[name]; !there {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	first := true
	for _, name := range names {
		text, grants := "", []string(nil)
		if w := want[name]; w != nil {
			text, grants = strings.Join(w.keys, "\n")+"\n", w.grants
		}
		file := keysIn + "/" + name
		write := "rm -f " + file
		if text != "" {
			write = placed(file, "0644", text, ":")
		}
		if first {
			write = "install -d -m 0755 " + keysIn + "\n" + write
		}
		first = first && p.keys[name] == text
		p.changed(file, p.keys[name], text, ofKeys, func(string) []string { return grants }, write)
	}
}

// signInFile sees that whoever is in hgate's care signs in with the keys that it wrote, and with no others.
func (p *planning) signInFile() {
	if len(p.wishes) == 0 || !p.hasSSH {
		return
	}
	p.changed(signInFile, p.signIn, signInRules, ofKeys, func(string) []string { return nil },
		placed(signInFile, "0644", signInRules, "sshd -t -f FILE")+"\n"+
			"case $(sshd -T -C user="+p.anyCared()+",host=localhost,addr=127.0.0.1) in *"+keysIn+"*) ;; *)\n"+
			"rm -f "+signInFile+"; echo 'sshd does not read "+signInFile+
			": let its sshd_config begin with Include /etc/ssh/sshd_config.d/*.conf' >&2; exit 1 ;; esac\n"+
			"systemctl reload ssh 2>/dev/null || systemctl reload sshd 2>/dev/null || "+
			"{ [ ! -f /run/sshd.pid ] || kill -HUP \"$(cat /run/sshd.pid)\"; }")
}

// anyCared names an account in hgate's care.
func (p *planning) anyCared() string {
	for _, w := range p.wishes {
		if !w.free {
			return w.name
		}
	}
	return care
}

func (p *planning) commandFile() {
	lines := p.commandLines(p.a, p.wishes)
	if !p.hasSudo {
		if len(lines) > 0 {
			p.plan.Left = append(p.plan.Left, "sudo is not there, and so nobody may run commands as others")
		}
		return
	}
	after := ""
	if len(p.wishes) > 0 {
		after = commandsText(lines)
	}
	write := "rm -f " + commandsFile
	if after != "" {
		write = placed(commandsFile, "0440", after, "visudo -q -c -f FILE")
	}
	p.changed(commandsFile, p.commands, after, ofCare, func(line string) []string {
		for _, l := range lines {
			if l.text == line {
				return l.grants
			}
		}
		return nil
	}, write)
}

// accessLists sees that each folder and file gives those in the policy's care what the policy gives, and no more:
// their group has nothing there, so that what others have is not theirs.
func (p *planning) accessLists() {
	all := p.wantedLists()
	for place := range p.state.Places {
		if f := p.files[place]; f != nil && p.a.Listed(place) {
			p.accessList(f, all[place])
		}
	}
}

// wanted is what an access list has to hold of hgate's, by the name of a group or account.
type wanted struct {
	groups, users map[string]perms
	grants        []string
}

// wantedLists says what the access list of each place has to hold.
func (p *planning) wantedLists() map[int]*wanted {
	out := map[int]*wanted{}
	for place := range p.files {
		out[place] = &wanted{groups: map[string]perms{}, users: map[string]perms{}}
		if len(p.wishes) > 0 {
			out[place].groups[care] = 0
		}
	}
	folders := p.folders()
	needed := map[string]bool{}
	for _, w := range p.wishes {
		for _, g := range w.groups {
			needed[g] = needed[g] || !w.free
		}
	}
	// of goes through the places on which a right is something, and the folders above, which its holder passes through.
	of := func(x target.Right, do func(place int, has perms)) {
		f := p.files[x.Place]
		if f == nil || permsOf[x.Native] == 0 {
			return
		}
		do(x.Place, permsOf[x.Native])
		if p.a.Listed(x.Place) {
			for _, up := range folders.above(f.path) {
				do(up, 1)
			}
		}
	}
	byRole := map[string]map[int]perms{}
	for _, r := range p.a.Roles {
		byRole[r.Grant] = map[int]perms{}
		for _, x := range r.Rights {
			of(x, func(place int, has perms) {
				byRole[r.Grant][place] |= has
				if needed[groupOf(r.Grant)] {
					out[place].groups[groupOf(r.Grant)] |= has
				}
				if place == x.Place {
					out[place].grants = append(out[place].grants, r.Grant)
				}
			})
		}
	}
	for _, w := range p.wishes {
		if w.holder == nil || w.closed {
			continue
		}
		for _, x := range p.a.Direct[w.name] {
			of(x.Right, func(place int, has perms) {
				out[place].users[w.name] |= has
				if place == x.Place {
					out[place].grants = append(out[place].grants, x.Grants...)
				}
			})
		}
		for _, r := range p.a.RolesOf(w.name) { // an entry of an account counts alone
			for place, has := range byRole[r.Grant] {
				if _, ok := out[place].users[w.name]; ok {
					out[place].users[w.name] |= has
				}
			}
		}
	}
	for _, one := range out {
		slices.Sort(one.grants)
		one.grants = slices.Compact(one.grants)
	}
	return out
}

func (p *planning) accessList(f *file, want *wanted) {
	if owner := p.accountNumbered(f.uid); owner != nil && p.cared[owner.name] {
		p.tell(target.Alter, nil, owner.name+" owns it, and whoever owns it can do all with it",
			"chown --no-dereference root -- %s", quote(f.path))
	}
	if g := p.groupNumbered(f.gid); g != nil && p.first[g.gid] {
		p.tell(target.Alter, nil, g.name+" owns it, and is the group of somebody in the policy's care",
			"chgrp --no-dereference root -- %s", quote(f.path))
	}
	var gone, come []string
	var mask perms
	for _, e := range f.entries {
		switch {
		case e.id < 0 && e.tag == "group":
			mask |= e.perms
		case e.id < 0:
		case e.tag == "user":
			who := p.accountNumbered(e.id)
			if who != nil && p.cared[who.name] {
				if _, stays := want.users[who.name]; !stays {
					gone = append(gone, "u:"+who.name)
				}
				continue
			}
			mask |= e.perms
		case e.tag == "group":
			g := p.groupNumbered(e.id)
			ours := g != nil && (g.name == care || strings.HasPrefix(g.name, care+"-"))
			if ours || g != nil && p.first[g.gid] {
				if _, stays := want.groups[g.name]; !stays {
					gone = append(gone, "g:"+entryName(g))
				}
				continue
			}
			mask |= e.perms
		}
	}
	old, masked := f.entryOf("mask", -1)
	for _, name := range sorted(want.groups) {
		mask |= want.groups[name]
		if g := p.groups[name]; g != nil {
			if has, there := f.entryOf("group", g.gid); there && has == want.groups[name] {
				continue
			}
		}
		come = append(come, "g:"+name+":"+want.groups[name].String())
	}
	for _, name := range sorted(want.users) {
		mask |= want.users[name]
		if acc := p.accounts[name]; acc != nil {
			if has, there := f.entryOf("user", acc.uid); there && has == want.users[name] {
				continue
			}
		}
		come = append(come, "u:"+name+":"+want.users[name].String())
	}
	if masked && old&mask == mask {
		mask = old
	}
	if len(gone)+len(come) == 0 && (len(want.groups)+len(want.users) == 0 || masked && old == mask) {
		return
	}
	text := "setfacl -n -P"
	if len(gone) > 0 {
		text += " -x " + strings.Join(gone, ",")
	}
	text += " -m " + strings.Join(append(come, "m::"+mask.String()), ",")
	do := target.Alter
	switch {
	case len(gone) == 0 && len(want.grants) > 0:
		do = target.Add
	case len(come) == 0 && len(gone) > 0:
		do = target.Remove
	}
	why := ofCare
	if do == target.Remove {
		why = notGiven
	}
	p.tell(do, want.grants, why, "%s -- %s", text, quote(f.path))
}

// entryName writes a group as an entry of an access list does: by its number, if its name needs quotes.
func entryName(g *group) string {
	if accountName.MatchString(g.name) {
		return g.name
	}
	return strconv.Itoa(g.gid)
}
