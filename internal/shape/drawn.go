package shape

import (
	"os"
	"strconv"
)

// short is how many estates are drawn of 2,000 where somebody is in a hurry.
const short = 100

// Drawn is how many estates a test draws where it would draw n, which is of 2,000 of all that draw:
// HGATE_ESTATES asks for more or fewer, and -short, which hurried says, for a twentieth. It is least at least, if
// it would draw as many.
func Drawn(n, least int, hurried bool) int {
	all, err := strconv.Atoi(os.Getenv("HGATE_ESTATES"))
	switch {
	case err == nil:
	case hurried:
		all = short
	default:
		return n
	}
	return max(min(least, n), n*all/2000)
}

// DrawsAll says whether tests draw as many as they do by themselves: then what must occur among them does.
func DrawsAll(hurried bool) bool { return os.Getenv("HGATE_ESTATES") == "" && !hurried }
