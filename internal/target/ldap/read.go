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
	name string
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
	return &system{c, live, to.System}, nil
}

// Close ends what was reached.
func (s *system) Close() { s.conn.Close() }

// Read reads what there is, and who belongs to which group.
func (s *system) Read(ctx context.Context) (target.Snapshot, error) { return s.read(ctx) }

// listing are the attributes by which entries of some class list members ("groupOfNames" and "groupOfUniqueNames" of
// RFC 4519, "posixGroup" of RFC 2307).
var listing = []struct {
	class, attribute string
	byUser           bool
}{
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
	return snapshotOf(s.name, s.live, entries), nil
}

// snapshotOf puts together what was read.
func snapshotOf(system string, live directory.Live, entries []directory.Entry) *snapshot {
	s := &snapshot{system: system, self: told(live.User), people: map[string]*person{}}
	s.state.Places = append(s.state.Places, target.Place{Type: "directory"})
	// However a directory orders its answers, they come to the same.
	slices.SortFunc(entries, func(a, b directory.Entry) int { return cmp.Compare(told(a.DN), told(b.DN)) })
	var seen []string
	taken := map[string]bool{}
	for _, e := range entries {
		classes := map[string]bool{}
		for _, class := range e.Attributes["objectclass"] {
			classes[strings.ToLower(class)] = true
		}
		for _, name := range []string{"objectclass", "uid", "cn", "ou", "member", "uniquemember", "memberuid"} {
			values := slices.Sorted(slices.Values(e.Attributes[name]))
			seen = append(seen, fmt.Sprintf("%q %s %q", e.DN, name, values))
		}
		typ := ""
		at := slices.IndexFunc(listing, func(l struct {
			class, attribute string
			byUser           bool
		}) bool {
			return classes[l.class]
		})
		switch {
		case at >= 0:
			typ = "group"
		case classes["organizationalunit"]:
			typ = "unit"
		default:
			s.addPerson(e, taken)
			continue
		}
		path, named := pathOf(e.DN, live.Base)
		if path == "" && named { // the base itself
			continue
		}
		if !named || taken["/"+strings.ToLower(path)] {
			s.state.Unnamed = append(s.state.Unnamed, typ+" "+e.DN)
			continue
		}
		taken["/"+strings.ToLower(path)] = true
		if typ == "group" {
			l := listing[at]
			s.groups = append(s.groups, &group{e.DN, l.attribute, e.Attributes[strings.ToLower(l.attribute)],
				len(s.state.Places), l.byUser})
		}
		s.state.Places = append(s.state.Places, target.Place{Path: path, Type: typ})
	}
	sum := sha256.Sum256([]byte(strings.Join(seen, "\n")))
	s.key = hex.EncodeToString(sum[:])
	return s
}

// addPerson adds an account. A name that several entries have names nobody.
func (s *snapshot) addPerson(e directory.Entry, taken map[string]bool) {
	one := &person{dn: e.DN}
	if uids := e.Attributes["uid"]; len(uids) > 0 {
		one.uid = uids[0]
	}
	one.name = one.uid
	if cns := e.Attributes["cn"]; one.name == "" && len(cns) > 0 {
		one.name = cns[0]
	}
	if one.name == "" || taken[one.name] {
		s.state.Unnamed = append(s.state.Unnamed, "account "+e.DN)
		return
	}
	taken[one.name] = true
	s.people[one.name] = one
	s.state.Accounts = append(s.state.Accounts, target.Account{Name: one.name, Reserved: told(e.DN) == s.self})
}
