package ledger

import "encoding/json"

// RequestBody is what somebody asks for.
type RequestBody struct {
	Grant     string `json:"grant"`
	Within    string `json:"within,omitempty"` // an address; "": all of the grant's places
	Seconds   int64  `json:"seconds"`          // for how long
	Starts    *Time  `json:"starts,omitempty"` // not before; nil: at once
	DecideBy  Time   `json:"decide-by"`        // when it lapses, unless it is decided
	Reason    string `json:"reason,omitempty"`
	Ticket    string `json:"ticket,omitempty"`
	Emergency bool   `json:"emergency,omitempty"`
	// Credential says what is asked for, if it is one; then there is no grant.
	Credential *CredentialBody `json:"credential,omitempty"`
}

// CredentialBody is a credential that somebody asks for.
type CredentialBody struct {
	Profile  string `json:"profile"`
	For      string `json:"for"`                // the subject that it names
	Key      string `json:"key"`                // the public key: as DER (RFC 5280, SubjectPublicKeyInfo) in base64
	Stranger bool   `json:"stranger,omitempty"` // who asks is nobody in the policy
	Renews   *Other `json:"renews,omitempty"`   // the request whose credential it follows
	Loan     *Other `json:"loan,omitempty"`     // the request for the loan that it is for
}

// Other is another request: its number, and the ID of the statement by which it was made, since numbers are others
// where a ledger was taken over.
type Other struct {
	Number int64  `json:"number"`
	ID     string `json:"id"`
}

// IssuedBody is a credential that was signed.
type IssuedBody struct {
	Request     string `json:"request"` // the ID of the statement by which it was asked for
	Authority   string `json:"authority"`
	Serial      string `json:"serial"`      // in hexadecimal; of certificates for SSH in decimal
	Ends        Time   `json:"ends"`        // the first instant at which it does not hold any more
	Certificate string `json:"certificate"` // as DER in base64, or one line of OpenSSH
}

// RevokedBody is that a credential does not count any more.
type RevokedBody struct {
	Request string `json:"request"`
	Serial  string `json:"serial"`
	Reason  string `json:"reason"` // as RFC 5280, section 5.3.1, in small letters
	Why     string `json:"why,omitempty"`
}

// PublishedBody is a list of what is revoked that an authority signed.
type PublishedBody struct {
	Authority string `json:"authority"`
	Count     int    `json:"count"` // how many are on it
	Until     Time   `json:"until"` // when the next one is due
}

// DecisionBody is what somebody says of a request: that they approve, refuse or end it.
type DecisionBody struct {
	Request string `json:"request"` // the ID of the statement by which it was made
	Why     string `json:"why,omitempty"`
}

// PolicyBody is a change of the policy's files.
type PolicyBody struct {
	Files    []FileChange    `json:"files"`
	Entries  []string        `json:"entries,omitempty"`  // that changed, as in `grant books`
	Effect   json.RawMessage `json:"effect,omitempty"`   // as `compare --format json` writes it, of commands' edits
	Revision string          `json:"revision,omitempty"` // of Git, where the files stand in one as they are
	Author   string          `json:"author,omitempty"`   // of that revision
	Date     string          `json:"date,omitempty"`     // of that revision
}

// FileChange is a file that became another. A hash is the SHA-256 of its content in hexadecimal; "": there is no such
// file.
type FileChange struct {
	Name string `json:"name"`
	Was  string `json:"was,omitempty"`
	Is   string `json:"is,omitempty"`
}

// BeganBody begins a ledger.
type BeganBody struct {
	Workspace string       `json:"workspace"` // its folder
	Files     []FileChange `json:"files,omitempty"`
}

// ImportedBody says that the events of another ledger follow.
type ImportedBody struct {
	Ledger string `json:"ledger"` // the other's id
	Head   string `json:"head"`   // of the other, as `log head` prints it
	Events int64  `json:"events"`
}

// ReviewBody is what a review is about: what gives access in some places, as it was when the review was opened.
type ReviewBody struct {
	On    []string     `json:"on"`
	By    []string     `json:"by"` // who are to answer
	Until Time         `json:"until"`
	Items []ReviewItem `json:"items"`
}

// ReviewItem is a grant, a membership of a group, or a loan.
type ReviewItem struct {
	Key       string   `json:"key"` // `grant ID`, `membership GROUP MEMBER` or `loan NUMBER`
	Grant     string   `json:"grant,omitempty"`
	Group     string   `json:"group,omitempty"`
	Member    string   `json:"member,omitempty"`
	Loan      int64    `json:"loan,omitempty"`
	OnRequest bool     `json:"on-request,omitempty"`
	To        []string `json:"to,omitempty"`
	Gives     []string `json:"gives,omitempty"` // operations
	Where     []string `json:"where,omitempty"`
	Used      string   `json:"used,omitempty"` // when it was last used, as a log had it
}

// AnswerBody is what a reviewer says.
type AnswerBody struct {
	Review  string       `json:"review"` // the ID of the statement that opened it
	Answers []ItemAnswer `json:"answers"`
}

// ItemAnswer is an answer for one item.
type ItemAnswer struct {
	Item   string `json:"item"`
	Answer string `json:"answer"` // keep or end
	Why    string `json:"why,omitempty"`
}

// ClosedBody says that a review is closed, and what came of it.
type ClosedBody struct {
	Review string `json:"review"`
	Kept   int    `json:"kept"`
	Ended  int    `json:"ended"`
	Left   int    `json:"left"` // that nobody answered
}

// PushedBody is what a real system was told.
type PushedBody struct {
	System     string   `json:"system"`
	Driver     string   `json:"driver"`
	Statements []string `json:"statements"`          // at most MostStatements
	Count      int      `json:"count"`               // how many there were
	Despite    string   `json:"despite,omitempty"`   // the reason, where something stood against it
	Partly     bool     `json:"partly,omitempty"`    // it broke off, and some of them may not have been told
	Passwords  []int64  `json:"passwords,omitempty"` // the events whose passwords it was told
	First      []string `json:"first,omitempty"`     // the accounts to which first passwords were handed out
}

// PasswordBody is a password that somebody set for an account.
type PasswordBody struct {
	Account  string `json:"account"`         // its address
	For      string `json:"for"`             // whose it is
	Verifier string `json:"verifier"`        // as package credential writes it
	First    bool   `json:"first,omitempty"` // somebody else set it, and it has to be changed
	Ends     Time   `json:"ends"`            // the first instant at which it does not let in any more
}

// FactorBody is that an account has a second factor, or has none any more.
type FactorBody struct {
	Account string `json:"account"`           // its address
	For     string `json:"for"`               // whose it is
	Codes   int    `json:"codes,omitempty"`   // how many there are for when it is lost
	Removed bool   `json:"removed,omitempty"` // it has none any more
}

// TokenBody is a token for programs that act as an account.
type TokenBody struct {
	Account  string   `json:"account"` // its address
	For      string   `json:"for"`     // whose it is
	Token    string   `json:"token"`   // its id, which is no secret
	Hash     string   `json:"hash"`    // of its secret, as credential.HashOf gives it
	Roles    []string `json:"roles,omitempty"`
	Ends     Time     `json:"ends"`               // the first instant at which it does not let in any more
	Replaces string   `json:"replaces,omitempty"` // the id of the one that it follows
	Overlap  int64    `json:"overlap,omitempty"`  // the seconds for which that one still counts
}

// TokenEndedBody is that a token does not count any more.
type TokenEndedBody struct {
	Token string `json:"token"`
}

// InvitationBody is that somebody who is invited may join by a code.
type InvitationBody struct {
	Person string `json:"person"`
	Hash   string `json:"hash"` // the hash of the proof that whoever joins gives
	Ends   Time   `json:"ends"`
}

// JoinedBody is that somebody joined, with what they sign in with from then on.
type JoinedBody struct {
	Invitation Other          `json:"invitation"`
	Proof      string         `json:"proof"` // the hash of the code
	Passwords  []PasswordBody `json:"passwords,omitempty"`
	Factors    []FactorBody   `json:"factors,omitempty"`
}

// MostStatements bounds how many statements an event keeps.
const MostStatements = 200
