package directory

import (
	"cmp"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"
	"github.com/go-ldap/ldif"
)

// ReadLDIF reads people and groups from LDIF (RFC 2849): inetOrgPerson (RFC 2798) and account entries are people, groups of names and posix groups groups.
func ReadLDIF(in io.Reader, m Map) (*People, error) {
	text, err := io.ReadAll(in)
	if err != nil {
		return nil, err
	}
	parsed, err := ldif.Parse(string(text))
	if err != nil {
		return nil, fmt.Errorf("this is not LDIF: %w", err)
	}
	return ofEntries(parsed.AllEntries(), m)
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

// ReadLDAP reads people and groups from a directory. Unless it is told otherwise it speaks TLS, by ldaps or StartTLS.
func ReadLDAP(from Live, m Map) (*People, error) {
	u, err := url.Parse(from.URL)
	if err != nil || u.Scheme != "ldap" && u.Scheme != "ldaps" || u.Hostname() == "" {
		return nil, fmt.Errorf("%q is no address of a directory: write ldaps://host or ldap://host:389", from.URL)
	}
	trust := &tls.Config{ServerName: u.Hostname(), MinVersion: tls.VersionTLS12}
	if from.CA != nil {
		trust.RootCAs = x509.NewCertPool()
		if !trust.RootCAs.AppendCertsFromPEM(from.CA) {
			return nil, errors.New("the file of certificates holds none")
		}
	}
	c, err := ldap.DialURL(from.URL, ldap.DialWithTLSConfig(trust))
	if err != nil {
		return nil, err
	}
	defer c.Close()
	if u.Scheme == "ldap" && !from.Plain {
		if err := c.StartTLS(trust); err != nil {
			return nil, fmt.Errorf("the directory does not start TLS: %w", err)
		}
	}
	if from.User != "" {
		if err := c.Bind(from.User, from.Password); err != nil {
			return nil, fmt.Errorf("signing in as %s: %w", from.User, err)
		}
	}
	filter := cmp.Or(from.Filter, "(|(objectClass=person)(objectClass=account)(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=posixGroup))")
	found, err := c.SearchWithPaging(ldap.NewSearchRequest(from.Base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false, filter, []string{"*"}, nil), page)
	if err != nil {
		return nil, fmt.Errorf("searching %s: %w", from.Base, err)
	}
	return ofEntries(found.Entries, m)
}

var (
	personClasses = []string{"person", "organizationalperson", "inetorgperson", "account", "posixaccount"}
	groupClasses  = []string{"groupofnames", "groupofuniquenames", "posixgroup"}
)

func is(e *ldap.Entry, classes []string) bool {
	return slices.ContainsFunc(e.GetEqualFoldAttributeValues("objectClass"), func(c string) bool { return slices.Contains(classes, strings.ToLower(c)) })
}

// ofEntries makes people and groups of a directory's entries.
func ofEntries(entries []*ldap.Entry, m Map) (*People, error) {
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
				if v := e.GetEqualFoldAttributeValue(a); v != "" {
					return v
				}
			}
			return ""
		}
		switch {
		case is(e, groupClasses):
			id := groupID(get("group", "cn"))
			groups[id] = len(out.Groups)
			ids[dn(e.DN)] = "group:" + id
			out.Groups = append(out.Groups, Group{ID: id, About: get("about", "description")})
		case is(e, personClasses):
			one := Person{
				ID: ID(get("id", "uid", "cn")), Name: get("name", "displayName", "cn"), Email: get("email", "mail"), Status: get("status"), Starts: get("starts"), Ends: get("ends"),
				Tags: map[string]string{},
			}
			for tag, attribute := range m.tags() {
				if v := e.GetEqualFoldAttributeValue(attribute); v != "" {
					one.Tags[tag] = v
				}
			}
			ids[dn(e.DN)] = one.ID
			out.People = append(out.People, one)
		}
	}
	for _, e := range entries {
		if !is(e, groupClasses) {
			continue
		}
		id := strings.TrimPrefix(ids[dn(e.DN)], "group:")
		for _, attribute := range []string{"member", "uniqueMember"} {
			for _, name := range e.GetEqualFoldAttributeValues(attribute) {
				if member := ids[dn(name)]; member != "" { // others lie outside of what was asked for
					out.join(id, member, groups)
				}
			}
		}
		for _, uid := range e.GetEqualFoldAttributeValues("memberUid") {
			out.join(id, ID(uid), groups)
		}
	}
	known := map[string]bool{}
	for _, p := range out.People {
		known[p.ID] = true
	}
	for i := range out.Groups {
		out.Groups[i].Members = slices.DeleteFunc(out.Groups[i].Members, func(name string) bool { return !strings.HasPrefix(name, "group:") && !known[name] })
	}
	return out, out.finish()
}

// WriteLDIF writes people and groups as ReadLDIF reads them, below a base. Tags are told in descriptions, for which there is no attribute of their own.
func WriteLDIF(out io.Writer, p *People, base string) error {
	var entries []*ldap.Entry
	add := func(dn string, attributes map[string][]string) {
		for k, v := range attributes {
			if len(v) == 0 || v[0] == "" {
				delete(attributes, k)
			}
		}
		entries = append(entries, ldap.NewEntry(dn, attributes))
	}
	person := func(id string) string { return "uid=" + ldap.EscapeDN(id) + ",ou=people," + base }
	for _, one := range p.People {
		name := cmp.Or(one.Name, one.ID)
		words := strings.Fields(name)
		var tags []string
		for k, v := range one.Tags {
			tags = append(tags, k+"="+v)
		}
		slices.Sort(tags)
		add(person(one.ID), map[string][]string{
			"objectClass": {"inetOrgPerson"}, "uid": {one.ID}, "cn": {name}, "sn": {words[len(words)-1]}, "mail": {one.Email}, "employeeType": {one.Status}, "description": tags,
		})
	}
	for _, g := range p.Groups {
		if len(g.Members) == 0 {
			continue // a group of names has one at least
		}
		var members []string
		for _, id := range g.Members {
			members = append(members, person(id))
		}
		add("cn="+ldap.EscapeDN(g.ID)+",ou=groups,"+base, map[string][]string{"objectClass": {"groupOfNames"}, "cn": {g.ID}, "description": {g.About}, "member": members})
	}
	l := &ldif.LDIF{}
	for _, e := range entries {
		l.Entries = append(l.Entries, &ldif.Entry{Entry: e})
	}
	text, err := ldif.Marshal(l)
	if err == nil {
		_, err = io.WriteString(out, text)
	}
	return err
}
