package directory

import (
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"strings"
)

// The schemas of SCIM 2.0 (RFC 7643) that are read and written.
const (
	userSchema  = "urn:ietf:params:scim:schemas:core:2.0:User"
	groupSchema = "urn:ietf:params:scim:schemas:core:2.0:Group"
	listSchema  = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
)

// ReadSCIM reads users and groups: a list response, an array, or one resource.
func ReadSCIM(in io.Reader, m Map) (*People, error) {
	text, err := io.ReadAll(in)
	if err != nil {
		return nil, err
	}
	var list struct{ Resources []map[string]any }
	var resources []map[string]any
	switch trimmed := strings.TrimSpace(string(text)); {
	case strings.HasPrefix(trimmed, "["):
		err = json.Unmarshal(text, &resources)
	default:
		if err = json.Unmarshal(text, &list); err == nil {
			resources = list.Resources
		}
		if err == nil && resources == nil {
			one := map[string]any{}
			err = json.Unmarshal(text, &one)
			resources = []map[string]any{one}
		}
	}
	if err != nil {
		return nil, fmt.Errorf("this is not JSON: %w", err)
	}
	out := &People{}
	ids := map[string]string{} // by the id of the resource
	groups := map[string]int{}
	for _, r := range resources {
		switch schema := schemaOf(r); schema {
		case userSchema:
			name := cmp.Or(at(r, "displayName"), at(r, "name.formatted"), strings.TrimSpace(at(r, "name.givenName")+" "+at(r, "name.familyName")))
			one := Person{ID: ID(at(r, m.of("id", "userName"))), Name: name, Email: primary(r, "emails"), Tags: map[string]string{}}
			if a, ok := m["name"]; ok {
				one.Name = at(r, a)
			}
			if a, ok := m["email"]; ok {
				one.Email = at(r, a)
			}
			if active, ok := r["active"].(bool); ok && !active {
				one.Status = "suspended"
			}
			if a, ok := m["status"]; ok {
				one.Status = at(r, a)
			}
			if a, ok := m["starts"]; ok {
				one.Starts = at(r, a)
			}
			if a, ok := m["ends"]; ok {
				one.Ends = at(r, a)
			}
			for tag, attribute := range m.tags() {
				if v := at(r, attribute); v != "" {
					one.Tags[tag] = v
				}
			}
			ids[at(r, "id")] = one.ID
			out.People = append(out.People, one)
		case groupSchema:
			id := groupID(at(r, "displayName"))
			ids[at(r, "id")] = "group:" + id
			groups[id] = len(out.Groups)
			out.Groups = append(out.Groups, Group{ID: id})
		default:
			return nil, fmt.Errorf("a resource has the schema %q; users and groups are read (%s, %s)", schema, userSchema, groupSchema)
		}
	}
	for _, r := range resources {
		if schemaOf(r) != groupSchema {
			continue
		}
		members, _ := r["members"].([]any)
		for _, one := range members {
			value, _ := one.(map[string]any)
			if member := ids[at(value, "value")]; member != "" {
				out.join(groupID(at(r, "displayName")), member, groups)
			}
		}
	}
	return out, out.finish()
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

// at follows a path of names, as name.givenName; an extension is named by its whole URN and a colon (RFC 7644, 3.10).
func at(r map[string]any, path string) string {
	var value any = r
	if i := strings.LastIndexByte(path, ':'); i >= 0 {
		value, path = r[path[:i]], path[i+1:]
	}
	for name := range strings.SplitSeq(path, ".") {
		one, ok := value.(map[string]any)
		if !ok {
			return ""
		}
		value = nil
		for key, v := range one { // attributes' names ignore case
			if strings.EqualFold(key, name) {
				value = v
			}
		}
	}
	switch v := value.(type) {
	case string:
		return v
	case bool, float64:
		return fmt.Sprint(v)
	}
	return ""
}

// primary gives the value of several that is marked as the primary one, or the first.
func primary(r map[string]any, name string) string {
	all, _ := r[name].([]any)
	best := ""
	for _, one := range all {
		v, _ := one.(map[string]any)
		if is, _ := v["primary"].(bool); is || best == "" {
			best = at(v, "value")
		}
	}
	return best
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
	type resource struct {
		Schemas     []string `json:"schemas"`
		ID          string   `json:"id"`
		UserName    string   `json:"userName,omitempty"`
		DisplayName string   `json:"displayName,omitempty"`
		Active      *bool    `json:"active,omitempty"`
		Emails      []value  `json:"emails,omitempty"`
		Members     []member `json:"members,omitempty"`
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
