package linux

import (
	"slices"

	"hiddengate/internal/target"
)

// What hgate has on a server. Whoever is in the group of care is in the policy's care: their keys are those of keysIn,
// and the last rules of commandsFile say what they may run as others.
const (
	care         = "hgate"
	mark         = "Made by hgate" // the full name of accounts that hgate made
	keysIn       = "/etc/ssh/hgate"
	signInFile   = "/etc/ssh/sshd_config.d/hgate.conf"
	commandsFile = "/etc/sudoers.d/zz-hgate" // the last in its folder, whose rules count
	programsIn   = "/usr/local/bin"
	control      = "/usr/bin/systemctl"
	noShell      = "/usr/sbin/nologin"
	plainShell   = "/bin/sh"
)

// signInRules are what signInFile says.
const signInRules = "# Made by hgate. Whoever is in the policy's care signs in with the keys that the policy has.\n" +
	"Match Group " + care + "\n" +
	"    AuthorizedKeysFile " + keysIn + "/%u\n" +
	"    AuthorizedKeysCommand none\n"

// password is what sort of password an account has.
type password string

// None that fits; a password; one that is locked; none where a lock would leave none; no password is needed.
const (
	noPassword  password = "none"
	hasPassword password = "set"
	locked      password = "locked"
	shutForGood password = "shut"
	needsNone   password = "empty"
)

// account is an account of the server.
type account struct {
	name        string
	uid, gid    int
	made        bool
	shell, home string
	password    password
	expires     int // the first day on which it is closed, counted from 1970; -1 for never
	homeKeys    bool
	rules       []rule
}

// person says whether it may be in the policy's care: neither root's nor a service's. Whoever has root's number and
// another name may: it is a slip that has to be told.
func (a *account) person() bool {
	return accountName.MatchString(a.name) && a.name != "root" &&
		(a.uid == 0 || a.uid >= firstPerson && a.uid <= lastPerson)
}

// The numbers that accounts of persons have (login.defs(5): UID_MIN and UID_MAX).
const (
	firstPerson = 1000
	lastPerson  = 60000
)

// group is a group of the server.
type group struct {
	name    string
	gid     int
	members []string
}

// file is a folder or file on which rights are had.
type file struct {
	path     string
	folder   bool
	uid, gid int
	entries  []entry
}

// entry is one of an access list: of the owner, a user, the owning group, a group, the mask or others (acl(5)).
type entry struct {
	tag   string // user, group, mask, other
	id    int    // -1 for the owner and the owning group
	perms perms
}

// perms are rights on a file: 4 reading, 2 writing, 1 executing.
type perms int

func (p perms) String() string {
	out := []byte("---")
	for i, c := range "rwx" {
		if p&(4>>i) != 0 {
			out[i] = byte(c)
		}
	}
	return string(out)
}

// entryOf finds an entry; false if there is none.
func (f *file) entryOf(tag string, id int) (perms, bool) {
	for _, e := range f.entries {
		if e.tag == tag && e.id == id {
			return e.perms, true
		}
	}
	return 0, false
}

// snapshot is what a server had at a moment.
type snapshot struct {
	system   string
	self     string // the account by which it was read
	state    target.State
	accounts map[string]*account
	groups   map[string]*group
	files    map[int]*file  // by place
	programs map[int]string // by place: the service, job, application or account it is
	commands string         // what commandsFile says
	signIn   string         // what signInFile says
	hasSSH   bool
	hasSudo  bool
	keys     map[string]string // what the files of keysIn say, by account
	blank    bool              // it is none that was read
	today    int               // counted from 1970
	key      string            // the same where all of it is
	byUID    map[int]*account
	byGid    map[int]*group
}

func (s *snapshot) State() *target.State { return &s.state }

// memberOf says whether an account is in a group, by its first group too.
func (s *snapshot) memberOf(a *account, name string) bool {
	g := s.groups[name]
	return g != nil && (a.gid == g.gid || slices.Contains(g.members, a.name))
}

// groupNumbered finds a group by its number; nil if there is none.
func (s *snapshot) groupNumbered(gid int) *group {
	if s.byGid == nil {
		s.byGid = map[int]*group{}
		for _, name := range sorted(s.groups) {
			if g := s.groups[name]; s.byGid[g.gid] == nil {
				s.byGid[g.gid] = g
			}
		}
	}
	return s.byGid[gid]
}

// accountNumbered finds an account by its number; nil if there is none.
func (s *snapshot) accountNumbered(uid int) *account {
	if s.byUID == nil {
		s.byUID = map[int]*account{}
		if root := s.accounts["root"]; root != nil { // whoever else has its number
			s.byUID[root.uid] = root
		}
		for _, name := range sorted(s.accounts) {
			if a := s.accounts[name]; s.byUID[a.uid] == nil {
				s.byUID[a.uid] = a
			}
		}
	}
	return s.byUID[uid]
}

// usual is what a folder or program gives as it is installed.
var usual = []entry{{"user", -1, 7}, {"group", -1, 5}, {"other", -1, 5}}

// blank is a server that has some places and gives nothing to anybody.
func blank(to target.Connection, of *target.State) *snapshot {
	s := &snapshot{system: to.System, accounts: map[string]*account{}, groups: map[string]*group{}, files: map[int]*file{},
		programs: map[int]string{}, keys: map[string]string{}, hasSSH: true, hasSudo: true, blank: true}
	s.state.Accounts, s.state.Unnamed = of.Accounts, of.Unnamed
	for _, p := range of.Places {
		s.addListed(p, func(path string) *file {
			return &file{path: path, folder: p.Type == "area", entries: usual}
		})
	}
	s.groups[logGroup] = &group{name: logGroup, gid: 4}
	s.closeOuter(of.Places)
	return s
}
