package ldap

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"hiddengate/internal/directory"
	"hiddengate/internal/target"
)

// system is a directory that has been reached.
type system struct {
	conn *ldap.Conn
	live directory.Live
}

// connect reaches a directory.
func connect(ctx context.Context, to target.Connection) (target.System, error) {
	live, err := liveOf(to.At, to.Secret)
	if err != nil {
		return nil, err
	}
	c, err := live.Open(ctx)
	if err != nil {
		return nil, err
	}
	return &system{c, live}, nil
}

// Close ends what was reached.
func (s *system) Close() { s.conn.Close() }

// Read reads what there is, and who belongs to which group.
func (s *system) Read(ctx context.Context) (target.Snapshot, error) { return s.read(ctx) }

// list is how entries of a class list members.
type list struct {
	class, attribute string
	byUser           bool
}

// listing are the attributes by which entries of some class list members ("groupOfNames" and "groupOfUniqueNames" of
// RFC 4519, "posixGroup" of RFC 2307).
var listing = []list{
	{"groupofnames", memberAttribute, false},
	{"groupofuniquenames", "uniqueMember", false},
	{"posixgroup", "memberUid", true},
}

func (s *system) read(ctx context.Context) (*snapshot, error) {
	defer context.AfterFunc(ctx, func() { s.conn.Close() })()
	entries, err := s.live.Entries(s.conn)
	if err != nil {
		return nil, err
	}
	return snapshotOf(s.live, entries), nil
}

// snapshotOf puts together what was read. What several entries are named by names none of them: whoever may make an
// entry somewhere cannot take another's place.
func snapshotOf(live directory.Live, entries []directory.Entry) *snapshot {
	s := &snapshot{self: told(live.User), people: map[string]*person{}}
	s.state.Places = append(s.state.Places, target.Place{Type: "directory"})
	// However a directory orders its answers, they come to the same.
	slices.SortFunc(entries, func(a, b directory.Entry) int { return cmp.Compare(a.DN, b.DN) })
	all := make([]named, len(entries))
	count := map[string]int{}
	var seen []string
	for i, e := range entries {
		for _, name := range []string{"objectclass", "uid", "cn", "ou", "member", "uniquemember", "memberuid"} {
			values := slices.Sorted(slices.Values(e.Attributes[name]))
			seen = append(seen, fmt.Sprintf("%q %s %q", e.DN, name, values))
		}
		all[i] = nameEntry(e, live.Base)
		count[all[i].told()]++
	}
	for i, one := range all {
		switch {
		case one.isBase:
		case one.name == "" || count[one.told()] > 1:
			s.state.Unnamed = append(s.state.Unnamed, one.typ+" "+entries[i].DN)
		default:
			s.add(entries[i], one)
		}
	}
	sum := sha256.Sum256([]byte(strings.Join(seen, "\n")))
	s.key = hex.EncodeToString(sum[:])
	return s
}

// named is what an entry is, and its name: a path, or that of an account.
type named struct {
	typ, name string
	list      int  // in listing, for a group
	isBase    bool // it is where the directory begins
}

// told is what tells its name from others, which a directory does not by their letters' size.
func (n named) told() string {
	if n.typ == "account" {
		return strings.ToLower(n.name)
	}
	return "/" + strings.ToLower(n.name)
}

func nameEntry(e directory.Entry, base string) named {
	classes := map[string]bool{}
	for _, class := range e.Attributes["objectclass"] {
		classes[strings.ToLower(class)] = true
	}
	one := named{typ: "account", list: slices.IndexFunc(listing, func(l list) bool { return classes[l.class] })}
	switch {
	case one.list >= 0:
		one.typ = "group"
	case classes["organizationalunit"]:
		one.typ = "unit"
	default:
		one.name = accountName(e)
		return one
	}
	if one.isBase = told(e.DN) == told(base); !one.isBase {
		one.name, _ = pathOf(e.DN, base)
	}
	return one
}

// accountName is the uid of a person's entry, or its cn where it has none: that by which the entry itself is named
// where it has several, which its owner is the least likely to change.
func accountName(e directory.Entry) string {
	parsed, err := ldap.ParseDN(e.DN)
	if err != nil || len(parsed.RDNs) == 0 {
		return ""
	}
	for _, attribute := range []string{"uid", "cn"} {
		for _, is := range parsed.RDNs[0].Attributes {
			if strings.EqualFold(is.Type, attribute) {
				return is.Value
			}
		}
		switch values := e.Attributes[attribute]; len(values) {
		case 0:
		case 1:
			return values[0]
		default:
			return ""
		}
	}
	return ""
}

// add adds an entry that has a name of its own.
func (s *snapshot) add(e directory.Entry, one named) {
	if one.typ != "account" {
		if one.typ == "group" {
			l := listing[one.list]
			s.groups = append(s.groups, newGroup(e.DN, l, e.Attributes[strings.ToLower(l.attribute)],
				len(s.state.Places)))
		}
		s.state.Places = append(s.state.Places, target.Place{Path: one.name, Type: one.typ})
		return
	}
	p := &person{name: one.name, dn: e.DN, told: told(e.DN)}
	if slices.Contains(e.Attributes["uid"], one.name) {
		p.uid = one.name
	}
	s.people[one.name] = p
	s.state.Accounts = append(s.state.Accounts, target.Account{Name: one.name, Reserved: p.told == s.self})
}
