package change

import "hiddengate/internal/diagnostic"

// Rule is one of the rules by which a change is its author's to make, or not.
type Rule string

// The rules. Whatever none of them permits is refused.
const (
	AuthorActive  Rule = "author-active"  // whoever makes a change is an active person or service at that moment
	GainDelegated Rule = "gain-delegated" // what somebody gets, now or ever, a delegation lets the author hand out
	GainByGrant   Rule = "gain-by-grant"  // it is handed out by a grant, and not by what grants and blocks ask about
	BlockStands   Rule = "block-stands"   // what a block stops it goes on stopping
	// whoever joins a group that may be edited gets no more than the delegation's ceiling
	JoinCeiling Rule = "join-ceiling"
	NotToSelf   Rule = "not-to-self" // nobody hands out to themselves, or to a service of theirs
	// a grant that is new or wider lies inside delegations, place by place, with all that it may come to
	GrantInside Rule = "grant-inside"
	// where taking away is delegated, what somebody loses is the author's to hand out
	LossDelegated Rule = "loss-delegated"
	// nobody comes to approve, own, look after, hand out or be reached by anything through a change
	NoPower        Rule = "no-power"
	EntryOwner     Rule = "entry-owner"     // what says a rule, or belongs to somebody, is changed by its owner
	WorkspaceOwner Rule = "workspace-owner" // the settings are changed by the workspace's owner
	// a role holds no more, and stands for no fewer roles that are kept apart or counted, than it did
	RoleKeeps       Rule = "role-keeps"
	Reaches         Rule = "reaches"           // a delegation reaches no place that it did not
	RuleKeepsPlaces Rule = "rule-keeps-places" // what a block, guarantee or test is about it stays about
	RuleKeepsPeople Rule = "rule-keeps-people" // whom a guarantee or test is about it stays about
	OwnAcceptance   Rule = "own-acceptance"    // nobody acknowledges for somebody else
)

// Sentences tells each rule in words, as the documentation has them.
var Sentences = map[Rule]string{
	AuthorActive: "The author of a change is a person or service that is active when it is made.",
	GainDelegated: "Whatever somebody gets by a change, now or at any later time, on what is there or may come, a " +
		"delegation lets the author hand out.",
	GainByGrant: "Access is handed out by grants. Nobody gets any because a tag, an owner, a date or a status that " +
		"grants ask about becomes another.",
	BlockStands: "What a block stops it goes on stopping, whatever becomes of tags, owners and groups.",
	JoinCeiling: "Whoever joins a group that the author may edit gets nothing beyond the ceiling (`within`) of the " +
		"delegation that says so.",
	NotToSelf: "Nobody hands anything out to themselves or to a service of theirs, unless the delegation says " +
		"`to-self`.",
	GrantInside: "A grant that is new or wider lies inside one delegation, or can be cut into places that do: its " +
		"roles are named by `may-grant`, and its subjects, places and time are within.",
	LossDelegated: "With `losses: delegated`, whatever somebody loses by a change, a delegation lets the author hand " +
		"out.",
	NoPower: "Nobody comes to approve, own or look after anything, to hand anything out or to be within a " +
		"delegation's reach by a change.",
	EntryOwner: "Guarantees, tests, separations, blocks, delegations, catalogs and all that belongs to somebody are " +
		"changed by their owner; what has none is the workspace owner's.",
	WorkspaceOwner: "The settings of the workspace are changed by its owner.",
	RoleKeeps: "A role holds no operation that it did not, or for longer, and it stands for all roles that are " +
		"kept apart, counted or acknowledged for which it stood.",
	Reaches:         "A delegation reaches no resource that it did not reach.",
	RuleKeepsPlaces: "Blocks, guarantees and tests stay about all resources that they were about.",
	RuleKeepsPeople: "Guarantees and tests stay about everybody whom they were about; `only` is about nobody more.",
	OwnAcceptance:   "What a role asks to be acknowledged, everybody acknowledges for themselves.",
}

// Breach is something in a change that its author may not do.
type Breach struct {
	Rule      Rule
	Message   string
	Position  diagnostic.Position // in the new files, or in the old ones for what is gone
	Who       string              // whom it is about, "" if it is about nobody
	Where     string              // which place, "" if none
	Operation string              // which operation, "" if none
	later     bool                // it is about what may come
	Would     string              // what would make it theirs
}
