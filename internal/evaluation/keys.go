package evaluation

import (
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/plainjson"
)

// The keys that a request is read by, by those in which they stand; those of context are what a request can say beside
// its own attributes.
var (
	contextKeys = estate.RequestKeys()
	knownKeys   = map[string][]string{
		"": {"subject", "action", "resource", "context"}, "subject.": {"type", "id"}, "action.": {"name"},
		"resource.": {"type", "id"}, "context.": contextKeys,
	}
)

// onceEach sees that no key of a request occurs twice, and that none is like a known one but for its capitals.
func onceEach(line []byte) error {
	return plainjson.EachKey(line, func(within, key string) error {
		for _, known := range knownKeys[within] {
			if key != known && strings.EqualFold(known, key) && !slices.Contains(knownKeys[within], key) {
				return fmt.Errorf("the key %q is written %s", within+key, within+known)
			}
		}
		return nil
	})
}
