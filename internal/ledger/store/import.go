package store

import (
	"encoding/json"
	"fmt"

	"hiddengate/internal/ledger"
)

// ImportError says why events cannot be taken over.
type ImportError struct{ Why string }

func (e *ImportError) Error() string { return e.Why }

// TakeOver puts the events of another ledger behind the newest one, from its beginning on, those left out that were
// taken over before; and ahead of them the event that says so. Requests get new numbers, and what is about them
// follows. Where nothing is new, nothing is put anywhere. What does not fit what was taken over before is an
// ImportError.
func (w *Writer) TakeOver(by ledger.Event, other []ledger.Event) (taken int, err error) {
	before, err := w.takenBefore(other)
	if err != nil || before == len(other) {
		return 0, err
	}
	numbers, err := w.numbersOf(other[:before])
	if err != nil {
		return 0, err
	}
	if _, err := w.Append(by); err != nil {
		return 0, err
	}
	for _, e := range other[before:] {
		was := e.Number
		e.About = numbers[e.About]
		if e, err = w.Append(e); err != nil {
			return 0, err
		}
		numbers[was] = e.Number
	}
	return len(other) - before, nil
}

// takenBefore tells how many events of another ledger were taken over before.
func (r *Reader) takenBefore(other []ledger.Event) (int, error) {
	imports, err := r.Imports()
	if err != nil {
		return 0, err
	}
	for i := len(imports) - 1; i >= 0; i-- {
		var body ledger.ImportedBody
		if json.Unmarshal(imports[i].Body, &body) != nil || body.Ledger != other[0].Ledger {
			continue
		}
		head, err := ledger.ParseHead(body.Head)
		if err != nil {
			return 0, err
		}
		if head.Number > int64(len(other)) {
			return 0, &ImportError{fmt.Sprintf("%d events of that ledger were taken over before, and the file holds %d",
				head.Number, len(other))}
		}
		if other[head.Number-1].Hash != head.Hash {
			return 0, &ImportError{fmt.Sprintf("event %d of the file is not the one that was taken over before: one of the "+
				"two was changed", head.Number)}
		}
		return int(head.Number), nil
	}
	return 0, nil
}

// numbersOf finds under which numbers requests that were taken over stand here, by those that they have there.
func (r *Reader) numbersOf(other []ledger.Event) (map[int64]int64, error) {
	there := map[string]int64{} // by the ids of the statements
	for _, e := range other {
		if e.Kind.IsRequest() {
			there[e.ID()] = e.Number
		}
	}
	here := map[int64]int64{}
	wanted := Filter{Kinds: []string{string(ledger.Requested), string(ledger.Wanted)}}
	err := r.Events(wanted, func(number int64, e ledger.Event, wrong error) bool {
		if wrong == nil {
			if was, ok := there[e.ID()]; ok {
				here[was] = number
			}
		}
		return len(here) < len(there)
	})
	return here, err
}
