package mariadb

import "cmp"

// specificity is how much a pattern tells: MariaDB takes the row that tells most, and that alone. What is here is what
// 10.11 was seen to do.
type specificity struct {
	least int // how many characters a name that fits has at least
	many  int // at how many places it takes any number of characters
	one   int // how many of its characters stand for any one
	first int // how many come before the first that is wild
}

func specificityOf(pattern string) (out specificity) {
	escaped, afterMany := false, false
	for _, r := range pattern {
		switch {
		case escaped:
		case r == '\\':
			escaped = true
			continue
		case r == '%':
			if !afterMany {
				out.many++
			}
			afterMany = true
			continue
		case r == '_':
			out.one++
		}
		out.least++
		if out.many+out.one == 0 {
			out.first++
		}
		escaped, afterMany = false, false
	}
	return out
}

// compareSpecific compares patterns: what tells more comes first. Of two that tell as much the server takes one or the
// other, by the order in which they were granted, which nobody can read from it.
func compareSpecific(a, b string) int {
	x, y := specificityOf(a), specificityOf(b)
	return cmp.Or(cmp.Compare(y.least, x.least), cmp.Compare(x.many, y.many), cmp.Compare(x.one, y.one),
		cmp.Compare(x.first, y.first), cmp.Compare(a, b))
}
