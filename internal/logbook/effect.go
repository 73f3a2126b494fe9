package logbook

import (
	"bytes"
	"encoding/json"

	"hiddengate/internal/change"
)

// mostEffect bounds how many lines of an effect are kept in the log.
const mostEffect = 200

// EffectLine is one change of access, as the log keeps it.
type EffectLine struct {
	Way        string   `json:"way"` // gained, lost or changed
	Who        string   `json:"who"`
	Operations []string `json:"operations"`
	Where      []string `json:"where"`
	When       string   `json:"when,omitempty"` // where it is not always
	OnRequest  bool     `json:"on-request,omitempty"`
	Coming     bool     `json:"coming,omitempty"` // about what is added later
}

// EffectOf gives an effect as the log keeps it: its lines, of which the rest is counted where there are too many.
func EffectOf(e *change.Effect) (json.RawMessage, error) {
	if e.Empty() {
		return nil, nil
	}
	var out struct {
		Lines []EffectLine `json:"lines"`
		More  int          `json:"more,omitempty"`
	}
	add := func(lines []change.Line, coming bool) {
		for i := range lines {
			l := &lines[i]
			if len(out.Lines) == mostEffect {
				out.More += len(lines) - i
				return
			}
			one := EffectLine{Way: l.Way.Word(), Who: e.Who(l), Operations: l.Operations, Where: e.Places(l),
				OnRequest: l.OnRequest, Coming: coming, When: l.Is()}
			if l.Way == change.Loses {
				one.When = l.Was()
			}
			if one.When == "always" {
				one.When = ""
			}
			out.Lines = append(out.Lines, one)
		}
	}
	add(e.Lines, false)
	add(e.Coming, true)
	var text bytes.Buffer
	enc := json.NewEncoder(&text)
	enc.SetEscapeHTML(false)
	err := enc.Encode(out)
	return text.Bytes(), err
}
