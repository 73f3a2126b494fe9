package plainjson

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// flat reads an object of texts and words; ok is false where it refuses.
func flat(b []byte) (out map[string]string, ok bool) {
	out = map[string]string{}
	end := Object(b, Blank(b, 0), func(key []byte, i int) int {
		end := Text(b, i)
		if end < 0 {
			if end = Word(b, i); end < 0 {
				return -1
			}
		}
		out[string(key)] = string(b[i:end])
		return end
	})
	return out, end >= 0 && Blank(b, end) == len(b)
}

// What is taken is what the standard library reads; what it does not read is never taken.
func TestAgreesWithTheStandardLibrary(t *testing.T) {
	taken := 0
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.OneOf(
			rapid.StringMatching(`( ?\{ ?("[a-c\\é]{0,2}" ?: ?("[a-z"\\]{0,3}"|true|null|1) ?,? ?){0,3}\}? ?)`),
			rapid.StringOf(rapid.SampledFrom([]rune(`{}":, ab\ntrue`))),
		).Draw(t, "text")
		got, ok := flat([]byte(text))
		if !ok {
			return
		}
		taken++
		var want map[string]json.RawMessage
		require.NoError(t, json.Unmarshal([]byte(text), &want), "%q", text)
		for k, v := range want {
			assert.Equal(t, string(v), got[k], "%q", text)
		}
		assert.Len(t, got, len(want))
	})
	if !testing.Short() { // of a few texts none may be taken
		assert.Positive(t, taken)
	}
}

func TestRefuses(t *testing.T) {
	for _, text := range []string{``, `{`, `{"a"}`, `{"a":}`, `{"a":"b"`, `{"a":"b",}`, `{"a":"b"} x`, `{"\u0061":"b"}`,
		`{"a":"é"}`, `{"a":1}`, `[]`, `{'a':"b"}`, `{"a":"b" "c":"d"}`} {
		_, ok := flat([]byte(text))
		assert.False(t, ok, text)
	}
}

func TestAllocatesNothing(t *testing.T) {
	line := []byte(`{"a": "b", "c": {"d": "e"}}`)
	assert.Zero(t, testing.AllocsPerRun(100, func() {
		Object(line, 0, func(_ []byte, i int) int {
			if end := Text(line, i); end > 0 {
				return end
			}
			return Object(line, i, func(_ []byte, i int) int { return Text(line, i) })
		})
	}))
}
