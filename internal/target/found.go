package target

// Found is what a system gives to whom, as it stands and as far as a driver can tell it.
type Found struct {
	Groups []FoundGroup
	// Rights are what accounts, by their names, and groups have beyond the groups that they are in.
	Rights map[string][]Right
	// All are the places with which an account or group may do anything.
	All  map[string][]int
	Left []string // what is there and is not told by these, in words
	// Told says that hgate has told the system something already.
	Told bool
}

// FoundGroup is a native role that is nobody's account.
type FoundGroup struct {
	Name     string
	Accounts []string
	Groups   []string
}

// Everybody stands in Found for whoever has an account.
const Everybody = ""
