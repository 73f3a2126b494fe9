package mariadb

import (
	"slices"
	"strings"

	"hiddengate/internal/target"
)

// who is an account or a role, as MariaDB names them: a role has no host.
type who struct{ user, host string }

// public is the role that everybody has.
var public = who{user: "PUBLIC"}

// anyHost is the host of an account that may sign in from anywhere.
const anyHost = "%"

// name names an account: by its user alone where that tells it.
func (w who) name() string {
	if w.host == anyHost && !strings.Contains(w.user, "@") {
		return w.user
	}
	return w.user + "@" + w.host
}

// accountOf gives the account of a name.
func accountOf(name string) who {
	if at := strings.LastIndexByte(name, '@'); at >= 0 {
		return who{name[:at], name[at+1:]}
	}
	return who{name, anyHost}
}

// text writes an account or role for statements.
func (w who) text() string {
	if w == public {
		return public.user
	}
	if w.host == "" {
		return ident(w.user)
	}
	return ident(w.user) + "@" + ident(w.host)
}

// account is what is kept of one.
type account struct {
	locked   bool
	standard string // the role that it has when it signs in
	made     bool   // by hgate
	unset    bool   // nobody can sign in with it for want of a password
}

// held is a right that somebody has on an object.
type held struct {
	object int
	right  string
}

// columns ends a right that somebody has on some columns alone.
const columns = " on columns"

// snapshot is what a server had at a moment.
type snapshot struct {
	system   string
	state    target.State
	self     who // the account by which it was read
	objects  []object
	at       map[told]int
	accounts map[who]*account
	roles    map[string]bool
	in       map[who][]string // the roles of which somebody is a member
	acl      map[who]map[held]bool
	rows     map[who]map[int]bool // on which objects somebody has a right
	standing map[string][]who     // by user: whose rights in schemas may be theirs as well
	proxies  map[who][]string     // whom else an account may sign in as
	patterns map[int][]int        // by schema: the patterns that its name fits, the one that tells most first
	deciding []int                // what the schema fits that decides about everything, likewise
	key      string               // the same where all of it is
}

func newSnapshot(system string) *snapshot {
	return &snapshot{system: system, at: map[told]int{}, accounts: map[who]*account{}, roles: map[string]bool{},
		in: map[who][]string{}, acl: map[who]map[held]bool{}, rows: map[who]map[int]bool{},
		standing: map[string][]who{}, proxies: map[who][]string{}, patterns: map[int][]int{}}
}

// State tells what there is.
func (s *snapshot) State() *target.State { return &s.state }

// isHgates says whether a role is one that hgate made.
func (s *snapshot) isHgates(role string) bool { return strings.HasPrefix(role, mark(s.system)) }

// told is what tells objects apart.
type told struct {
	kind               kind
	schema, name, word string
}

func (o *object) told() told { return told{o.kind, o.schema, o.name, o.word} }

// add adds an object and gives its number; one that is there stays as it is.
func (s *snapshot) add(o object) int {
	n, known := s.at[o.told()]
	if !known {
		n = len(s.objects)
		s.at[o.told()] = n
		s.objects = append(s.objects, o)
	}
	return n
}

// blank is a server that has some places and gives nothing to anybody.
func blank(system string, of *target.State) *snapshot {
	s := newSnapshot(system)
	s.state = *of
	for _, p := range of.Places {
		o := objectOf(p)
		s.objects = append(s.objects, o)
		s.at[o.told()] = len(s.objects) - 1
	}
	return s
}

// alsoAs lists whose rights in schemas an account may have where it has none of its own there: MariaDB goes by the
// user, and by hosts as far as they fit, so that a pattern of hosts may stand for it.
func (s *snapshot) alsoAs(w who) (out []who) {
	for _, other := range s.standing[w.user] {
		if other != w && strings.ContainsAny(other.host, "%_/") {
			out = append(out, other)
		}
	}
	slices.SortFunc(out, func(a, b who) int { return compareSpecific(a.host, b.host) })
	return append(out, s.standing[""]...)
}

// sorted gives accounts and roles in order.
func sorted(some []who) []who {
	slices.SortFunc(some, func(a, b who) int {
		if d := strings.Compare(a.user, b.user); d != 0 {
			return d
		}
		return strings.Compare(a.host, b.host)
	})
	return some
}
