package finding

import (
	"hiddengate/internal/diagnostic"
)

var loanOpenForReview = &Finding{
	Code: "loan-open-for-review", Severity: diagnostic.Warning,
	Doc:  "Somebody had access in an emergency, without its approvals, and no approver has signed that off yet.",
	Cure: "approve the request if it was right, or refuse it, which ends what is left of it",
	find: func(c *check) {
		for _, r := range c.loans {
			if !r.ToSignOff() {
				continue
			}
			reason := ""
			if r.Reason != "" {
				reason = ": " + r.Reason
			}
			c.report(&r.Grant.Object, r.Grant.Source.Position,
				"request %d of %s for grant %s was an emergency, and is not signed off%s", r.Number, r.Subject, r.GrantID, reason)
		}
	},
}
