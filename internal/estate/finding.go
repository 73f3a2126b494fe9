package estate

// FindingCodes are the findings `check` can report, by code; package finding has one for each.
var FindingCodes = []string{
	"anonymous-unblocked", "clock-dependent-test", "direct-grant", "expired", "far-end",
	"guarantee-unjudged", "ids-differ-by-case", "level-gap", "matches-nothing", "missing-need", "never-in-force", "separation-broken",
	"unknown-operation", "unlisted-address",
}
