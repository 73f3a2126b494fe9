package simulated

import (
	"hiddengate/internal/standin/application"
	"hiddengate/internal/standin/cloud"
	"hiddengate/internal/standin/cluster"
	"hiddengate/internal/standin/device"
)

const secureAddress = "https://keeper@127.0.0.1:PORT?authority=FILE"

// cloudKind is how a cloud account is spoken with.
var cloudKind = newKind(kind{name: "cloud", about: "the simulated account with a provider", serves: "cloud-account",
	address: secureAddress, team: "team", alone: true, tokens: true,
	reach: reachWith(byAccessKey)}, cloud.Commands, []pair{
	{"store.view", "see stores"}, {"store.create", "create store"}, {"store.remove", "remove store"},
	{"store.publish", "publish store"}, {"object.list", "list objects"}, {"object.read", "read object"},
	{"object.write", "write object"}, {"object.remove", "remove object"}, {"machine.view", "see machines"},
	{"machine.connect", "connect to machine"}, {"machine.create", "create machine"}, {"machine.start", "start machine"},
	{"machine.stop", "stop machine"}, {"machine.remove", "remove machine"}, {"image.view", "see images"},
	{"image.create", "create image"}, {"image.remove", "remove image"}, {"network.view", "see networks"},
	{"network.change", "change network"}, {"network.open", "open network"}, {"key.view", "see keys"},
	{"key.use", "use key"}, {"key.remove", "remove key"}, {"secret.view", "see secrets"}, {"secret.read", "read secret"},
	{"secret.set", "set secret"}, {"alert.view", "see alerts"}, {"alert.set", "set alert"},
	{"activity.view", "see activity"}, {"activity.stop", "stop activity record"}, {"settings.view", "see settings"},
	{"settings.change", "change setting"}, {"bill.view", "see bills"}, {"bill.pay", "pay bill"},
	{"support.view", "see support cases"}, {"support.open", "open support case"}, {"role.view", "see teams"},
	{"account.view", "see accounts"},
}, []string{"account.create", "account.remove", "account.set-password", "role.assign", "role.alter"})

// clusterKind is how a cluster is spoken with.
var clusterKind = newKind(kind{name: "cluster", about: "the simulated cluster", serves: "cluster",
	address: secureAddress, team: "team", alone: true, certified: true,
	reach: reachWith(byCertificate)}, cluster.Commands, []pair{
	{"space.view", "see space"}, {"space.create", "create space"}, {"space.set-share", "set share"},
	{"space.remove", "remove space"}, {"space.view-disks", "see disks"}, {"space.reserve-disk", "reserve disk"},
	{"space.remove-disk", "remove disk"}, {"run.view", "see workload"}, {"run.deploy", "deploy"}, {"run.scale", "scale"},
	{"run.restart", "restart"}, {"run.remove", "stop for good"}, {"run.view-batches", "see batches"},
	{"run.start-batch", "start batch"}, {"run.cancel-batch", "cancel batch"}, {"run.read-output", "read output"},
	{"run.open-console", "open console"}, {"run.view-settings", "see settings"}, {"run.change-settings", "change setting"},
	{"machine.view", "see machines"}, {"machine.empty", "empty machine"}, {"machine.add", "add machine"},
	{"machine.take-out", "take out machine"}, {"traffic.view", "see traffic"}, {"traffic.change", "change traffic"},
	{"traffic.expose", "expose"}, {"secret.view", "see secrets"}, {"secret.read", "read secret"},
	{"secret.set", "set secret"}, {"secret.remove", "remove secret"}, {"certificate.view", "see certificates"},
	{"certificate.request", "request certificate"}, {"certificate.approve", "approve certificate"},
	{"role.view", "see teams"}, {"account.view", "see accounts"},
}, []string{"account.create", "account.remove", "account.set-keys", "role.assign", "role.alter"})

// deviceKind is how a device console is spoken with.
var deviceKind = newKind(kind{name: "device", about: "the simulated console of a device", serves: "device-console",
	address: "http://keeper@127.0.0.1:PORT", team: "team", alone: true, ranks: "take-control", sessions: true,
	reach: reachWith(byPassword)}, device.Commands, []pair{
	{"unit.view", "see state"}, {"unit.restart", "restart"}, {"unit.exchange", "exchange unit"}, {"live.view", "see live"},
	{"recorded.view", "see recordings"}, {"recorded.export", "export recordings"},
	{"recorded.remove", "remove recording"}, {"recording-time.set", "set recording time"},
	{"control.take", "take control"}, {"control.override", "override limits"}, {"position.view", "see positions"},
	{"position.set", "go to"}, {"position.store", "store position"}, {"timetable.view", "see timetable"},
	{"timetable.change", "change timetable"}, {"routine.view", "see routines"}, {"routine.run", "run routine"},
	{"routine.change", "change routine"}, {"upkeep.view", "see upkeep"}, {"upkeep.perform", "perform upkeep"},
	{"settings.view", "see settings"}, {"settings.change", "change setting"}, {"file.view", "see files"},
	{"file.read", "read file"}, {"file.write", "write file"}, {"file.remove", "remove file"},
	{"software.view", "see software"}, {"software.update", "update software"}, {"log.view", "see log"},
	{"role.view", "see teams"}, {"account.view", "see accounts"},
}, []string{"account.create", "account.remove", "account.set-password", "role.assign"})

// applicationKind is how an application is spoken with.
var applicationKind = newKind(kind{name: "application", about: "the simulated application", serves: "application",
	address: "http://keeper@127.0.0.1:PORT", team: "role", factors: true, sessions: true,
	reach: reachApplication}, application.Commands, []pair{
	{"area.view", "see area"}, {"area.create", "create area"}, {"area.remove", "remove area"},
	{"stage.change", "change stages"}, {"content.view", "read content"}, {"content.comment", "comment"},
	{"content.create", "create content"}, {"content.edit", "edit content"}, {"content.remove", "remove content"},
	{"content.submit", "hand in"}, {"approval.view", "see approvals"}, {"approval.decide", "accept"},
	{"publishing.publish", "publish"}, {"publishing.withdraw", "withdraw"}, {"report.define", "define report"},
	{"report.view", "see reports"}, {"report.export", "export report"}, {"connection.view", "see connections"},
	{"connection.change", "change connection"}, {"history.view", "see history"}, {"history.restore", "restore content"},
	{"settings.view", "see settings"}, {"settings.change", "change setting"}, {"bill.view", "see bills"},
	{"bill.pay", "pay bill"}, {"support.view", "see support cases"}, {"support.open", "open support case"},
	{"role.view", "see roles"}, {"account.view", "see accounts"},
}, []string{"account.create", "account.alter", "account.remove", "account.set-password", "role.assign", "role.alter"})
