// Package cluster is a simulated cluster over HTTPS: spaces with workloads, to which people sign in with certificates
// that the cluster's own authority signs on request.
package cluster

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"hiddengate/internal/standin"
	"hiddengate/internal/standin/web"
)

var (
	command   = standin.NewCommand
	whole     = []string{"cluster"}
	spaces    = []string{"cluster", "space"}
	workloads = []string{"cluster", "space", "workload"}
	machines  = []string{"cluster", "machine"}
	secrets   = []string{"cluster", "space", "secret"}
)

// Commands are what the cluster can do.
var Commands = []standin.Command{
	command("see space", "see-spaces", spaces, "space", standin.Shows),
	command("create space", "create-spaces", whole, "space", standin.Adds),
	command("set share", "set-shares", spaces, "space", standin.Adds),
	command("remove space", "remove-spaces", spaces, "space", standin.Takes),
	command("see disks", "see-disks", spaces, "disks", standin.Shows),
	command("reserve disk", "reserve-disks", spaces, "disks", standin.Adds),
	command("remove disk", "remove-disks", spaces, "disks", standin.Takes),
	command("see workload", "see-workloads", workloads, "running", standin.Shows),
	command("deploy", "deploy", workloads, "running", standin.Adds),
	command("scale", "scale", workloads, "running", standin.Adds),
	command("restart", "restart", workloads, "running", standin.Notes),
	command("stop for good", "remove-workloads", workloads, "running", standin.Takes),
	command("see batches", "see-batches", workloads, "batches", standin.Shows),
	command("start batch", "start-batches", workloads, "batches", standin.Adds),
	command("cancel batch", "cancel-batches", workloads, "batches", standin.Takes),
	command("read output", "read-output", workloads, standin.LogTopic, standin.Shows),
	command("open console", "open-consoles", workloads, "running", standin.Notes),
	command("see settings", "see-workload-settings", workloads, "settings", standin.Shows),
	command("change setting", "change-workload-settings", workloads, "settings", standin.Adds),
	command("see machines", "see-machines", machines, "machines", standin.Shows),
	command("empty machine", "empty-machines", machines, "machines", standin.Notes),
	command("add machine", "add-machines", whole, "machines", standin.Adds),
	command("take out machine", "take-out-machines", machines, "machines", standin.Takes),
	command("see traffic", "see-traffic", spaces, "traffic", standin.Shows),
	command("change traffic", "change-traffic", spaces, "traffic", standin.Adds),
	command("expose", "expose", workloads, "traffic", standin.Adds),
	command("see secrets", "see-secrets", secrets, "secret names", standin.Shows),
	command("read secret", "read-secrets", secrets, "secrets", standin.Shows),
	command("set secret", "set-secrets", secrets, "secrets", standin.Adds),
	command("remove secret", "remove-secrets", secrets, "secrets", standin.Takes),
	command("see certificates", "see-certificates", whole, requests, standin.Shows),
	command("request certificate", "request-certificates", whole, "", standin.Notes),
	command("approve certificate", approving, whole, requests, standin.Adds),
	command("see teams", "see-teams", spaces, "", standin.Shows),
	command("see accounts", "see-accounts", whole, "", standin.Shows),
	command("manage accounts", standin.Managing, whole, "", standin.Notes),
}

const (
	requests = "certificates"
	// requestsName is the file of the folder that has the signing requests.
	requestsName = "signing-requests.json"
	approving    = "approve-certificates"
	// KeeperFile has the key and the certificate of the first keeper.
	KeeperFile = "keeper.pem"
	lasts      = 90 * 24 * time.Hour
	// mostRequests are how many signing requests wait; the oldest go.
	mostRequests = 1000
)

// Cluster is a simulated cluster.
type Cluster struct {
	*web.Site[*standin.Access]
	authority *web.Authority
	waiting   waiting
	trust     web.Trust
}

// waiting are the signing requests, which outlive the cluster.
type waiting struct {
	Last     int              `json:"last"`
	Requests map[int]*request `json:"requests"`
}

// request is a signing request.
type request struct {
	Account     string `json:"account"`
	PEM         string `json:"pem"`
	Certificate string `json:"certificate,omitempty"`
}

// Open opens a cluster in a folder, and makes it the first time.
func Open(how standin.Options) (*Cluster, error) {
	core, err := standin.Open(how, standin.Place{Path: standin.Root, Type: "cluster"}, Commands, standin.NewAccess())
	if err != nil {
		return nil, err
	}
	c := &Cluster{trust: web.Trust{Authorities: how.Trust, Revoked: how.Revoked}}
	if c.authority, err = web.OpenAuthority(core.Folder, how.Now); err == nil {
		err = c.keeper(core.Folder)
	}
	if err == nil {
		err = c.load(core.Folder)
	}
	if err != nil {
		core.Close()
		return nil, err
	}
	c.Site = &web.Site[*standin.Access]{Core: core, Name: "cluster", Special: c.special, Identify: c.identify,
		Enter: func(*web.SigningIn) error {
			return errors.New("sign in with a certificate: ask for one with /certificate-requests")
		},
		Routes: map[string]http.HandlerFunc{"POST /certificate-requests": c.ask, "POST /certificates": c.fetch}}
	return c, nil
}

// keeper gives the first keeper a certificate.
func (c *Cluster) keeper(f *standin.Folder) error {
	if _, found, err := f.Read(KeeperFile); found || err != nil {
		return err
	}
	both, err := c.authority.Issue(standin.Keeper, lasts)
	if err != nil {
		return err
	}
	return f.Write(KeeperFile, both)
}

// load reads the signing requests.
func (c *Cluster) load(f *standin.Folder) error {
	c.waiting.Requests = map[int]*request{}
	text, found, err := f.Read(requestsName)
	if err != nil || !found {
		return err
	}
	if err := standin.Strictly(text, &c.waiting); err != nil {
		return fmt.Errorf("%s: %w", f.Path(requestsName), err)
	}
	for n, one := range c.waiting.Requests {
		if one == nil {
			delete(c.waiting.Requests, n)
		}
	}
	return nil
}

// save puts the signing requests in place.
func (c *Cluster) save() error {
	text, err := json.Marshal(c.waiting)
	if err != nil {
		return err
	}
	return c.Folder.Write(requestsName, text)
}

// Serve answers until the context ends.
func (c *Cluster) Serve(ctx context.Context, l net.Listener) error {
	secure, err := c.authority.Server(l.Addr(), c.trust)
	if err != nil {
		return err
	}
	return c.Site.Serve(ctx, l, secure)
}

// identify tells whose certificate a client shows. TLS has seen that the authority signed it and that it lasts.
func (c *Cluster) identify(r *http.Request) (account, role string, err error) {
	if r.TLS == nil || len(r.TLS.VerifiedChains) == 0 {
		return "", "", errors.New("show a certificate")
	}
	return r.TLS.VerifiedChains[0][0].Subject.CommonName, "", nil
}

// asking is what somebody sends who has a password and wants a certificate.
type asking struct {
	Account  string `json:"account"`
	Password string `json:"password"`
	Request  string `json:"request,omitempty"` // in PEM
	Number   int    `json:"number,omitempty"`
}

// signedIn reads what somebody sends, and sees that the password is theirs.
func (c *Cluster) signedIn(w http.ResponseWriter, r *http.Request) (by asking, ok bool) {
	return by, web.ReadBody(w, r, 64<<10, &by) && c.Passes(w, by.Account, by.Password)
}

// ask takes a signing request of somebody who has a password, which a first one is good enough for.
func (c *Cluster) ask(w http.ResponseWriter, r *http.Request) {
	by, ok := c.signedIn(w, r)
	if !ok {
		return
	}
	if _, err := c.authority.Sign([]byte(by.Request), by.Account, lasts); err != nil { // it would come to nothing
		web.Say(w, http.StatusBadRequest, "It cannot be taken: "+err.Error()+".")
		return
	}
	c.Lock()
	defer c.Unlock()
	c.waiting.Last++
	n := c.waiting.Last
	c.waiting.Requests[n] = &request{Account: by.Account, PEM: by.Request}
	if err := c.save(); err != nil {
		delete(c.waiting.Requests, n)
		web.Say(w, http.StatusInternalServerError, "The stand-in failed, and nothing was done.")
		return
	}
	delete(c.waiting.Requests, n-mostRequests)
	web.Say(w, http.StatusOK, fmt.Sprintf("Request %d waits for approval.", n))
}

// fetch hands out a certificate that was approved.
func (c *Cluster) fetch(w http.ResponseWriter, r *http.Request) {
	by, ok := c.signedIn(w, r)
	if !ok {
		return
	}
	c.Lock()
	defer c.Unlock()
	switch one := c.waiting.Requests[by.Number]; {
	case one == nil || one.Account != by.Account:
		web.Say(w, http.StatusNotFound, "You have no such request.")
	case one.Certificate == "":
		web.Say(w, http.StatusForbidden, "It waits for approval.")
	default:
		web.Say(w, http.StatusOK, one.Certificate)
	}
}

// special does what the cluster alone does: it tells of signing requests, and signs what is approved.
func (c *Cluster) special(o standin.Order, who *standin.Asker) (said []string, done, special bool, err error) {
	switch o.Command.Right {
	case "see-certificates":
		for _, n := range slices.Sorted(maps.Keys(c.waiting.Requests)) {
			said = append(said, fmt.Sprintf("%d: for %s, %s", n, c.waiting.Requests[n].Account,
				map[bool]string{true: "signed", false: "waits"}[c.waiting.Requests[n].Certificate != ""]))
		}
		return append(said, fmt.Sprintf("%d requests.", len(said))), true, true, nil
	case "request-certificates":
		return []string{"Send a signing request to /certificate-requests, with your account and password."}, true, true, nil
	case approving:
		n, err := strconv.Atoi(strings.TrimSpace(o.Value))
		one := c.waiting.Requests[n]
		if err != nil || one == nil {
			return []string{standin.NotNow + "there is no such request."}, false, true, nil
		}
		if one.Account == who.Account {
			return []string{standin.NotNow + "it is your own, which somebody else approves."}, false, true, nil
		}
		signed, err := c.authority.Sign([]byte(one.PEM), one.Account, c.until(one.Account))
		if err != nil {
			return []string{standin.NotNow + err.Error() + "."}, false, true, nil
		}
		if err := c.Carry(o, who.Account); err != nil {
			return nil, false, true, err
		}
		one.Certificate = string(signed)
		if err := c.save(); err != nil {
			one.Certificate = ""
			return nil, false, true, err
		}
		return []string{fmt.Sprintf("Request %d of %s is signed.", n, one.Account)}, true, true, nil
	}
	return nil, false, false, nil
}

// until says how long a certificate lasts: no longer than its account.
func (c *Cluster) until(account string) time.Duration {
	if a := c.Settings.Accounts[account]; a != nil && a.Ends != nil {
		return min(lasts, a.Ends.Sub(c.Now()))
	}
	return lasts
}
