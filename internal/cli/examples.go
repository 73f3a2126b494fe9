package cli

import "strings"

const exampleDelegation = "hgate add delegation leads-hand-out --to ines.okafor --may-grant night-operator " +
	"--on scope:dishes"

const exampleKind = "hgate add kind balance --types balance --operations 'weighing.read: {level: view}'"

// examples of an edit, by sort of entry, in the folder that `hgate demo` writes.
var examples = map[string]map[string]string{
	"add": {
		"kind":       exampleKind,
		"system":     "hgate add system east-dish --kind device-console --title 'East dish' --tags duty=day",
		"profile":    "hgate add profile reduce-hour --authority base-ca --system reduce --longest 1h --approvals 1",
		"resource":   "hgate add resource obsdb:sky/frames-0412 --tags embargo=yes --owner pia.lindqvist",
		"person":     "hgate add person luc.arnaud --name 'Luc Arnaud' --tags team=domes --groups dome-crew",
		"service":    "hgate add service weather-watch --owner marek.dvorin --tags team=domes",
		"group":      "hgate add group night-guests --members pia.lindqvist --stewards ines.okafor",
		"role":       "hgate add role frame-copier --template database/reader",
		"scope":      "hgate add scope calibrated --resources '{in: obsdb:sky, type: table}'",
		"grant":      "hgate add grant crew-watches --to group:dome-crew --role looker-on --on dome-camera",
		"block":      "hgate add block no-night-stops --deny server.stop --on obsdb --when 'hours: daily 18:00-06:00'",
		"separation": "hgate add separation keep-or-audit --roles data-keeper,looker-on --within person",
		"delegation": exampleDelegation,
		"test":       "hgate add test vera-pays --who vera.stahl --allowed 'bill.pay on archive'",
		"guarantee":  "hgate add guarantee guests-drop-none --never group:visitors --may table.drop --on everything",
	},
	"set": {
		"kind":       "hgate set kind balance --named 'pans=pan'",
		"system":     "hgate set system obsdb --title 'Database of all frames'",
		"profile":    "hgate set profile reduce-client --longest 14d",
		"resource":   "hgate set resource obsdb:sky/frames-0388 --tags embargo=no",
		"person":     "hgate set person ines.okafor --ends 2032-06-30",
		"service":    "hgate set service nightly-reduce --owner ines.okafor",
		"group":      "hgate set group night-operators --members +ines.okafor,-joao.ferraz",
		"role":       "hgate set role reader --allow +report.view",
		"scope":      "hgate set scope dishes --resources +dome-camera",
		"grant":      "hgate set grant juniors-watch --when 'hours: mon-fri 08:00-18:00'",
		"block":      "hgate set block auditors-see-no-rules --deny +secret.view",
		"separation": "hgate set separation propose-or-judge --within person",
		"delegation": "hgate set delegation leads-hand-out --longest 30d",
		"test":       "hgate set test billing-alone --about 'Whoever pays the bills sees no data.'",
		"guarantee":  "hgate set guarantee visitors-alter-no-data --on obsdb",
	},
	"copy": {
		"person": "hgate copy person marek.dvorin luc.arnaud --name 'Luc Arnaud' --except group:dish-drivers",
		"role":   "hgate copy role dish-driver dish-parker --allow unit.view,position.set",
		"grant":  "hgate copy grant juniors-watch juniors-read --role frame-reader",
	},
}

// inDemo names an entry of each sort that the demo has.
var inDemo = map[string]string{
	"kind": "balance", "system": "north-dish", "resource": "obsdb:sky/catalogue",
	"profile": "reduce-client", "person": "marek.dvorin",
	"service": "nightly-reduce",
	"group":   "dome-crew",
	"role":    "reader", "scope": "dishes", "grant": "juniors-watch", "block": "auditors-see-no-rules",
	"separation": "propose-or-judge", "delegation": "leads-hand-out", "test": "billing-alone",
	"guarantee": "visitors-alter-no-data",
}

// exampleOf gives an example of an edit of a sort of entry.
func exampleOf(verb, one string) string {
	text := examples[verb][one]
	id := inDemo[one]
	switch {
	case text != "":
	case verb == "copy" && one == "resource", verb == "rename" && one == "resource":
		text = "hgate " + verb + " resource " + id + " obsdb:sky/index"
	case verb == "copy" || verb == "rename":
		text = "hgate " + verb + " " + one + " " + id + " " + id + "-2"
	case verb == "remove":
		text = "hgate remove " + one + " " + id + " --with-references"
	}
	for sort, first := range map[string]string{"delegation": exampleDelegation, "kind": exampleKind} { // the demo has none
		if one == sort && !strings.HasPrefix(text, first) {
			text = first + "\n  " + text
		}
	}
	return "  " + text
}
