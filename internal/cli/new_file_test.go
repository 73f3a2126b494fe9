package cli

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A file that is written is there whole or not at all, and nothing that was there is lost.
func TestANewFileIsThereWholeOrNotAtAll(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "report.md")
	write := func(meanwhile string) error {
		f, err := createFile(name)
		if err != nil {
			return err
		}
		defer f.drop()
		_, err = f.WriteString("half")
		require.NoError(t, err)
		assert.NoFileExists(t, name)
		if meanwhile == "given up" {
			return nil
		}
		if meanwhile != "" {
			require.NoError(t, os.WriteFile(name, []byte(meanwhile), 0o600))
		}
		return f.keep()
	}
	require.NoError(t, write("given up"))
	assert.NoFileExists(t, name)
	assert.ErrorContains(t, write("theirs"), "is there already")
	assert.ErrorContains(t, write(""), "is there already")
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	assert.Equal(t, "theirs", string(text))
	require.NoError(t, os.Remove(name))
	require.NoError(t, write(""))
	is, err := os.Stat(name)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), is.Mode().Perm())
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 1)
}
