// Package ldap carries a policy to a directory that is reached by LDAP (RFC 4511): who belongs to which group. People's
// entries are their accounts, and are never made or changed.
package ldap

import (
	"hiddengate/internal/target"
)

// belonging is the one right that is carried, by its place in Driver.Carries.Natives.
const belonging = 0

const (
	memberAttribute = "member"
	oneByOne        = "each group is carried by itself"
)

// Driver is the driver for directories.
var Driver = &target.Driver{
	Name:    "ldap",
	About:   "a directory that speaks LDAP, with its groups of names, groups of unique names and posix groups",
	Kind:    "directory",
	Address: "ldaps://HOST/BASE?user=DN",
	Names: "A unit or group is named by its path from the base downwards, by the values of its names: " +
		"`groups/dome-crew` is `cn=dome-crew,ou=groups` there. An account is an entry of a person, named by " +
		"its `uid`, or by its `cn` where it has none. The address may have `ca=FILE` for the authorities that " +
		"are trusted, and `tls=off`.",
	Carries: target.Carries{
		Natives: []target.Native{{Name: memberAttribute, Types: []string{"group"}, Gives: []string{"membership.hold"}}},
		Notes: []target.Note{{Operation: "membership.hold", Types: []string{"unit"}, How: target.Narrower,
			Why: oneByOne}},
	},
	Connect: connect,
	Blank:   blank,
}
