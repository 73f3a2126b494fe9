package store

import (
	"database/sql"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/ledger"
)

func fileOf(t *testing.T) (*Store, string) {
	name := filepath.Join(t.TempDir(), "l", "one.db")
	s, err := OpenFile(t.Context(), name, true)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s, name
}

// writeOne appends an event of some size.
func writeOne(t *testing.T, s *Store, size int) error {
	return s.Update(t.Context(), func(w *Writer) error {
		_, err := w.Append(ledger.Event{Statement: ledger.Statement{Kind: ledger.Refused,
			Body: json.RawMessage(`{"why":"` + strings.Repeat("x", size) + `"}`)}})
		return err
	})
}

// count is how many events there are.
func count(t *testing.T, s *Store) (n int) {
	require.NoError(t, s.View(t.Context(), func(r *Reader) error {
		return r.Events(Filter{}, func(int64, ledger.Event, error) bool { n++; return true })
	}))
	return n
}

func TestADiskThatIsFullIsTold(t *testing.T) {
	s, _ := fileOf(t)
	require.NoError(t, writeOne(t, s, 10))
	_, err := s.db.Exec("PRAGMA max_page_count = 20")
	require.NoError(t, err)
	require.ErrorContains(t, writeOne(t, s, 1<<20), "the disk is full")
	assert.Equal(t, 1, count(t, s))
}

func TestALedgerThatCannotBeWrittenIsTold(t *testing.T) {
	s, _ := fileOf(t)
	_, err := s.db.Exec("PRAGMA query_only = 1")
	require.NoError(t, err)
	require.ErrorContains(t, writeOne(t, s, 10), "cannot be written")
	assert.Zero(t, count(t, s))
}

func TestALedgerThatIsHeldIsTold(t *testing.T) {
	t.Parallel()
	s, name := fileOf(t)
	other, err := sql.Open("sqlite", name)
	require.NoError(t, err)
	defer other.Close()
	other.SetMaxOpenConns(1)
	_, err = other.Exec("BEGIN EXCLUSIVE")
	require.NoError(t, err)
	require.ErrorIs(t, writeOne(t, s, 10), ErrLocked)
	_, err = other.Exec("ROLLBACK")
	require.NoError(t, err)
	require.NoError(t, writeOne(t, s, 10))
}

func TestAFileThatIsNoLedgerIsTold(t *testing.T) {
	name := filepath.Join(t.TempDir(), "l", "one.db")
	require.NoError(t, os.Mkdir(filepath.Dir(name), 0o700))
	require.NoError(t, os.WriteFile(name, []byte(strings.Repeat("this is no database\n", 100)), 0o600))
	_, err := OpenFile(t.Context(), name, true)
	require.ErrorIs(t, err, ErrDamage)
}

// What stands in the database and is no event is told where it is read, and nothing follows from it.
func TestWhatIsNoEventIsTold(t *testing.T) {
	s, _ := fileOf(t)
	require.NoError(t, writeOne(t, s, 10))
	_, err := s.db.Exec(
		"INSERT INTO events (number, at, actor, kind, about, doc) VALUES (2, 0, '', 'request.approved', 1, '{}')")
	require.NoError(t, err)
	require.ErrorIs(t, s.View(t.Context(), func(r *Reader) error {
		_, err := r.About(1)
		return err
	}), ErrDamage)
	require.ErrorIs(t, writeOne(t, s, 10), ErrDamage) // nothing is put behind it
}

// An event neither changes nor goes, whoever asks the file for it by mistake.
func TestEventsStayInTheFile(t *testing.T) {
	s, _ := fileOf(t)
	require.NoError(t, writeOne(t, s, 10))
	for _, statement := range []string{"UPDATE events SET actor = 'bo'", "DELETE FROM events"} {
		_, err := s.db.Exec(statement)
		require.ErrorContains(t, err, "events are not")
	}
}
