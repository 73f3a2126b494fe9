//go:build unix

package journal

import (
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestOwnersStayAndTheUmaskIsHeeded(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root gives files away")
	}
	dir, files := workspace(t)
	require.NoError(t, os.Chown(filepath.Join(dir, "file0.yaml"), 12, 34))
	old := syscall.Umask(0o077)
	defer syscall.Umask(old)
	require.NoError(t, Write(t.Context(), dir, files))
	info, err := os.Stat(filepath.Join(dir, "file0.yaml"))
	require.NoError(t, err)
	require.Equal(t, uint32(12), info.Sys().(*syscall.Stat_t).Uid)
	require.Equal(t, uint32(34), info.Sys().(*syscall.Stat_t).Gid)
	info, err = os.Stat(filepath.Join(dir, "fresh.yaml"))
	require.NoError(t, err)
	require.Equal(t, fs.FileMode(0o600), info.Mode().Perm())
}
