package starting

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/argon2"

	"hiddengate/internal/standin/application"
	"hiddengate/internal/standin/web"
)

// replace puts settings in place, with passwords of which a verifier tells.
func (d *desk) replace(settings string, set map[string]any) (int, web.Reply) {
	token := d.asKeeper()
	_, reply := d.send("GET", "/settings", token, nil)
	var is struct{ Revision string }
	require.NoError(d, json.Unmarshal([]byte(reply.Said[0]), &is), reply.Said)
	return d.send("PUT", "/settings", token, map[string]any{"was": is.Revision, "set": set,
		"settings": json.RawMessage(settings)})
}

func verifier(password string) string {
	text := base64.RawStdEncoding.EncodeToString
	salt := []byte("salt of the test")
	return fmt.Sprintf("$argon2id$v=19$m=65536,t=3,p=4$%s$%s", text(salt),
		text(argon2.IDKey([]byte(password), salt, 3, 65536, 4, 32)))
}

// A password comes as its verifier, has to be changed where somebody else set it, and lets in until it ends; so does
// the one that its holder chooses.
func TestAPasswordComesAsItsVerifier(t *testing.T) {
	d := open(t, "device", 0)
	const settings = `{"accounts": {"keeper": {"keeper": true}, "noor": {}}}`
	now := time.Now().UTC()
	for wrong, said := range map[string]string{
		"$argon2id$v=19$m=6553600,t=3,p=4$c2FsdHNhbHRzYWx0$" + hex.EncodeToString(make([]byte, 32)): "costs too much",
		"a password": "no verifier", "$argon2id$v=19$m=65536,t=3,p=0$c2FsdHNhbHRzYWx0$AAAAAAAAAAAAAAAAAAAAAA": "no verifier",
	} {
		status, reply := d.replace(settings, map[string]any{"noor": map[string]any{"verifier": wrong}})
		assert.Equal(t, http.StatusBadRequest, status)
		assert.Contains(t, reply.Said[0], said)
	}
	status, reply := d.replace(settings, map[string]any{"pia": map[string]any{"verifier": verifier("x")}})
	assert.Equal(t, http.StatusBadRequest, status, reply.Said)
	status, reply = d.replace(settings, map[string]any{"noor": map[string]any{"verifier": verifier("the first of noor"),
		"first": true, "ends": now.Add(time.Hour), "lasts": 7200}})
	require.Equal(t, http.StatusOK, status, reply.Said)
	_, reply = d.signIn("noor", "the first of nora", "", "")
	assert.False(t, reply.Done)
	d.owned("noor")
	_, reply = d.signIn("noor", "the first of noor", "", "")
	assert.False(t, reply.Done, "it was changed")
	d.ahead.Store(int64(110 * time.Minute))
	_, reply = d.signIn("noor", "the own of noor", "", "")
	assert.True(t, reply.Done, "it lets in for two hours")
	d.ahead.Store(int64(130 * time.Minute))
	_, reply = d.signIn("noor", "the own of noor", "", "")
	assert.Contains(t, reply.Said[0], "time of your password is over")
	status, reply = d.replace(settings, map[string]any{"noor": map[string]any{"verifier": verifier("the first of noor"),
		"ends": now.Add(2 * time.Hour)}})
	require.Equal(t, http.StatusOK, status, reply.Said)
	_, reply = d.signIn("noor", "the first of noor", "", "")
	assert.Contains(t, reply.Said[0], "time of your password is over")
}

// Whoever signed in is out when the session of their role is over, or nothing came for as long as it says.
func TestASessionLastsAsLongAsItsRoleSays(t *testing.T) {
	d := open(t, "application", 0)
	d.settle(`{"accounts": {"keeper": {"keeper": true}, "noor": {"roles": ["short", "long"]}}, "roles": {
		"short": {"session": 3600, "idle": 600, "permits": {".": ["see-bills"]}},
		"long": {"permits": {".": ["see-bills"]}}}}`, "noor")
	d.ownedAs("noor", "short")
	session := func(role string) func(minute int) string {
		d.ahead.Store(0)
		token, reply := d.signIn("noor", "the own of noor", role, "")
		require.True(t, reply.Done, reply.Said)
		return func(minute int) string {
			d.ahead.Store(int64(time.Duration(minute) * time.Minute))
			_, said := d.do(token, "see bills at .")
			return said
		}
	}
	at := session("short")
	for minute := 9; minute < 60; minute += 9 {
		assert.Equal(t, "There are none.", at(minute))
	}
	assert.Equal(t, "You were signed out: your session is over.", at(61))
	assert.Equal(t, "Sign in first.", at(61))
	at = session("short")
	assert.Equal(t, "You were signed out: nothing came for 10m0s.", at(11))
	at = session("long")
	assert.Equal(t, "There are none.", at(1000))
	d.ahead.Store(0)
	d.settle(`{"accounts": {"keeper": {"keeper": true}, "noor": {"roles": ["short", "long"], "session": 60}}, "roles": {
		"short": {"session": 3600}, "long": {"permits": {".": ["see-bills"]}}}}`)
	at = session("long")
	assert.Equal(t, "There are none.", at(0))
	assert.Equal(t, "You were signed out: your session is over.", at(2), "the account's own")
	d.ahead.Store(0)
	status, reply := d.replace(`{"accounts": {"keeper": {"keeper": true}}, "roles": {"short": {"session": -1}}}`, nil)
	assert.Equal(t, http.StatusBadRequest, status, reply.Said)
}

// ownedAs is owned for whoever has several roles.
func (d *desk) ownedAs(account, role string) {
	token, reply := d.signIn(account, "the first of "+account, role, "")
	require.True(d, reply.Done, reply.Said)
	_, reply = d.send("POST", "/password", token, map[string]string{"new": "the own of " + account})
	require.True(d, reply.Done, reply.Said)
}

// A token lets in as an account until it ends; one that names teams gives what these give and no more.
func TestATokenGivesWhatItsTeamsGive(t *testing.T) {
	d := open(t, "cloud", 0)
	sum := sha256.Sum256([]byte("SECRET"))
	hash := hex.EncodeToString(sum[:])
	ends := time.Now().Add(time.Hour).UTC().Format(time.RFC3339)
	settings := func(token string) string {
		return `{"accounts": {"keeper": {"keeper": true}, "bot": {"permits": {".": ["see-bills"]}, "tokens": {"T": ` + token +
			`}}}, "teams": {"paying": {"members": ["bot"], "permits": {".": ["pay-bills"]}},
			"others": {"permits": {".": ["see-accounts"]}}}}`
	}
	may := func(secret string) (out []string) {
		for _, line := range []string{"see bills at .", "pay bill at .: one", "see accounts at ."} {
			_, reply := d.send("POST", "/do", "Key bot/"+secret, map[string]any{"line": line, "try": true})
			if reply.Done {
				out = append(out, line)
			}
		}
		return out
	}
	d.settle(settings(`{"hash": "` + hash + `", "ends": "` + ends + `"}`))
	assert.Equal(t, []string{"see bills at .", "pay bill at .: one"}, may("T.SECRET"))
	assert.Empty(t, may("T.secret"))
	assert.Empty(t, may("X.SECRET"))
	d.settle(settings(`{"hash": "` + hash + `", "ends": "` + ends + `", "teams": ["paying"]}`))
	assert.Equal(t, []string{"pay bill at .: one"}, may("T.SECRET"))
	d.settle(settings(`{"hash": "` + hash + `", "teams": ["others"]}`))
	assert.Empty(t, may("T.SECRET"), "a team of which it is no member")
	d.settle(settings(`{"hash": "` + hash + `", "ends": "` + ends + `"}`))
	d.ahead.Store(int64(61 * time.Minute))
	assert.Empty(t, may("T.SECRET"))
	d.ahead.Store(0)
	for wrong, said := range map[string]string{`{"hash": "x"}`: "has no hash", `null`: "is empty",
		`{"hash": "` + hash + `", "teams": ["gone"]}`: "which there is not"} {
		status, reply := d.replace(settings(wrong), nil)
		assert.Equal(t, http.StatusBadRequest, status)
		assert.Contains(t, reply.Said[0], said)
	}
}

// A second factor that whoever manages accounts gives is asked for, with codes that count once in its place; it waits
// for an account that comes with the next settings.
func TestASecondFactorIsGiven(t *testing.T) {
	d := open(t, "application", 0)
	const secret = "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ"
	hash := func(code string) string {
		sum := sha256.Sum256([]byte(code))
		return hex.EncodeToString(sum[:])
	}
	give := func(by, secret string) (int, web.Reply) {
		return d.send("PUT", "/second-factors", by, application.Equipped{Account: "noor", Secret: secret,
			Recovery: []string{hash("ABCDEFGHIJKLMNOP"), hash("QRSTUVWXYZ234567")}})
	}
	status, reply := give(d.asKeeper(), secret)
	require.Equal(t, http.StatusOK, status, reply.Said)
	d.settle(`{"accounts": {"keeper": {"keeper": true}, "noor": {}}}`, "noor")
	d.owned("noor")
	in := func(code string) bool {
		_, reply := d.signIn("noor", "the own of noor", "", code)
		return reply.Done
	}
	assert.False(t, in(""))
	assert.False(t, in("ABCD-EFGH-IJKL-MNOQ"))
	assert.True(t, in(application.Code(secret, time.Now())))
	assert.True(t, in("abcd-efgh-ijkl-mnop"))
	assert.False(t, in("ABCD-EFGH-IJKL-MNOP"), "it counts once")
	assert.True(t, in("QRST UVWX YZ23 4567"))
	token, _ := d.signIn("noor", "the own of noor", "", application.Code(secret, time.Now()))
	status, _ = give(token, "")
	assert.Equal(t, http.StatusForbidden, status, "who manages no accounts")
	status, _ = give(d.asKeeper(), "no base32")
	assert.Equal(t, http.StatusBadRequest, status)
	status, _ = give(d.asKeeper(), "")
	assert.Equal(t, http.StatusOK, status)
	assert.True(t, in(""))
}
