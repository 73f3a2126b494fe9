package plainjson

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
)

// EachKey goes through the keys of every object in a JSON text. Its error says that a key occurs twice in one object,
// capitals aside: readers differ in which of the two counts (RFC 8259, section 4). visit, unless nil, is told each key
// and the keys that it stands in, with points between them.
func EachKey(text []byte, visit func(within, key string) error) error {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	return value(d, "", visit)
}

// value goes through the next value.
func value(d *json.Decoder, within string, visit func(within, key string) error) error {
	token, err := d.Token()
	if err != nil {
		return err
	}
	switch token {
	case json.Delim('{'):
		seen := map[string]bool{}
		for d.More() {
			token, err := d.Token()
			if err != nil {
				return err
			}
			key, _ := token.(string)
			if visit != nil {
				if err := visit(within, key); err != nil {
					return err
				}
			}
			folded := strings.ToLower(key)
			if seen[folded] {
				return fmt.Errorf("the key %q occurs twice", within+key)
			}
			seen[folded] = true
			if err := value(d, within+key+".", visit); err != nil {
				return err
			}
		}
	case json.Delim('['):
		for d.More() {
			if err := value(d, within, visit); err != nil {
				return err
			}
		}
	default:
		return nil
	}
	_, err = d.Token()
	return err
}
