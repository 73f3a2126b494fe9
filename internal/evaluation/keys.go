package evaluation

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// The keys that a request is read by, below each other; those of context are what a request can say beside its own
// attributes.
var (
	requestKeys = []string{"subject", "action", "resource", "context"}
	partKeys    = map[string][]string{"subject": {"type", "id"}, "action": {"name"}, "resource": {"type", "id"}, "context": contextKeys}
	contextKeys = []string{"time", "network", "sign-in", "mfa", "reason", "ticket", "roles"}
)

// onceEach sees that no key of a request occurs twice, and that none is like a known one but for its capitals: readers
// differ in which of them counts (RFC 8259, section 4).
func onceEach(line []byte) error {
	d := json.NewDecoder(bytes.NewReader(line))
	_, err := d.Token() // the request's own brace: it has been read as one
	if err != nil {
		return fmt.Errorf("this is no request: %w", err)
	}
	return eachKey(d, "", requestKeys)
}

// eachKey goes through an object, behind its brace.
func eachKey(d *json.Decoder, within string, known []string) error {
	seen := map[string]bool{}
	for d.More() {
		token, err := d.Token()
		if err != nil {
			return fmt.Errorf("this is no request: %w", err)
		}
		key, _ := token.(string)
		if like := slices.IndexFunc(known, func(k string) bool { return k != key && strings.EqualFold(k, key) }); like >= 0 {
			return fmt.Errorf("the key %q is written %s", within+key, within+known[like])
		}
		folded := strings.ToLower(key)
		if seen[folded] {
			return fmt.Errorf("the key %q occurs twice", within+key)
		}
		seen[folded] = true
		if token, err = d.Token(); err != nil {
			return fmt.Errorf("this is no request: %w", err)
		}
		switch token {
		case json.Delim('{'):
			if err := eachKey(d, within+key+".", partKeys[within+key]); err != nil {
				return err
			}
		case json.Delim('['):
			if err := skipList(d); err != nil {
				return err
			}
		}
	}
	_, err := d.Token()
	return err
}

// skipList passes over a list, behind its bracket.
func skipList(d *json.Decoder) error {
	for depth := 1; depth > 0; {
		token, err := d.Token()
		if err != nil {
			return fmt.Errorf("this is no request: %w", err)
		}
		switch token {
		case json.Delim('['), json.Delim('{'):
			depth++
		case json.Delim(']'), json.Delim('}'):
			depth--
		}
	}
	return nil
}
