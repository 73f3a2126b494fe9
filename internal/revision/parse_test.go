package revision

import (
	"io/fs"
	"testing"

	"github.com/stretchr/testify/require"
)

// Whatever git lists, names stay in the folder, and each is there once.
func FuzzTree(f *testing.F) {
	f.Add([]byte("100644 blob 0967ef424bce6791893e9a57bb952f80fd536e93      12\ta.yaml\x00120000 blob " +
		"0967ef424bce6791893e9a57bb952f80fd536e93       1\tl\x00"))
	f.Add([]byte("160000 commit 0967ef424bce6791893e9a57bb952f80fd536e93       -\t../x\x00"))
	f.Fuzz(func(t *testing.T, list []byte) {
		entries, err := parse(list)
		if err != nil {
			return
		}
		for name := range entries {
			require.True(t, fs.ValidPath(name))
		}
	})
}
