package directory

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"hiddengate/internal/plainjson"
)

// The schemas of SCIM 2.0 (RFC 7643) that are read and written.
const (
	userSchema  = "urn:ietf:params:scim:schemas:core:2.0:User"
	groupSchema = "urn:ietf:params:scim:schemas:core:2.0:Group"
	listSchema  = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
)

// ownSchema is an extension (RFC 7643, section 3.3) for what SCIM's users do not have.
const ownSchema = "urn:ietf:params:scim:schemas:extension:hidden-gate:2.0:User"

// ReadSCIM reads users and groups: a list response that is whole, an array, or one resource. Nothing in it is guessed
// at: a value of another type than it should have is an error.
func ReadSCIM(in io.Reader, m Map) (*People, error) {
	resources, err := scimResources(in)
	if err != nil {
		return nil, err
	}
	out := &People{}
	ids := map[string]string{} // by the id of the resource
	groups := map[string]int{}
	for i, r := range resources {
		c := &careful{resource: r}
		id := c.text("id")
		if _, twice := ids[id]; twice && id != "" {
			return nil, fmt.Errorf("resource %d: another resource has the id %q too", i+1, id)
		}
		switch schema := schemaOf(r); schema {
		case userSchema:
			one := c.person(m)
			ids[id] = one.ID
			out.People = append(out.People, one)
		case groupSchema:
			name := groupID(c.text("displayName"))
			if _, twice := groups[name]; twice {
				return nil, fmt.Errorf("resource %d: two groups have the id %q", i+1, name)
			}
			ids[id] = "group:" + name
			groups[name] = len(out.Groups)
			out.Groups = append(out.Groups, Group{ID: name})
		default:
			return nil, fmt.Errorf("resource %d has the schema %q; users and groups are read (%s, %s)", i+1, schema, userSchema,
				groupSchema)
		}
		if c.wrong != nil {
			return nil, fmt.Errorf("resource %d: %w", i+1, c.wrong)
		}
	}
	for i, r := range resources {
		if schemaOf(r) != groupSchema {
			continue
		}
		c := &careful{resource: r}
		for _, one := range c.list("members") {
			member := &careful{resource: one}
			if id := ids[member.text("value")]; id != "" {
				out.join(groupID(c.text("displayName")), id, groups)
			}
			if c.wrong == nil {
				c.wrong = member.wrong
			}
		}
		if c.wrong != nil {
			return nil, fmt.Errorf("resource %d: %w", i+1, c.wrong)
		}
	}
	if err := m.met(func(attribute string) bool {
		return len(resources) == 0 || slices.ContainsFunc(resources,
			func(r map[string]any) bool { return found(r, attribute) != nil })
	}); err != nil {
		return nil, err
	}
	return out, out.finish()
}

// scimResources reads the resources of a list response, an array or one.
func scimResources(in io.Reader) ([]map[string]any, error) {
	text, err := io.ReadAll(io.LimitReader(in, MaxSource+1))
	if err != nil {
		return nil, err
	}
	if len(text) > MaxSource {
		return nil, fmt.Errorf("it has more than %d bytes", MaxSource)
	}
	var whole any
	if err := json.Unmarshal(text, &whole); err != nil {
		return nil, fmt.Errorf("this is not JSON: %w", err)
	}
	if err := plainjson.EachKey(text, nil); err != nil {
		return nil, err
	}
	list, isList := whole.([]any)
	if one, ok := whole.(map[string]any); ok {
		all := found(one, "Resources")
		total := found(one, "totalResults")
		switch all := all.(type) {
		case nil:
			if n, ok := total.(float64); ok && n == 0 {
				return nil, nil
			}
			return []map[string]any{one}, nil
		case []any:
			list, isList = all, true
			if n, ok := total.(float64); total != nil && (!ok || n != float64(len(list))) {
				return nil, fmt.Errorf("it holds %d resources and says that there are %v: it is a part of them", len(list), total)
			}
		}
	}
	if !isList {
		return nil, errors.New("this is no list of SCIM resources")
	}
	var out []map[string]any
	for i, r := range list {
		one, ok := r.(map[string]any)
		if !ok {
			return nil, fmt.Errorf("resource %d is no object", i+1)
		}
		out = append(out, one)
	}
	return out, nil
}

// careful reads a resource, and keeps the first thing that is not of its type.
type careful struct {
	resource map[string]any
	wrong    error
}

func (c *careful) mistake(name, want string) {
	if c.wrong == nil {
		c.wrong = fmt.Errorf("%s is %s", name, want)
	}
}

// text gives a text; "" if there is none.
func (c *careful) text(path string) string {
	switch v := found(c.resource, path).(type) {
	case nil:
	case string:
		return v
	default:
		c.mistake(path, "a text")
	}
	return ""
}

// any gives a text, a number or a truth value as a text.
func (c *careful) any(path string) string {
	switch v := found(c.resource, path).(type) {
	case nil:
	case string:
		return v
	case bool, float64:
		return fmt.Sprint(v)
	default:
		c.mistake(path, "a text, a number or a truth value")
	}
	return ""
}

// list gives a list of objects.
func (c *careful) list(name string) (out []map[string]any) {
	value := found(c.resource, name)
	all, ok := value.([]any)
	if value != nil && !ok {
		c.mistake(name, "a list")
	}
	for _, v := range all {
		one, ok := v.(map[string]any)
		if !ok {
			c.mistake(name, "a list of objects")
			continue
		}
		out = append(out, one)
	}
	return out
}

// person reads a user.
func (c *careful) person(m Map) Person {
	name := cmp.Or(c.text("displayName"), c.text("name.formatted"),
		strings.TrimSpace(c.text("name.givenName")+" "+c.text("name.familyName")))
	one := Person{ID: ID(c.any(m.of("id", "userName"))), Name: name, Email: c.primary("emails"), Tags: map[string]string{}}
	switch active := found(c.resource, "active").(type) {
	case nil:
	case bool:
		if !active {
			one.Status = "suspended"
		}
	default:
		c.mistake("active", "true or false")
	}
	if own, ok := found(c.resource, ownSchema+":").(map[string]any); ok {
		more := &careful{resource: own}
		one.Starts, one.Ends = more.text("starts"), more.text("ends")
		one.Status = cmp.Or(more.text("status"), one.Status)
		if tags, ok := own["tags"].(map[string]any); ok {
			for key, value := range tags {
				if text, ok := value.(string); ok {
					one.Tags[key] = text
				} else {
					more.mistake("tags."+key, "a text")
				}
			}
		}
		if c.wrong == nil {
			c.wrong = more.wrong
		}
	}
	for key, to := range map[string]*string{"name": &one.Name, "email": &one.Email, "status": &one.Status,
		"starts": &one.Starts, "ends": &one.Ends} {
		if attribute, ok := m[key]; ok {
			*to = c.any(attribute)
		}
	}
	for tag, attribute := range m.tags() {
		if v := c.any(attribute); v != "" {
			one.Tags[tag] = v
		}
	}
	return one
}

// primary gives the value of several that is marked as the primary one, or the first.
func (c *careful) primary(name string) string {
	best, marked := "", false
	for _, v := range c.list(name) {
		one := &careful{resource: v}
		is, isTruth := v["primary"].(bool)
		if v["primary"] != nil && !isTruth {
			one.mistake(name+".primary", "true or false")
		}
		if value := one.text("value"); is && !marked || best == "" {
			best, marked = value, is
		}
		if c.wrong == nil {
			c.wrong = one.wrong
		}
	}
	return best
}

func schemaOf(r map[string]any) string {
	all, _ := r["schemas"].([]any)
	for _, s := range all {
		if s == userSchema || s == groupSchema {
			return s.(string)
		}
	}
	if len(all) > 0 {
		return fmt.Sprint(all[0])
	}
	return ""
}

// found follows a path of names, as name.givenName; an extension is named by its whole URN and a colon (RFC 7644,
// 3.10). Attributes' names ignore case. It is nil if there is nothing.
func found(r map[string]any, path string) any {
	var value any = r
	if i := strings.LastIndexByte(path, ':'); i >= 0 {
		value, path = named(r, path[:i]), path[i+1:]
	}
	if path == "" {
		return value
	}
	for name := range strings.SplitSeq(path, ".") {
		one, ok := value.(map[string]any)
		if !ok {
			return nil
		}
		value = named(one, name)
	}
	return value
}

func named(r map[string]any, name string) any {
	for key, v := range r {
		if strings.EqualFold(key, name) {
			return v
		}
	}
	return nil
}

// WriteSCIM writes people and groups as one list response.
func WriteSCIM(out io.Writer, p *People) error {
	type member struct {
		Value string `json:"value"`
	}
	type value struct {
		Value   string `json:"value"`
		Primary bool   `json:"primary"`
	}
	type more struct {
		Status string            `json:"status,omitempty"`
		Starts string            `json:"starts,omitempty"`
		Ends   string            `json:"ends,omitempty"`
		Tags   map[string]string `json:"tags,omitempty"`
	}
	type resource struct {
		Schemas     []string `json:"schemas"`
		ID          string   `json:"id"`
		UserName    string   `json:"userName,omitempty"`
		DisplayName string   `json:"displayName,omitempty"`
		Active      *bool    `json:"active,omitempty"`
		Emails      []value  `json:"emails,omitempty"`
		Members     []member `json:"members,omitempty"`
		Own         *more    `json:"urn:ietf:params:scim:schemas:extension:hidden-gate:2.0:User,omitempty"`
	}
	list := struct {
		Schemas      []string   `json:"schemas"`
		TotalResults int        `json:"totalResults"`
		Resources    []resource `json:"Resources"`
	}{Schemas: []string{listSchema}, Resources: []resource{}}
	for _, one := range p.People {
		active := one.Status == "active" || one.Status == ""
		r := resource{Schemas: []string{userSchema}, ID: one.ID, UserName: one.ID, DisplayName: one.Name, Active: &active}
		if one.Email != "" {
			r.Emails = []value{{one.Email, true}}
		}
		if own(one) != nil {
			r.Schemas = append(r.Schemas, ownSchema)
			r.Own = &more{one.Status, one.Starts, one.Ends, one.Tags}
		}
		list.Resources = append(list.Resources, r)
	}
	for _, g := range p.Groups {
		r := resource{Schemas: []string{groupSchema}, ID: "group:" + g.ID, DisplayName: g.ID}
		for _, id := range g.Members {
			r.Members = append(r.Members, member{id})
		}
		list.Resources = append(list.Resources, r)
	}
	list.TotalResults = len(list.Resources)
	e := json.NewEncoder(out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(list)
}
