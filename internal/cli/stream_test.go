//go:build unix

package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// faulty reads memory that has gone away, the first few times that something is written to it.
type faulty struct {
	bytes.Buffer
	memory []byte
	faults int
}

func (f *faulty) Write(text []byte) (int, error) {
	if f.faults--; f.faults >= 0 {
		text = bytes.Repeat(f.memory[:1], len(text))
	}
	return f.Buffer.Write(text)
}

// gone gives mapped memory whose file was cut off.
func gone(t *testing.T) []byte {
	name := filepath.Join(t.TempDir(), "kept")
	require.NoError(t, os.WriteFile(name, make([]byte, 1<<16), 0o600))
	f, err := os.Open(name)
	require.NoError(t, err)
	defer f.Close()
	memory, err := syscall.Mmap(int(f.Fd()), 0, 1<<16, syscall.PROT_READ, syscall.MAP_PRIVATE)
	require.NoError(t, err)
	t.Cleanup(func() { _ = syscall.Munmap(memory) })
	require.NoError(t, os.Truncate(name, 0))
	return memory
}

// Where a cache goes away while it is read, the command begins anew without one, and the answer is the same.
func TestMemoryThatGoesAwayIsCaught(t *testing.T) {
	for faults, code := range []int{exitYes, exitYes, exitOutside} {
		out := &faulty{memory: gone(t), faults: faults}
		var said bytes.Buffer
		got := Run(t.Context(), []string{"version"}, Streams{In: strings.NewReader(""), Out: out, Err: &said}, time.Now)
		require.Equal(t, code, got, said.String())
		if code == exitYes {
			require.Contains(t, out.String(), "hgate")
			require.Empty(t, said.String())
		} else {
			require.Contains(t, said.String(), "run the command again")
		}
	}
}
