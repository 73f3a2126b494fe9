package linux

import (
	"crypto/sha256"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"hiddengate/internal/target"
)

// quote writes text as one word of a shell (POSIX, "Single-Quotes"). The text has no zero byte.
func quote(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }

var (
	// accountName is what an account or group may be called that hgate touches: it needs no quotes anywhere.
	accountName = regexp.MustCompile(`^[a-z_][a-z0-9_.-]{0,31}$`)
	// unitName is what a service, job or application is called, without its ending.
	unitName = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_.@-]{0,200}$`)
	notPlain = regexp.MustCompile(`[^a-z0-9_-]+`)
)

// longest is how long the name of a group may be (useradd(8)).
const longest = 32

// groupOf names the group of a grant. Names that are long or have other characters end with a part of their hash.
func groupOf(grant string) string {
	name := care + "-" + grant
	if len(name) <= longest && !notPlain.MatchString(grant) {
		return name
	}
	sum := fmt.Sprintf("-%x", sha256.Sum256([]byte(grant)))[:9]
	name = care + "-" + notPlain.ReplaceAllString(strings.ToLower(grant), "-")
	return name[:min(len(name), longest-len(sum))] + sum
}

// tops are the folders under which folders and files are carried. All else is the system's own.
var tops = []string{"srv", "opt", "data", "mnt", "media", "var/www", "var/opt"}

// pathOf gives the path on the server of a folder or file that the policy lists; false if it is not carried.
func pathOf(address string) (string, bool) {
	var names []string
	for _, segment := range strings.Split(address, "/") {
		name := target.Unescaped(segment)
		if name == "" || name == "." || name == ".." || strings.ContainsFunc(name, unprintable) ||
			strings.Contains(name, "/") {
			return "", false
		}
		names = append(names, name)
	}
	out := strings.Join(names, "/")
	if !slices.ContainsFunc(tops, func(top string) bool { return out == top || strings.HasPrefix(out, top+"/") }) {
		return "", false
	}
	return "/" + out, true
}

func unprintable(r rune) bool { return unicode.IsControl(r) || r == unicode.ReplacementChar }

// above lists the folders above a path, the first below the root first, after the root itself.
func above(file string) []string {
	out := []string{}
	for up := path.Dir(file); ; up = path.Dir(up) {
		out = append(out, up)
		if up == "/" {
			break
		}
	}
	slices.Reverse(out)
	return out
}
