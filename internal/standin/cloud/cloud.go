// Package cloud is a simulated account with a provider of storage and machines, over HTTPS: people sign in with a
// password, and their programs with access keys.
package cloud

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"maps"
	"net"
	"net/http"
	"slices"
	"strings"

	"hiddengate/internal/standin"
	"hiddengate/internal/standin/web"
)

var (
	command  = standin.NewCommand
	whole    = []string{"cloud"}
	areas    = []string{"cloud", "area"}
	stores   = []string{"cloud", "area", "store"}
	objects  = []string{"cloud", "area", "store", "item"}
	machines = []string{"cloud", "area", "machine"}
	images   = []string{"cloud", "area", "image"}
	networks = []string{"cloud", "area", "network"}
	keys     = []string{"cloud", "area", "key"}
	secrets  = []string{"cloud", "area", "secret"}
	alerts   = []string{"cloud", "area", "alert"}
)

// Commands are what the account can do.
var Commands = []standin.Command{
	command("see stores", "see-stores", stores, "stores", standin.Shows),
	command("create store", "create-stores", areas, "stores", standin.Adds),
	command("remove store", "remove-stores", stores, "stores", standin.Takes),
	command("publish store", "publish-stores", stores, "stores", standin.Notes),
	command("list objects", "list-objects", objects, "objects", standin.Shows),
	command("read object", "read-objects", objects, "objects", standin.Shows),
	command("write object", "write-objects", objects, "objects", standin.Adds),
	command("remove object", "remove-objects", objects, "objects", standin.Takes),
	command("see machines", "see-machines", machines, "machines", standin.Shows),
	command("connect to machine", "connect-to-machines", machines, "machines", standin.Notes),
	command("create machine", "create-machines", areas, "machines", standin.Adds),
	command("start machine", "start-machines", machines, "machines", standin.Notes),
	command("stop machine", "stop-machines", machines, "machines", standin.Notes),
	command("remove machine", "remove-machines", machines, "machines", standin.Takes),
	command("see images", "see-images", images, "images", standin.Shows),
	command("create image", "create-images", machines, "images", standin.Adds),
	command("remove image", "remove-images", images, "images", standin.Takes),
	command("see networks", "see-networks", networks, "networks", standin.Shows),
	command("change network", "change-networks", networks, "networks", standin.Adds),
	command("open network", "open-networks", networks, "networks", standin.Adds),
	command("see keys", "see-keys", keys, "keys", standin.Shows),
	command("use key", "use-keys", keys, "keys", standin.Notes),
	command("remove key", "remove-keys", keys, "keys", standin.Takes),
	command("see secrets", "see-secrets", secrets, "secret names", standin.Shows),
	command("read secret", "read-secrets", secrets, "secrets", standin.Shows),
	command("set secret", "set-secrets", secrets, "secrets", standin.Adds),
	command("see alerts", "see-alerts", alerts, "alerts", standin.Shows),
	command("set alert", "set-alerts", alerts, "alerts", standin.Adds),
	command("see activity", "see-activity", whole, standin.LogTopic, standin.Shows),
	command("stop activity record", "stop-activity-record", whole, "activity", standin.Notes),
	command("see settings", "see-settings", areas, "settings", standin.Shows),
	command("change setting", "change-settings", areas, "settings", standin.Adds),
	command("see bills", "see-bills", whole, "bills", standin.Shows),
	command("pay bill", "pay-bills", whole, "bills", standin.Takes),
	command("see support cases", "see-support", whole, "support", standin.Shows),
	command("open support case", "open-support", whole, "support", standin.Adds),
	command("see teams", "see-teams", whole, "", standin.Shows),
	command("see accounts", "see-accounts", whole, "", standin.Shows),
	command("manage accounts", standin.Managing, whole, "", standin.Notes),
}

// KeeperFile has the access key of the first keeper.
const KeeperFile = "keeper-access-key"

// mostKeys are how many access keys an account has.
const mostKeys = 4

// Cloud is a simulated cloud account.
type Cloud struct {
	*web.Site[*standin.Access]
	authority *web.Authority
}

// Open opens a cloud account in a folder, and makes it the first time.
func Open(how standin.Options) (*Cloud, error) {
	core, err := standin.Open(how, standin.Place{Path: standin.Root, Type: "cloud"}, Commands, standin.NewAccess())
	if err != nil {
		return nil, err
	}
	c := &Cloud{}
	c.Site = &web.Site[*standin.Access]{Core: core, Name: "cloud account",
		Identify: c.identify, About: c.about,
		Routes: map[string]http.HandlerFunc{"POST /access-keys": c.makeKey, "POST /access-keys/removed": c.removeKeys}}
	if c.authority, err = web.OpenAuthority(core.Folder, how.Now); err == nil {
		err = c.keeper()
	}
	if err != nil {
		core.Close()
		return nil, err
	}
	return c, nil
}

// keeper gives the first keeper an access key.
func (c *Cloud) keeper() error {
	if _, found, err := c.Folder.Read(KeeperFile); found || err != nil {
		return err
	}
	key, err := c.newKey(standin.Keeper)
	if err != nil {
		return err
	}
	return c.Folder.Write(KeeperFile, []byte(key+"\n"))
}

// newKey makes an access key for an account, and gives it as ID.SECRET.
func (c *Cloud) newKey(account string) (string, error) {
	kept := c.Passwords[account]
	kept.Keys = maps.Clone(kept.Keys)
	if kept.Keys == nil {
		kept.Keys = map[string]string{}
	}
	if len(kept.Keys) >= mostKeys {
		return "", errors.New("you have four access keys already: remove them first")
	}
	id, secret := rand.Text()[:12], rand.Text()
	kept.Keys[id] = hashed(secret)
	return id + "." + secret, c.Keep(account, kept)
}

func hashed(secret string) string { // which was drawn at random, and so needs nothing slower
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// Serve answers until the context ends.
func (c *Cloud) Serve(ctx context.Context, l net.Listener) error {
	secure, err := c.authority.Server(l.Addr(), web.Trust{})
	if err != nil {
		return err
	}
	return c.Site.Serve(ctx, l, secure)
}

// identify tells whose access key a request has: Authorization: Key ID.SECRET, with the account in front of it.
// A token comes in the same form.
func (c *Cloud) identify(r *http.Request) (account, role string, err error) {
	wrong := errors.New("sign in first, or send an access key: Authorization: Key ACCOUNT/ID.SECRET")
	key, given := strings.CutPrefix(r.Header.Get("Authorization"), "Key ")
	account, key, parted := strings.Cut(key, "/")
	id, secret, whole := strings.Cut(key, ".")
	if !given || !parted || !whole {
		return "", "", wrong
	}
	c.Lock()
	defer c.Unlock()
	if a := c.Settings.Accounts[account]; a != nil && a.Tokens[id].Fits(secret, c.Now()) {
		return account, standin.ByToken(id), nil
	}
	hash, found := c.Passwords[account].Keys[id]
	if fits := subtle.ConstantTimeCompare([]byte(hash), []byte(hashed(secret))) == 1; !fits || !found {
		return "", "", wrong
	}
	return account, "", nil
}

func (c *Cloud) about(account string) (out []string) {
	for _, id := range slices.Sorted(maps.Keys(c.Passwords[account].Keys)) {
		out = append(out, "You have the access key "+id+".")
	}
	return out
}

// signedIn reads what somebody sends, and sees that they have a password of their own.
func (c *Cloud) signedIn(w http.ResponseWriter, r *http.Request) (by web.SigningIn, ok bool) {
	if !web.ReadBody(w, r, 4096, &by) || !c.Passes(w, by.Account, by.Password) {
		return by, false
	}
	c.Lock()
	first := c.HasFirst(by.Account)
	c.Unlock()
	if first {
		web.Say(w, http.StatusForbidden, "Choose your own password first.")
	}
	return by, !first
}

// makeKey makes an access key for whoever asks, and tells it once.
func (c *Cloud) makeKey(w http.ResponseWriter, r *http.Request) {
	by, ok := c.signedIn(w, r)
	if !ok {
		return
	}
	c.Lock()
	defer c.Unlock()
	key, err := c.newKey(by.Account)
	if err != nil {
		web.Say(w, http.StatusForbidden, "Nothing was made: "+err.Error()+".")
		return
	}
	web.Say(w, http.StatusOK, "Your access key is "+by.Account+"/"+key+". It is not shown again.")
}

// removeKeys removes the access keys of whoever asks.
func (c *Cloud) removeKeys(w http.ResponseWriter, r *http.Request) {
	by, ok := c.signedIn(w, r)
	if !ok {
		return
	}
	c.Lock()
	defer c.Unlock()
	kept := c.Passwords[by.Account]
	kept.Keys = nil
	if err := c.Keep(by.Account, kept); err != nil {
		web.Say(w, http.StatusInternalServerError, "The stand-in failed, and nothing was done.")
		return
	}
	web.Say(w, http.StatusOK, "Your access keys are removed.")
}
