package credential

import (
	"encoding/base64"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The example of RFC 7677, section 3: the client's proof and the server's signature there follow from these two keys.
func TestAVerifierIsThatOfTheStandard(t *testing.T) {
	salt, err := base64.StdEncoding.DecodeString("W22ZaJ0SNY7soEsUEjb6gQ==")
	require.NoError(t, err)
	got, err := verifierOf("pencil", salt, 4096)
	require.NoError(t, err)
	assert.Equal(t, "SCRAM-SHA-256$4096:W22ZaJ0SNY7soEsUEjb6gQ==$WG5d8oPm3OtcPnkdi4Uo7BkeZkBFzpcXkuLmtbsT4qY=:"+
		"wfPLwcE6nTWhTAmQ7tl2KeoiWGPlZqQxSrmfPwDl2dU=", got)
}

func TestAPasswordIsKeptAsItsVerifierAlone(t *testing.T) {
	seen := map[string]bool{}
	for range 50 {
		password, err := NewPassword(16)
		require.NoError(t, err)
		assert.Len(t, password, 16)
		assert.False(t, seen[password])
		seen[password] = true
		require.NoError(t, CheckPassword(password, 16), password)
	}
	for _, form := range []Form{SCRAM, Argon2id} {
		verifier, err := VerifierIn(form, "correct horse battery")
		require.NoError(t, err)
		is, err := FormOf(verifier)
		assert.NoError(t, err)
		assert.Equal(t, form, is)
		assert.True(t, Fits("correct horse battery", verifier))
		assert.False(t, Fits("correct horse batterz", verifier))
		for _, wrong := range []string{"", "x", verifier + "'", verifier + "\n", "\n" + verifier, verifier + "$",
			strings.Replace(verifier, "$4096", "$04096", 1) + " ", strings.Replace(verifier, "m=65536", "m=655360", 1) + " ",
			strings.Replace(strings.Replace(verifier, "$4096", "$1", 1), "t=3", "t=300", 1),
			strings.Replace(strings.Replace(verifier, ":", "", 1), "p=4", "p=255", 1), "md5" + verifier,
			verifier[:len(verifier)-4]} {
			_, err := FormOf(wrong)
			assert.Error(t, err, wrong)
			assert.False(t, Fits("correct horse battery", wrong), wrong)
		}
	}
	_, err := VerifierIn("another", "correct horse battery")
	assert.Error(t, err)
}

func TestPasswordsThatAreNotTaken(t *testing.T) {
	for text, why := range map[string]string{"short": "5 characters", "aaaaaaaaaaaaaaaaaaaa": "different",
		"": "0 characters", "пароль для базы данных": "ASCII", "a password\nof mine": "ASCII",
		"not long enough": "20 are the least"} {
		assert.ErrorContains(t, CheckPassword(text, 20), why, text)
	}
	assert.NoError(t, CheckPassword("a password of mine, long", 20))
}
