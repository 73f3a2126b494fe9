package cli

import (
	"fmt"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// subjectsThere reads subjects from a flag, and sees that each is there.
func subjectsThere(g *gate.Gate, flag string, words []string) (out estate.Subjects, err error) {
	e := g.Estate()
	for _, text := range words {
		t, err := estate.ParseSubjectTerm(text)
		if err != nil {
			return nil, fmt.Errorf("--%s %s: %w", flag, text, err)
		}
		switch {
		case t.Kind == estate.IsGroup && e.Groups[t.ID] == nil:
			return nil, unknown("group", t.ID, keys(e.Groups))
		case t.Kind == estate.IsPerson && e.People[t.ID] == nil:
			return nil, unknown("person", t.ID, keys(e.People))
		case t.Kind == estate.IsService && e.Services[t.ID] == nil:
			return nil, unknown("service", t.ID, keys(e.Services))
		}
		out = append(out, t)
	}
	return out, nil
}
