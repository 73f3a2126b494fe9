package store

import (
	"encoding/json"
	"path/filepath"
	"testing"

	"hiddengate/internal/ledger"
)

func BenchmarkEvent(b *testing.B) {
	s, err := OpenFile(b.Context(), filepath.Join(b.TempDir(), "l", "one.db"), true)
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	body, _ := json.Marshal(ledger.RequestBody{Grant: "g", Seconds: 3600, Reason: "The dish is stuck after the storm"})
	for b.Loop() {
		if err := s.Update(b.Context(), func(w *Writer) error {
			_, err := w.Append(ledger.Event{Statement: ledger.Statement{Kind: ledger.Requested, Body: body}})
			return err
		}); err != nil {
			b.Fatal(err)
		}
	}
}
