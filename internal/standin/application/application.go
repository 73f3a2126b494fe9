package application

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"

	"hiddengate/internal/standin"
	"hiddengate/internal/standin/web"
)

var (
	command = standin.NewCommand
	whole   = []string{"application"}
	areas   = []string{"application", "area"}
	items   = []string{"application", "area", "item"}
	reports = []string{"application", "area", "report"}
)

// Commands are what the application can do.
var Commands = []standin.Command{
	command("see area", "see-areas", areas, "area", standin.Shows),
	command("create area", "create-areas", whole, "area", standin.Adds),
	command("remove area", "remove-areas", areas, "area", standin.Takes),
	command("change stages", "change-stages", areas, "area", standin.Adds),
	command("read content", "read-content", items, content, standin.Shows),
	command("comment", "comment-on-content", items, "comments", standin.Adds),
	command("create content", "create-content", areas, content, standin.Adds),
	command("edit content", "edit-content", items, content, standin.Adds),
	command("remove content", "remove-content", items, content, standin.Takes),
	command("hand in", handing, items, stage, standin.Notes),
	command("see approvals", "see-approvals", items, stage, standin.Shows),
	command("accept", deciding, items, stage, standin.Notes),
	command("refuse", deciding, items, stage, standin.Notes),
	command("publish", publishing, items, stage, standin.Notes),
	command("withdraw", withdrawing, items, stage, standin.Notes),
	command("define report", "define-reports", reports, "reports", standin.Adds),
	command("see reports", "see-reports", reports, "reports", standin.Shows),
	command("export report", "export-reports", reports, "reports", standin.Shows),
	command("see connections", "see-connections", []string{"application", "connection"}, "connections", standin.Shows),
	command("change connection", "change-connections", []string{"application", "connection"}, "connections", standin.Adds),
	command("see history", "see-history", items, standin.LogTopic, standin.Shows),
	command("restore content", "restore-content", items, content, standin.Adds),
	command("see settings", "see-settings", areas, "settings", standin.Shows),
	command("change setting", "change-settings", areas, "settings", standin.Adds),
	command("see bills", "see-bills", whole, "bills", standin.Shows),
	command("pay bill", "pay-bills", whole, "bills", standin.Takes),
	command("see support cases", "see-support", whole, "support", standin.Shows),
	command("open support case", "open-support", whole, "support", standin.Adds),
	command("see roles", "see-roles", areas, "", standin.Shows),
	command("see accounts", "see-accounts", whole, "", standin.Shows),
	command("manage accounts", standin.Managing, whole, "", standin.Notes),
}

const (
	content     = "content"
	stage       = "stage"
	handing     = "hand-in"
	deciding    = "decide"
	publishing  = "publish"
	withdrawing = "withdraw"
)

// steps are the stages through which content passes: which of them each command ends, and which it begins.
var steps = map[string][2]string{
	"hand in":  {"at work", "handed in"},
	"accept":   {"handed in", "accepted"},
	"refuse":   {"handed in", "at work"},
	"publish":  {"accepted", "published"},
	"withdraw": {"published", "at work"},
}

// Application is a simulated application.
type Application struct{ *web.Site[*Settings] }

// Open opens an application in a folder, and makes it the first time.
func Open(how standin.Options) (*Application, error) {
	core, err := standin.Open(how, standin.Place{Path: standin.Root, Type: "application"}, Commands, &Settings{
		Accounts: map[string]*Account{standin.Keeper: {Keeper: true, Note: "made at the start"}}})
	if err != nil {
		return nil, err
	}
	a := &Application{}
	a.Site = &web.Site[*Settings]{Core: core, Name: "application", Special: a.special, Enter: a.enter,
		About: a.about, Routes: map[string]http.HandlerFunc{"POST /second-factor": a.enrol,
			"PUT /second-factors": func(w http.ResponseWriter, r *http.Request) { a.Managing(w, r, a.equip) }}}
	return a, nil
}

// Serve answers until the context ends.
func (a *Application) Serve(ctx context.Context, l net.Listener) error {
	return a.Site.Serve(ctx, l, nil)
}

// enter sees that whoever signs in has chosen one of their roles, and has the second factor where one is wanted.
func (a *Application) enter(by *web.SigningIn) error {
	if secret := a.Passwords[by.Account].Factor; secret != "" {
		if !fits(secret, by.Code, a.Now()) && !a.recovers(by.Account, by.Code) {
			a.NotSignedIn(by.Account)
			return errors.New("the code of the second factor is missing or wrong")
		}
	} else if a.Settings.Accounts[by.Account].Factor {
		return errors.New("you have no second factor yet: make one with /second-factor")
	}
	roles := a.Settings.rolesOf(by.Account)
	switch {
	case by.Role == "" && len(roles) == 1:
		by.Role = roles[0]
	case len(roles) == 0:
		by.Role = Visitor
	case !slices.Contains(roles, by.Role):
		return fmt.Errorf("choose one of your roles: %s", strings.Join(roles, ", "))
	}
	return nil
}

func (a *Application) about(account string) []string {
	out := []string{"You can choose " + strings.Join(a.Settings.rolesOf(account), ", ") + "."}
	if a.Passwords[account].Factor != "" {
		out = append(out, "You have a second factor.")
	}
	return out
}

// enrol makes a second factor for whoever has a password and none yet, and tells its secret once.
func (a *Application) enrol(w http.ResponseWriter, r *http.Request) {
	var by web.SigningIn
	if !web.ReadBody(w, r, 4096, &by) || !a.Passes(w, by.Account, by.Password) {
		return
	}
	secret := newFactor()
	a.Lock()
	kept := a.Passwords[by.Account]
	had := kept.Factor != "" || kept.First
	kept.Factor = secret
	var err error
	if !had {
		err = a.Keep(by.Account, kept)
	}
	a.Unlock()
	switch {
	case had:
		web.Say(w, http.StatusForbidden, "You have a second factor already, or have to choose your own password first.")
	case err != nil:
		web.Say(w, http.StatusInternalServerError, "The stand-in failed, and nothing was done.")
	default:
		web.Say(w, http.StatusOK, "The secret of your second factor is "+secret+". It is not shown again.")
	}
}

// special does what the application alone does: it lets content pass through its stages.
func (a *Application) special(o standin.Order, who *standin.Asker) (said []string, done, special bool, err error) {
	step, passes := steps[o.Command.Words]
	if !passes {
		return nil, false, false, nil
	}
	is := steps["refuse"][1]
	if lines := a.Places[o.Place].Lines[stage]; len(lines) > 0 {
		is = lines[0]
	}
	if is != step[0] {
		return []string{standin.NotNow + "it is " + is + ", not " + step[0] + "."}, false, true, nil
	}
	err = a.Change(o.Place, stage, who.Account, o.Command.Words, func([]string) []string { return []string{step[1]} })
	return []string{"It is " + step[1] + " now."}, err == nil, true, err
}
