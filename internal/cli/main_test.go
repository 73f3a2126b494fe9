package cli

import (
	"os"
	"testing"
)

// The user's own cache stays as it is.
func TestMain(m *testing.M) {
	os.Setenv("HGATE_CACHE", "off")
	os.Exit(m.Run())
}
