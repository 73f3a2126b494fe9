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

// FileChange is a file that became another. A hash is the SHA-256 of its content in hexadecimal; "": there is no such file.
type FileChange struct {
	Name string `json:"name"`
	Was  string `json:"was,omitempty"`
	Is   string `json:"is,omitempty"`
}

// BeganBody begins a ledger.
type BeganBody struct {
	Workspace string `json:"workspace"` // its folder
}

// ImportedBody says that the events of another ledger follow.
type ImportedBody struct {
	Ledger string `json:"ledger"` // the other's id
	Head   string `json:"head"`   // of the other, as `log head` prints it
	Events int64  `json:"events"`
}
