package logbook

import (
	"bytes"
	"encoding/json"
	"maps"
	"slices"

	"hiddengate/internal/change"
)

// How many lines of an effect are kept in the log, how many places of each, and up to how many subjects.
const (
	mostEffect   = 200
	mostPlaces   = 50
	mostSubjects = 1000
)

// EffectLine is one change of access, as the log keeps it.
type EffectLine struct {
	Way        string   `json:"way"` // gained, lost or changed
	Who        string   `json:"who"`
	Operations []string `json:"operations"`
	Where      []string `json:"where"`
	When       string   `json:"when,omitempty"` // where it is not always
	OnRequest  bool     `json:"on-request,omitempty"`
	Coming     bool     `json:"coming,omitempty"` // about what is added later
	MorePlaces int      `json:"more-places,omitempty"`
	MoreIn     []string `json:"more-in,omitempty"` // the systems in which those are that are left out of Where
}

// Effect is what an edit did to access, as the log keeps it.
type Effect struct {
	Lines []EffectLine `json:"lines"`
	More  int          `json:"more,omitempty"` // lines that are left out
	// Subjects are all whose access it changed; nil where they are too many, and then anybody may be among them.
	Subjects []string `json:"subjects,omitempty"`
}

// EffectOf gives an effect as the log keeps it; nil where it changed nobody's access.
func EffectOf(e *change.Effect) (json.RawMessage, error) {
	if e.Empty() {
		return nil, nil
	}
	var out Effect
	subjects := map[string]bool{}
	for _, part := range []struct {
		lines  []change.Line
		coming bool
	}{{e.Lines, false}, {e.Coming, true}} {
		for i := range part.lines {
			l := &part.lines[i]
			for _, s := range l.Subjects {
				if len(subjects) <= mostSubjects {
					subjects[s.String()] = true
				}
			}
			if len(out.Lines) == mostEffect {
				out.More++
				continue
			}
			one := EffectLine{Way: l.Way.Word(), Who: e.Who(l), Operations: l.Operations, Where: e.Places(l),
				OnRequest: l.OnRequest, Coming: part.coming, When: l.Is()}
			if l.Way == change.Loses {
				one.When = l.Was()
			}
			if one.When == "always" {
				one.When = ""
			}
			one.shorten()
			out.Lines = append(out.Lines, one)
		}
	}
	if len(subjects) <= mostSubjects {
		out.Subjects = slices.Sorted(maps.Keys(subjects))
	}
	var text bytes.Buffer
	enc := json.NewEncoder(&text)
	enc.SetEscapeHTML(false)
	err := enc.Encode(out)
	return text.Bytes(), err
}

// shorten leaves out places beyond the first ones, but for such as do not say in which system they are.
func (l *EffectLine) shorten() {
	kept, in := slices.Clone(l.Where[:min(len(l.Where), mostPlaces)]), map[string]bool{}
	for _, words := range l.Where[len(kept):] {
		place, err := placeIn(words)
		if err != nil {
			kept = append(kept, words)
			continue
		}
		l.MorePlaces++
		in[place.System] = true
	}
	l.Where, l.MoreIn = kept, slices.Sorted(maps.Keys(in))
}

// Effect reads what an edit did to access; it is empty of other events.
func (t *Entry) Effect() (out Effect) {
	if t.Policy != nil && t.Policy.Effect != nil {
		_ = json.Unmarshal(t.Policy.Effect, &out)
	}
	return out
}
