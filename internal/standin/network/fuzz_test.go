package network

import (
	"bufio"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// FuzzSession reads what somebody sends into a shell, line by line, none of which is longer than lines may be.
func FuzzSession(f *testing.F) {
	f.Add("whoami\r\nleave\n")
	f.Add(strings.Repeat("x", 5000))
	f.Fuzz(func(t *testing.T, text string) {
		lines := &plainLines{bufio.NewReader(strings.NewReader(text))}
		for {
			line, err := lines.ReadLine()
			if err != nil {
				return
			}
			assert.LessOrEqual(t, len(line), mostLine)
			assert.NotContains(t, clean(line), "\x1b")
		}
	})
}
