package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheReferencePagesAreCurrent(t *testing.T) {
	for name, want := range pages() {
		got, err := os.ReadFile(filepath.Join("..", "..", "docs", name))
		require.NoError(t, err)
		assert.Equal(t, want, string(got), "docs/%s is out of date: run `make docs`", name)
	}
}
