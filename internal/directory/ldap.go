package directory

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"
)

// ReadLDIF reads people and groups from LDIF (RFC 2849): inetOrgPerson (RFC 2798) and account entries are people,
// groups of names and posix groups groups.
func ReadLDIF(in io.Reader, m Map) (*People, error) {
	entries, err := parseLDIF(in)
	if err != nil {
		return nil, err
	}
	return ofEntries(entries, m)
}

// Live says how to reach an LDAP directory (RFC 4511).
type Live struct {
	URL      string // ldap://host:port or ldaps://host:port
	Base     string
	Filter   string // "" for people and groups
	User     string // a DN; "" is anonymous
	Password string
	CA       []byte // PEM certificates to trust instead of the system's
	Plain    bool   // without TLS
}

// page is how many entries are asked for at a time (RFC 2696).
const page = 500

// How long a directory may take to be reached, and for each answer; tests have less patience.
var (
	patienceToReach  = 15 * time.Second
	patienceToAnswer = 60 * time.Second
)

func init() { ber.MaxPacketLengthBytes = 64 << 20 } // no answer makes the program ask for more memory at once

// Address reads the address of a directory. It is never repeated in an error: it may hold a password.
func (from Live) Address() (*url.URL, error) {
	u, err := url.Parse(from.URL)
	switch {
	case err != nil || u.Scheme != "ldap" && u.Scheme != "ldaps" || u.Hostname() == "":
		return nil, errors.New("this is no address of a directory: write ldaps://host or ldap://host:389")
	case u.User != nil:
		return nil,
			errors.New("the address of the directory holds a user or a password, where others can read it: name the user with " +
				"--user, and give the password as the help says")
	case u.Path != "" && u.Path != "/" || u.RawQuery != "" || u.Fragment != "":
		return nil,
			errors.New("the address of a directory is a host and a port alone; what to search is said by --base and --filter")
	}
	return u, nil
}

// ReadLDAP reads people and groups from a directory.
func ReadLDAP(ctx context.Context, from Live, m Map) (*People, error) {
	c, err := from.Open(ctx)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	defer context.AfterFunc(ctx, func() { c.Close() })()
	entries, err := search(c, from, m)
	if err != nil {
		return nil, fmt.Errorf("searching %s: %w", from.Base, err)
	}
	return ofEntries(entries, m)
}

// Open reaches a directory and signs in. Unless it is told otherwise it speaks TLS, by ldaps or StartTLS.
func (from Live) Open(ctx context.Context) (*ldap.Conn, error) {
	u, err := from.Address()
	if err != nil {
		return nil, err
	}
	trust := &tls.Config{ServerName: u.Hostname(), MinVersion: tls.VersionTLS12}
	if from.CA != nil {
		trust.RootCAs = x509.NewCertPool()
		if !trust.RootCAs.AppendCertsFromPEM(from.CA) {
			return nil, errors.New("the file of certificates holds none")
		}
	}
	c, err := reach(ctx, u, trust)
	if err != nil {
		return nil, err
	}
	c.SetTimeout(patienceToAnswer)
	stop := context.AfterFunc(ctx, func() { c.Close() })
	defer stop()
	if u.Scheme == "ldap" && !from.Plain {
		if err := c.StartTLS(trust); err != nil {
			c.Close()
			return nil, fmt.Errorf("the directory does not start TLS: %w", err)
		}
	}
	if from.User != "" {
		if err := c.Bind(from.User, from.Password); err != nil {
			c.Close()
			return nil, fmt.Errorf("signing in as %s: %w", from.User, err)
		}
	}
	return c, nil
}

// Entry is an entry of a directory as it stands there. Attributes are named in small letters.
type Entry struct {
	DN         string
	Attributes map[string][]string
}

// Entries reads the people, groups and units of a directory that has been reached.
func (from Live) Entries(c *ldap.Conn) ([]Entry, error) {
	from.Filter = "(|(objectClass=person)(objectClass=account)(objectClass=groupOfNames)" +
		"(objectClass=groupOfUniqueNames)(objectClass=posixGroup)(objectClass=organizationalUnit))"
	found, err := search(c, from, Map{"unit": "ou"})
	if err != nil {
		return nil, fmt.Errorf("searching %s: %w", from.Base, err)
	}
	out := make([]Entry, len(found))
	for i, e := range found {
		out[i] = Entry{e.dn, e.values}
	}
	return out, nil
}

// reach connects to a directory. What it says is bounded, all in all.
func reach(ctx context.Context, u *url.URL, trust *tls.Config) (*ldap.Conn, error) {
	port := cmp.Or(u.Port(), map[string]string{"ldap": "389", "ldaps": "636"}[u.Scheme])
	toReach := &net.Dialer{Timeout: patienceToReach}
	wire, err := toReach.DialContext(ctx, "tcp", net.JoinHostPort(u.Hostname(), port))
	if err != nil {
		return nil, err
	}
	wire = &bounded{Conn: wire, left: MaxSource}
	if u.Scheme == "ldaps" {
		secure := tls.Client(wire, trust)
		_ = secure.SetDeadline(time.Now().Add(patienceToReach))
		if err := secure.HandshakeContext(ctx); err != nil {
			wire.Close()
			return nil, err
		}
		_ = secure.SetDeadline(time.Time{})
		wire = secure
	}
	c := ldap.NewConn(wire, u.Scheme == "ldaps")
	c.Start()
	return c, nil
}

// bounded is a connection that ends after so many bytes.
type bounded struct {
	net.Conn
	left int64
}

func (b *bounded) Read(to []byte) (int, error) {
	if b.left <= 0 {
		return 0, fmt.Errorf("the directory says more than %d bytes", MaxSource)
	}
	n, err := b.Conn.Read(to[:min(int64(len(to)), b.left)])
	b.left -= int64(n)
	return n, err
}

// search asks for people and groups, page by page, and for the attributes that are read alone.
func search(c *ldap.Conn, from Live, m Map) (out []*entry, err error) {
	filter := cmp.Or(from.Filter,
		"(|(objectClass=person)(objectClass=account)"+
			"(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=posixGroup))")
	wanted := []string{"objectClass", "cn", "uid", "displayName", "mail", "description", "member", "uniqueMember",
		"memberUid"}
	for _, attribute := range m {
		wanted = append(wanted, attribute)
	}
	slices.Sort(wanted)
	paging := ldap.NewControlPaging(page)
	for {
		found, err := c.Search(ldap.NewSearchRequest(from.Base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false,
			filter, slices.Compact(wanted), []ldap.Control{paging}))
		if err != nil {
			return nil, err
		}
		if len(found.Referrals) > 0 {
			return nil,
				fmt.Errorf("part of it is in another directory (%s), which is not asked: import that by itself, and narrow --base",
					found.Referrals[0])
		}
		for _, e := range found.Entries {
			one := newEntry(e.DN)
			for _, a := range e.Attributes {
				one.add(a.Name, a.Values...)
			}
			if out = append(out, one); len(out) > MaxEntries {
				return nil, fmt.Errorf("it holds more than %d entries", MaxEntries)
			}
		}
		answer, _ := ldap.FindControl(found.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
		if answer == nil || len(answer.Cookie) == 0 {
			return out, nil
		}
		paging.SetCookie(answer.Cookie)
	}
}

var (
	personClasses = []string{"person", "organizationalperson", "inetorgperson", "account", "posixaccount"}
	groupClasses  = []string{"groupofnames", "groupofuniquenames", "posixgroup"}
)

func is(e *entry, classes []string) bool {
	return slices.ContainsFunc(e.all("objectClass"),
		func(c string) bool { return slices.Contains(classes, strings.ToLower(c)) })
}

// ofEntries makes people and groups of a directory's entries.
func ofEntries(entries []*entry, m Map) (*People, error) {
	out := &People{}
	ids := map[string]string{} // by distinguished name
	dn := func(text string) string {
		if parsed, err := ldap.ParseDN(text); err == nil {
			return strings.ToLower(parsed.String())
		}
		return strings.ToLower(text)
	}
	groups := map[string]int{}
	for _, e := range entries {
		get := func(key string, otherwise ...string) string {
			if a, ok := m[key]; ok {
				otherwise = []string{a}
			}
			for _, a := range otherwise {
				if v := e.first(a); v != "" {
					return v
				}
			}
			return ""
		}
		switch {
		case is(e, groupClasses):
			id := groupID(get("group", "cn"))
			groups[id] = len(out.Groups)
			ids[dn(e.dn)] = "group:" + id
			out.Groups = append(out.Groups, Group{ID: id, About: get("about", "description")})
		case is(e, personClasses):
			one := Person{
				ID: ID(get("id", "uid", "cn")), Name: get("name", "displayName"), Email: get("email", "mail"),
				Tags: map[string]string{},
			}
			if _, mapped := m["name"]; one.Name == "" && !mapped && e.first("cn") != one.ID {
				one.Name = e.first("cn") // which is the id where there is no name
			}
			for _, text := range e.all("description") {
				if pair, is := strings.CutPrefix(text, ownMark); is {
					one.takeOwn(pair)
				}
			}
			for tag, attribute := range m.tags() {
				if v := e.first(attribute); v != "" {
					one.Tags[tag] = v
				}
			}
			for key, to := range map[string]*string{"status": &one.Status, "starts": &one.Starts, "ends": &one.Ends} {
				if v := get(key); v != "" {
					*to = v
				}
			}
			ids[dn(e.dn)] = one.ID
			out.People = append(out.People, one)
		}
	}
	for _, e := range entries {
		if !is(e, groupClasses) {
			continue
		}
		id := strings.TrimPrefix(ids[dn(e.dn)], "group:")
		for _, attribute := range []string{"member", "uniqueMember"} {
			for _, name := range e.all(attribute) {
				if member := ids[dn(name)]; member != "" { // others lie outside of what was asked for
					out.join(id, member, groups)
				}
			}
		}
		for _, uid := range e.all("memberUid") {
			out.join(id, ID(uid), groups)
		}
	}
	if err := m.met(func(attribute string) bool {
		return len(entries) == 0 || slices.ContainsFunc(entries, func(e *entry) bool { return e.all(attribute) != nil })
	}); err != nil {
		return nil, err
	}
	known := map[string]bool{}
	for _, p := range out.People {
		known[p.ID] = true
	}
	for i := range out.Groups {
		out.Groups[i].Members = slices.DeleteFunc(out.Groups[i].Members,
			func(name string) bool { return !strings.HasPrefix(name, "group:") && !known[name] })
	}
	return out, out.finish()
}

// WriteLDIF writes people and groups as ReadLDIF reads them, below a base. What there is no attribute for is told in
// descriptions.
func WriteLDIF(out io.Writer, p *People, base string) error {
	var entries []*entry
	add := func(dn string, attributes ...string) {
		e := newEntry(dn)
		for i := 0; i+1 < len(attributes); i += 2 {
			if attributes[i+1] != "" {
				e.add(attributes[i], attributes[i+1])
			}
		}
		entries = append(entries, e)
	}
	person := func(id string) string { return "uid=" + ldap.EscapeDN(id) + ",ou=people," + base }
	for _, one := range p.People {
		name := cmp.Or(one.Name, one.ID)
		family := name // an inetOrgPerson has one
		if words := strings.Fields(name); len(words) > 0 {
			family = words[len(words)-1]
		}
		attributes := []string{"objectClass", "inetOrgPerson", "uid", one.ID, "cn", name, "sn", family, "mail", one.Email}
		if one.Name != "" {
			attributes = append(attributes, "displayName", one.Name)
		}
		for _, pair := range own(one) {
			attributes = append(attributes, "description", ownMark+pair)
		}
		add(person(one.ID), attributes...)
	}
	for _, g := range p.Groups {
		if len(g.Members) == 0 {
			continue // a group of names has one at least
		}
		attributes := []string{"objectClass", "groupOfNames", "cn", g.ID, "description", g.About}
		for _, id := range g.Members {
			attributes = append(attributes, "member", person(id))
		}
		add("cn="+ldap.EscapeDN(g.ID)+",ou=groups,"+base, attributes...)
	}
	return writeLDIF(out, entries)
}

// ownMark begins a description that says what has no attribute of its own.
const ownMark = "hidden-gate "

// own lists what has no attribute of its own: status, starts, ends and tags, as key=value.
func own(one Person) (out []string) {
	for key, value := range map[string]string{"status": one.Status, "starts": one.Starts, "ends": one.Ends} {
		if value != "" {
			out = append(out, key+"="+value)
		}
	}
	for k, v := range one.Tags {
		out = append(out, "tag."+url.QueryEscape(k)+"="+v)
	}
	slices.Sort(out)
	return out
}

// takeOwn reads what own lists.
func (one *Person) takeOwn(pair string) {
	key, value, _ := strings.Cut(pair, "=")
	switch tag, isTag := strings.CutPrefix(key, "tag."); {
	case isTag && tag != "":
		if name, err := url.QueryUnescape(tag); err == nil {
			one.Tags[name] = value
		}
	case key == "status":
		one.Status = value
	case key == "starts":
		one.Starts = value
	case key == "ends":
		one.Ends = value
	}
}
