package visible_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/visible"
)

func TestWhatHidesIsFoundAndWhatDoesNotIsNot(t *testing.T) {
	for _, text := range []string{
		"", "plain", "tab\tand\nline\r\nends", "João dürre 空 한국 ελληνικά", "\ufeffat the beginning", "नमस्\u200dते",
		"می\u200cخواهم", "👩\u200d🚀", "non\u00a0breaking", "café", "x" + strings.Repeat("long ", 100),
	} {
		_, r, ok := visible.Find(text)
		assert.False(t, ok, "%q: %U", text, r)
		_, _, ok = visible.Find([]byte(text))
		assert.False(t, ok)
		assert.Equal(t, strings.TrimPrefix(text, "\ufeff"), strings.TrimPrefix(visible.Clean(text), "<U+FEFF>"))
	}
	for _, c := range []rune{0, 7, 0x1b, '\r', 0x7f, 0x85, 0x9b, 0xad, 0x61c, 0x200b, 0x200c, 0x200d, 0x200e, 0x2028,
		0x2029, 0x202a, 0x202e, 0x2060, 0x2066, 0x2069, 0x3164, 0xfeff, 0xfff9, 0xfffe, 0xe0041, 0x34f} {
		for _, before := range []string{"a", "1234567", "eight by eight bytes ", "é"} {
			text := before + string(c) + "b"
			at, r, ok := visible.Find(text)
			require.True(t, ok, "%U", c)
			assert.Equal(t, c, r)
			assert.Equal(t, len(before), at)
			assert.Equal(t, before+fmt.Sprintf("<U+%04X>b", c), visible.Clean(text))
		}
	}
}

// Shown as escapes, a JSON text means the same.
func FuzzJSON(f *testing.F) {
	f.Add("a\u202eb\u2028\U000e0041\x7f")
	f.Fuzz(func(t *testing.T, text string) {
		if !utf8.ValidString(text) {
			return
		}
		before, err := json.Marshal(map[string]string{text: text})
		require.NoError(t, err)
		after := visible.JSON(before)
		var is map[string]string
		require.NoError(t, json.Unmarshal(after, &is))
		require.Equal(t, map[string]string{text: text}, is)
		_, r, ok := visible.Find(after)
		require.False(t, ok, "%U in %s", r, after)
		_, _, ok = visible.Find(visible.Clean(text))
		require.False(t, ok)
	})
}

// A joiner that a script needs stays, whatever else a JSON text hides.
func TestANeededJoinerStaysInJSON(t *testing.T) {
	needed := "\u0645\u06cc\u200c\u0634\u0648\u062f"
	require.Equal(t, `["`+needed+`"]`, string(visible.JSON([]byte(`["`+needed+`"]`))))
	hiding := `["` + needed + `", "` + "\u202e" + `", "a` + "\u200c" + `b"]`
	require.Equal(t, `["`+needed+`", "\u202e", "a\u200cb"]`, string(visible.JSON([]byte(hiding))))
}
