package estate

// FindingCodes are the findings `check` can report, by code; package finding has one for each.
var FindingCodes = []string{
	"anonymous-unblocked", "approvers-missing", "clock-dependent-test", "credential-expiring",
	"credential-outlives-access", "default-membership", "direct-grant",
	"dormant", "empty-group",
	"expired", "far-end", "future-wide", "govern-everywhere", "ids-differ-by-case", "ids-look-alike",
	"invitation-open", "left-behind",
	"level-gap", "loan-open-for-review",
	"matches-nothing", "missing-need", "networks-one-family", "never-in-force", "no-certificate-fits",
	"no-end", "no-second-factor", "no-sign-in", "over-ceiling", "owner-gone",
	"redundant-grant",
	"reserve-only-owner", "reserve-used", "role-full", "role-short", "secret-in-policy", "separation-broken",
	"shadowed-grant", "shared-account",
	"single-holder", "standing-high-risk", "unacknowledged", "unknown-operation", "unlisted-address", "unused-role",
	"unused-scope", "way-to-more",
}
