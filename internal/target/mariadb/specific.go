package mariadb

import "cmp"

// specificity is how much a pattern tells: MariaDB takes the row that tells most, and that alone. What is here is what
// 10.11 was seen to do.
type specificity struct {
	least int // how many characters a name that fits has at least
	wild  int // how many of its characters are wild
	first int // how many come before the first of them
}

func specificityOf(pattern string) (out specificity) {
	escaped := false
	for _, r := range pattern {
		switch {
		case !escaped && r == '\\':
			escaped = true
			continue
		case !escaped && (r == '%' || r == '_'):
			out.wild++
			if r == '_' {
				out.least++
			}
		default:
			out.least++
			if out.wild == 0 {
				out.first++
			}
		}
		escaped = false
	}
	return out
}

// compareSpecific compares patterns: what tells more comes first.
func compareSpecific(a, b string) int {
	x, y := specificityOf(a), specificityOf(b)
	return cmp.Or(cmp.Compare(y.least, x.least), cmp.Compare(x.wild, y.wild), cmp.Compare(x.first, y.first),
		cmp.Compare(a, b))
}
