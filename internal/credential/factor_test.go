package credential

import (
	"encoding/base32"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The examples of RFC 6238, appendix B, of which six digits are taken here and not eight.
func TestCodesAreThoseOfTheStandard(t *testing.T) {
	f := &Factor{Secret: base32.StdEncoding.EncodeToString([]byte("12345678901234567890"))}
	for at, code := range map[int64]string{59: "287082", 1111111109: "081804", 1111111111: "050471",
		1234567890: "005924", 2000000000: "279037", 20000000000: "353130"} {
		assert.Equal(t, code, f.Code(time.Unix(at, 0)))
		for _, off := range []int64{-30, 0, 30} {
			assert.True(t, f.Fits(code, time.Unix(at+off, 0)))
		}
		assert.False(t, f.Fits(code, time.Unix(at+90, 0)))
		assert.False(t, f.Fits("", time.Unix(at, 0)))
	}
	assert.False(t, (&Factor{Secret: "1"}).Fits("000000", time.Unix(0, 0)), "no secret, no code")
}

func TestASecondFactorIsDrawn(t *testing.T) {
	f, other := NewFactor(), NewFactor()
	assert.NotEqual(t, f.Secret, other.Secret)
	assert.Len(t, f.Recovery, RecoveryCodes)
	assert.NotEqual(t, f.Recovery[0], f.Recovery[1])
	assert.Equal(t, HashOf("ABCD-EFGH-IJKL-MNOP"), HashOf("abcdefgh ijklmnop"))
	assert.NotEqual(t, HashOf("ABCD-EFGH-IJKL-MNOP"), HashOf("ABCD-EFGH-IJKL-MNOQ"))
	u, err := url.Parse(f.Address("Ternhollow Observatory", "ana maria/ß"))
	require.NoError(t, err)
	assert.Equal(t, "/Ternhollow Observatory:ana maria/ß", u.Path)
	assert.Equal(t, f.Secret, u.Query().Get("secret"))
	assert.Contains(t, u.RawQuery, "issuer=Ternhollow%20Observatory")
}
