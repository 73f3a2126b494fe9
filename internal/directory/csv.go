package directory

import (
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strings"

	"hiddengate/internal/tabular"
)

// ReadCSV reads people from CSV whose first line names the columns: id, name, email, status, starts, ends, groups
// (several with ;) and tag.KEY, or those that the map says.
func ReadCSV(in io.Reader, m Map) (*People, error) {
	r := csv.NewReader(in)
	columns, err := r.Read()
	if err != nil {
		return nil, fmt.Errorf("1:1: there is no line with the names of the columns: %w", err)
	}
	columns[0] = strings.TrimPrefix(columns[0], "\ufeff")
	for i, name := range columns {
		columns[i] = tabular.Value(name)
	}
	tags := m.tags()
	for _, c := range columns {
		if tag, ok := strings.CutPrefix(c, "tag."); ok && tags[tag] == "" {
			tags[tag] = c
		}
	}
	for key, attribute := range m {
		if !slices.Contains(columns, attribute) {
			return nil, fmt.Errorf("1:1: there is no column %q, from which %s is to come; there are %s", attribute, key,
				strings.Join(columns, ", "))
		}
	}
	if !slices.Contains(columns, m.of("id", "id")) {
		return nil, fmt.Errorf("1:1: there is no column %q; say which has the ids, as in --map id=login (there are %s)",
			m.of("id", "id"), strings.Join(columns, ", "))
	}
	out := &People{}
	groups := map[string]int{}
	for {
		row, err := r.Read()
		if err == io.EOF {
			return out, out.finish()
		}
		if err != nil {
			return nil, err
		}
		cell := func(column string) string {
			if i := slices.Index(columns, column); i >= 0 {
				return strings.TrimSpace(tabular.Value(row[i]))
			}
			return ""
		}
		one := Person{
			ID: ID(cell(m.of("id", "id"))), Name: cell(m.of("name", "name")), Email: cell(m.of("email", "email")),
			Status: cell(m.of("status", "status")),
			Starts: cell(m.of("starts", "starts")), Ends: cell(m.of("ends", "ends")), Tags: map[string]string{},
		}
		for tag, column := range tags {
			if v := cell(column); v != "" {
				one.Tags[tag] = v
			}
		}
		out.People = append(out.People, one)
		for g := range strings.SplitSeq(cell(m.of("groups", "groups")), ";") {
			if g = strings.TrimSpace(g); g != "" {
				out.join(groupID(g), one.ID, groups)
			}
		}
	}
}

// WriteCSV writes people as ReadCSV reads them.
func WriteCSV(out io.Writer, p *People) error {
	tags := map[string]bool{}
	for _, one := range p.People {
		for k := range one.Tags {
			tags[k] = true
		}
	}
	var keys []string
	for k := range tags {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	in := map[string][]string{}
	for _, g := range p.Groups {
		for _, member := range g.Members {
			in[member] = append(in[member], g.ID)
		}
	}
	w := tabular.NewWriter(out)
	columns := []string{"id", "name", "email", "status", "starts", "ends", "groups"}
	for _, k := range keys {
		columns = append(columns, "tag."+k)
	}
	w.Write(columns)
	for _, one := range p.People {
		row := []string{one.ID, one.Name, one.Email, one.Status, one.Starts, one.Ends, strings.Join(in[one.ID], ";")}
		for _, k := range keys {
			row = append(row, one.Tags[k])
		}
		w.Write(row)
	}
	return w.Flush()
}
