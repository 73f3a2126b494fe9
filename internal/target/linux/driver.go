// Package linux carries a policy to a server that runs Linux, and asks it. It speaks to the server's own shell, as
// root, here or over SSH. What is read of a server is never a command: whatever goes into a script is quoted, or is a
// name that needs no quotes.
package linux

import (
	"hiddengate/internal/target"
)

// The rights that are carried, by their places in Driver.Carries.Natives.
const (
	signingIn = iota
	superuser
	readingLogs
	restarting
	stopping
	restartingService
	stoppingService
	runningJob
	opening
	asService
	readingFolder
	writingFolder
	readingFile
	writingFile
)

var natives = []target.Native{
	signingIn: {Name: "shell", Types: []string{"host"}, Gives: []string{"host.sign-in", "host.copy"}},
	superuser: {Name: "every command as everybody", Types: []string{"host"},
		Gives: []string{"command.as-superuser"}, Unlimited: true},
	readingLogs:       {Name: "group " + logGroup, Types: []string{"host"}, Gives: []string{"log.view", "log.export"}},
	restarting:        {Name: "systemctl reboot", Types: []string{"host"}, Gives: []string{"host.restart"}},
	stopping:          {Name: "systemctl poweroff", Types: []string{"host"}, Gives: []string{"host.stop"}},
	restartingService: {Name: "systemctl restart", Types: []string{"service"}, Gives: []string{"service.restart"}},
	stoppingService: {Name: "systemctl stop, start and restart", Types: []string{"service"},
		Gives: []string{"service.restart", "service.stop"}},
	runningJob: {Name: "systemctl start", Types: []string{"job"}, Gives: []string{"job.run"}},
	opening:    {Name: "r-x on the program", Types: []string{"application"}, Gives: []string{"application.open"}},
	asService: {Name: "every command as its account", Types: []string{"application"},
		Gives: []string{"application.open", "application.manage", "command.as-service"}},
	readingFolder: {Name: "r-x on the folder", Types: []string{"area", "item"}, Gives: []string{"file.view", "file.read"}},
	writingFolder: {Name: "rwx on the folder", Types: []string{"area", "item"},
		Gives: []string{"file.view", "file.read", "file.write", "file.remove"}},
	readingFile: {Name: "r-- on the file", Types: []string{"item"}, Gives: []string{"file.read"}},
	writingFile: {Name: "rw- on the file", Types: []string{"item"}, Gives: []string{"file.read", "file.write"}},
}

const (
	logGroup = "adm" // whose members may read the logs
	oneByOne = "each of those that the policy lists is carried by itself"
	shown    = "Linux shows it to whoever signs in"
	rootDoes = "whoever does it can become root"
	byFolder = "whoever may list its folder sees it"
	inFolder = "whoever may write in its folder removes it"
	ownModes = "the folder is opened and closed as a whole, and to write in it where the policy lists nothing " +
		"inside; what the modes of its files close stays closed"
	asAccount = "it is carried for each application, as the account of its name"
)

// Driver is the driver for servers that run Linux.
var Driver = &target.Driver{
	Name:    "linux",
	About:   "a server that runs Linux, with its accounts, services, jobs, applications, folders and files",
	Kind:    "server",
	Address: "ssh://USER@HOST",
	Names: "A service is the unit of its last name, `NAME.service`; a job the timer `NAME.timer`; an application the " +
		"program `/usr/local/bin/NAME`, the account `NAME` of a service, or both. An area is a folder, and an item a file " +
		"or a folder: `srv/frames` is `/srv/frames`. They are carried under `/srv`, `/opt`, `/data`, `/mnt`, `/media`, " +
		"`/var/www` and `/var/opt`, where nobody but root can write in the folders above.",
	Carries: target.Carries{Natives: natives, Notes: notes()},
	Connect: connect,
	SignIn:  signIn,
	Blank:   func(to target.Connection, s *target.State) target.Snapshot { return blank(to, s) },
}

func notes() (out []target.Note) {
	add := func(how target.How, why string, types []string, operations ...string) {
		for _, o := range operations {
			out = append(out, target.Note{Operation: o, Types: types, How: how, Why: why})
		}
	}
	host := []string{"host"}
	add(target.ToEverybody, shown, nil, "host.view", "service.view", "job.view", "software.view", "account.view",
		"role.view", "settings.view")
	add(target.ToEverybody, byFolder, []string{"item"}, "file.view")
	add(target.Narrower, oneByOne, host, "service.restart", "service.stop", "job.run", "application.open",
		"application.manage", "file.view", "file.read", "file.write", "file.remove")
	add(target.Narrower, ownModes, []string{"area"}, "file.read", "file.write", "file.remove")
	add(target.NotCarried, inFolder, []string{"item"}, "file.remove")
	add(target.NotCarried, asAccount, host, "command.as-service")
	add(target.NotCarried, rootDoes, nil, "service.configure", "job.change", "settings.change", "software.update",
		"account.create", "account.alter", "account.remove", "account.set-password", "account.set-keys", "role.assign",
		"firewall.change")
	return out
}
