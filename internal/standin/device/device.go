// Package device is a simulated console of a device, over HTTP: what it shows live, where it points, and a control
// that one alone has at a time.
package device

import (
	"context"
	"net"

	"hiddengate/internal/standin"
	"hiddengate/internal/standin/web"
)

var (
	command = standin.NewCommand
	unit    = []string{"unit"}
	parts   = []string{"unit", "part"}
)

// The rights about the control, of which the console knows more than that they are rights.
const (
	taking  = "take-control"
	setting = "set-position"
	live    = "see-live"
)

// Commands are what the console can do.
var Commands = []standin.Command{
	command("see state", "see-state", parts, "state", standin.Shows),
	command("restart", "restart", unit, "state", standin.Notes),
	command("exchange unit", "exchange-unit", unit, "state", standin.Adds),
	command("see live", live, parts, "", standin.Shows),
	command("see recordings", "see-recordings", parts, "recordings", standin.Shows),
	command("export recordings", "export-recordings", parts, "recordings", standin.Shows),
	command("remove recording", "remove-recordings", parts, "recordings", standin.Takes),
	command("set recording time", "set-recording-time", parts, "settings", standin.Adds),
	command("take control", taking, parts, "", standin.Notes),
	command("leave control", taking, parts, "", standin.Notes),
	command("override limits", "override-limits", parts, "state", standin.Adds),
	command("see positions", "see-positions", parts, "positions", standin.Shows),
	command("go to", setting, parts, "pointing", standin.Adds),
	command("store position", "store-positions", parts, "positions", standin.Adds),
	command("forget position", "store-positions", parts, "positions", standin.Takes),
	command("see timetable", "see-timetable", unit, "timetable", standin.Shows),
	command("change timetable", "change-timetable", unit, "timetable", standin.Adds),
	command("see routines", "see-routines", unit, "routines", standin.Shows),
	command("run routine", "run-routines", unit, "state", standin.Adds),
	command("change routine", "change-routines", unit, "routines", standin.Adds),
	command("see upkeep", "see-upkeep", parts, "upkeep", standin.Shows),
	command("perform upkeep", "perform-upkeep", parts, "upkeep", standin.Adds),
	command("see settings", "see-settings", parts, "settings", standin.Shows),
	command("change setting", "change-settings", parts, "settings", standin.Adds),
	command("see files", "see-files", unit, "files", standin.Shows),
	command("read file", "read-files", unit, "files", standin.Shows),
	command("write file", "write-files", unit, "files", standin.Adds),
	command("remove file", "remove-files", unit, "files", standin.Takes),
	command("see software", "see-software", unit, "software", standin.Shows),
	command("update software", "update-software", unit, "software", standin.Adds),
	command("see log", "see-log", unit, standin.LogTopic, standin.Shows),
	command("see teams", "see-teams", unit, "", standin.Shows),
	command("see accounts", "see-accounts", unit, "", standin.Shows),
	command("manage accounts", standin.Managing, unit, "", standin.Notes),
}

// Console is a simulated console of a device.
type Console struct {
	*web.Site[*standin.Access]
	holders map[string]string // by place: the account that has the control
}

// Open opens a console in a folder, and makes it the first time.
func Open(how standin.Options) (*Console, error) {
	core, err := standin.Open(how, standin.Place{Path: standin.Root, Type: "unit"},
		Commands, standin.NewAccess())
	if err != nil {
		return nil, err
	}
	c := &Console{holders: map[string]string{}}
	c.Site = &web.Site[*standin.Access]{Core: core, Name: "device console", Special: c.special}
	return c, nil
}

// Serve answers until the context ends.
func (c *Console) Serve(ctx context.Context, l net.Listener) error { return c.Site.Serve(ctx, l, nil) }

// holder tells who has the control of a place: an account that may have it still.
func (c *Console) holder(at string) string {
	account := c.holders[at]
	if account != "" && !c.Settings.May(account, "", taking, at, c.Now()) {
		delete(c.holders, at)
		return ""
	}
	return account
}

// rank says where somebody stands at a place: 1 is the first.
func (c *Console) rank(account, at string) int {
	if rank := c.Settings.Accounts[account].Ranks[at]; rank > 0 {
		return rank
	}
	return int(^uint(0) >> 1)
}

// special does what the console alone does: it gives the control to one at a time.
func (c *Console) special(o standin.Order, who *standin.Asker) (said []string, done, special bool, err error) {
	switch o.Command.Right {
	case live:
		return c.live(o.Place), true, true, nil
	case setting:
		if has := c.holder(o.Place); has != "" && has != who.Account {
			return []string{standin.NotNow + has + " has the control."}, false, true, nil
		}
		return nil, false, false, nil
	case taking:
		said, done = c.control(o, who.Account)
		if done {
			err = c.Carry(o, who.Account)
		}
		return said, done, true, err
	}
	return nil, false, false, nil
}

func (c *Console) live(at string) []string {
	pointing := "the north"
	if lines := c.Places[at].Lines["pointing"]; len(lines) > 0 {
		pointing = lines[len(lines)-1]
	}
	has := c.holder(at)
	if has == "" {
		has = "nobody"
	}
	return []string{"It points to " + pointing + ", at " + c.Now().UTC().Format("15:04:05") + " UTC.",
		has + " has the control."}
}

// control gives the control to whoever takes it, unless somebody has it who stands no lower; or takes it from whoever
// leaves it.
func (c *Console) control(o standin.Order, account string) (said []string, done bool) {
	at, has := o.Place, c.holder(o.Place)
	if o.Command.Words == "leave control" {
		if has != account {
			return []string{standin.NotNow + "you do not have the control."}, false
		}
		delete(c.holders, at)
		return []string{"You have left the control."}, true
	}
	switch {
	case has == "" || has == account:
		c.holders[at] = account
		return []string{"You have the control."}, true
	case c.rank(account, at) < c.rank(has, at):
		c.holders[at] = account
		return []string{"You have the control: you come before " + has + ", who had it."}, true
	case c.rank(account, at) == c.rank(has, at):
		return []string{standin.NotNow + has + " has the control and keeps it: you stand alike."}, false
	}
	return []string{standin.NotNow + has + " has the control and comes before you."}, false
}
