// Package network is a simulated console of a network: a command line over SSH, with sites, zones and pools, in which
// each command needs a right at the place that it names. The console decides by its own access settings.
package network

import "hiddengate/internal/standin"

var (
	devices    = []string{"network", "site", "device"}
	interfaces = []string{"network", "site", "device", "interface"}
	zones      = []string{"network", "zone", "record"}
	pools      = []string{"network", "site", "pool"}
	leased     = []string{"network", "site", "pool", "reservation"}
	whole      = []string{"network"}
)

// Commands are all but those about oneself.
var Commands = []standin.Command{
	command("see devices", "see-devices", devices, "devices", standin.Shows),
	command("add device", "manage-devices", []string{"network", "site"}, "devices", standin.Adds),
	command("remove device", "manage-devices", []string{"network", "site"}, "devices", standin.Takes),
	command("restart device", "restart-devices", devices, "devices", standin.Notes),
	command("see interfaces", "see-interfaces", interfaces, "interfaces", standin.Shows),
	command("change interface", "change-interfaces", interfaces, "interfaces", standin.Adds),
	command("switch interface", "switch-interfaces", interfaces, "interfaces", standin.Notes),
	command("see routes", "see-routes", devices, "routes", standin.Shows),
	command("add route", "change-routes", devices, "routes", standin.Adds),
	command("remove route", "change-routes", devices, "routes", standin.Takes),
	command("see access lists", "see-access-lists", devices, "access lists", standin.Shows),
	command("change access list", "change-access-lists", devices, "access lists", standin.Adds),
	command("see records", "see-records", zones, "records", standin.Shows),
	command("set address", "set-addresses", zones, "records", standin.Adds),
	command("set alias", "set-aliases", zones, "records", standin.Adds),
	command("set mail", "set-mail", zones, "records", standin.Adds),
	command("delegate zone", "delegate-zones", []string{"network", "zone"}, "records", standin.Adds),
	command("remove record", "remove-records", zones, "records", standin.Takes),
	command("see pools", "see-pools", leased, "pools", standin.Shows),
	command("change pool", "change-pools", pools, "pools", standin.Adds),
	command("reserve address", "reserve-addresses", leased, "pools", standin.Adds),
	command("release lease", "release-leases", leased, "pools", standin.Takes),
	command("see configuration", "see-configuration", devices, "configuration", standin.Shows),
	command("stage configuration", "stage-configuration", devices, "staged", standin.Adds),
	command("commit configuration", "commit-configuration", devices, "configuration", standin.Adds),
	command("save configuration", "save-configuration", devices, "configuration", standin.Notes),
	command("trace path", "trace-paths", devices, "routes", standin.Notes),
	command("see log", "see-logs", devices, standin.LogTopic, standin.Shows),
	command("export log", "export-logs", devices, standin.LogTopic, standin.Shows),
	command("see software", "see-software", devices, "software", standin.Shows),
	command("update software", "update-software", devices, "software", standin.Adds),
	command("see teams", "see-teams", whole, "", standin.Shows),
	command("see accounts", "see-accounts", whole, "", standin.Shows),
	command("manage accounts", standin.Managing, whole, "", standin.Notes),
}

var command = standin.NewCommand
